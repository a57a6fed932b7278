"""Nobody waits for a compiler: whatever a method calls has been compiled before the first job."""

import json
import pickle
import subprocess
import sys

LATE = """
import sys
from zerotilt.readers import ready
from numba.core.registry import CPUDispatcher

def compiled():
    ours = [module for name, module in sorted(sys.modules.items()) if name.startswith("zerotilt")]
    kernels = {id(one): one for module in ours for one in vars(module).values() if isinstance(one, CPUDispatcher)}
    return {(one.py_func.__name__, str(types)) for one in kernels.values() for types in one.signatures}

before = compiled()
import json
import pickle
from pathlib import Path
from zerotilt.core.methods import METHODS
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work

claims, spec, models = pickle.loads(Path(sys.argv[1]).read_bytes())
given = {"row": 3, "column": "declared_value", "rows": 60, "draws": 2}
read = 0
table = Table(claims)
subject = Subject(spec, table, OnnxPredictor(models["gradient trees v3"], table, spec))
for name, method in METHODS.items():
    fields = method.settings.model_fields
    settings = {key: value for key, value in given.items() if key in fields}
    try:
        method.compute(subject, method.settings.model_validate(settings), 0, Work())
        read += 1
    except (Refused, ValueError):
        pass
print(json.dumps([read, len(before), sorted(compiled() - before)]))
"""


def test_no_method_compiles_anything_of_its_own(demo, tmp_path):
    kept = tmp_path / "demo"
    kept.write_bytes(pickle.dumps(demo))
    asked = [sys.executable, "-W", "ignore", "-c", LATE, str(kept)]
    told = subprocess.run(asked, stdout=subprocess.PIPE, text=True, check=True).stdout
    read, before, late = json.loads(told.splitlines()[-1])
    assert read >= 50 and before > 40
    assert late == []
