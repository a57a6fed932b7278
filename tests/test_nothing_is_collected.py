"""No process of ours collects or sends anything: no file outside the house, no socket, no setting left to chance."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pandas as pd

PROJECT = Path(__file__).parents[1]
READS = """
import sys
{first}
from pathlib import Path
from zerotilt.notebook import Study
import numpy as np
data = Path(sys.argv[1]).read_bytes()
frame = {{"x": np.arange(60.0), "z": np.arange(60.0) % 7, "y": np.arange(60) % 2}}
study = Study(frame, data, "y", "1", features=["x", "z"], favourable="event")
for _ in range(3):
    study.drivers()
    study.explain()
import os
left = []
for one in os.listdir("/proc/self/fd"):
    try:
        left.append(os.readlink(f"/proc/self/fd/{{one}}"))
    except OSError:
        pass
print([one for one in left if one.startswith("socket:")], os.environ["ORT_DISABLE_TELEMETRY"])
"""


def ran(tmp_path: Path, first: str, **environment: str) -> tuple[str, list[str]]:
    """What a program prints that reads a model with a home of its own, and which files are there afterwards."""
    from sklearn.linear_model import LogisticRegression

    from zerotilt.convert.estimators import converted
    from zerotilt.study_inputs import arrow_of

    frame = pd.DataFrame({"x": np.arange(60.0), "z": np.arange(60.0) % 7})
    model = converted(LogisticRegression().fit(frame, np.arange(60) % 2), arrow_of(frame))
    (tmp_path / "model.onnx").write_bytes(model)
    home = tmp_path / "home"
    home.mkdir()
    done = subprocess.run(
        [sys.executable, "-c", READS.format(first=first), tmp_path / "model.onnx"],
        env={
            "PATH": os.environ["PATH"], "PYTHONPATH": str(PROJECT / "src"), "HOME": str(home),
            "MPLCONFIGDIR": str(tmp_path / "fonts"),  # the plots' list of fonts, which is no secret
        } | environment,
        cwd=tmp_path, capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return done.stdout.strip(), [str(one.relative_to(home)) for one in home.rglob("*")]


def test_a_program_that_reads_models_leaves_nothing_at_home_and_opens_no_socket(tmp_path):
    assert ran(tmp_path, "") == ("[] 1", [])


def test_who_asks_for_collecting_gets_none_either(tmp_path):
    assert ran(tmp_path, "", ORT_DISABLE_TELEMETRY="0") == ("[] 1", [])
