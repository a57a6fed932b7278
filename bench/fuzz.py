"""20,000 requests of every shape the contract allows, and of some it does not. Run with ``./zt bench fuzz``.

The test of the same name sends some 1,500; here each operation gets more of
them, of another seed for every run that names one (``./zt bench fuzz 7``).
"""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

from timing import line

PROJECT = Path(__file__).parents[1]
REQUESTS, OPERATIONS = 20_000, 65


def main() -> None:
    seed = sys.argv[2] if len(sys.argv) > 2 else "0"
    examples = -(-REQUESTS // OPERATIONS)
    started = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-n", "2", "--dist", "load", "-q", "tests/api/test_fuzzed.py"],
        cwd=PROJECT,
        env=os.environ | {"FUZZ_EXAMPLES": str(examples), "FUZZ_SEED": seed},
    )
    line(
        f"up to {examples} requests to each of {OPERATIONS} operations",
        time.perf_counter() - started,
        "no answer of 500 or above" if done.returncode == 0 else "FAILED, see above",
    )
    sys.exit(done.returncode)


if __name__ == "__main__":
    main()
