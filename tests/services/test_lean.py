"""What our own processes leave out they do not need."""

from __future__ import annotations

import json
import subprocess
import sys

import pytest

LOADED = """
import json, sys
from zerotilt import lean
lean.leave_out()
lean.compile_nothing()
import zerotilt.services.{process}
from zerotilt.core.stats import intervals
print(json.dumps([sorted(sys.modules), [float(end) for end in intervals.mee(3.0, 10.0, 7.0, 12.0)]]))
"""


@pytest.mark.parametrize("process", ["server", "worker"])
def test_who_computes_nothing_loads_no_compiler_and_no_distributions(process):
    ended = subprocess.run([sys.executable, "-c", LOADED.format(process=process)], capture_output=True, check=True)
    loaded, difference = json.loads(ended.stdout)
    heavy = {"numba.core", "pandas", "scipy.stats", "matplotlib", "sklearn", "zerotilt.core.warm"}
    assert not heavy & set(loaded)
    # a kernel that is called all the same is slow, not wrong
    from zerotilt.core.stats import intervals

    assert difference == pytest.approx([float(end) for end in intervals.mee(3.0, 10.0, 7.0, 12.0)])
