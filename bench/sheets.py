"""What a person waits for on Drivers and Response: the demo, 200,000 rows of 60 columns, and 300 features."""

from __future__ import annotations

import resource
import tempfile
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from skl2onnx import convert_sklearn
from skl2onnx.common.data_types import FloatTensorType, StringTensorType
from sklearn.compose import ColumnTransformer
from sklearn.ensemble import GradientBoostingClassifier
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import OneHotEncoder
from timing import line, quickest

from zerotilt.core.meaning import ColumnSpec, Context, Kind, Role, Spec
from zerotilt.core.methods import METHODS
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work
from zerotilt.demo import audit

SHEETS = {
    "drivers": {},
    "side_by_side": {},
    "shapley_by_part": {},
    "spread": {},
    "response": {},
    "ale": {},
    "surface": {},
    "interactions": {},
}


def invented(rows: int, numbers: int, texts: int) -> tuple[pa.Table, bytes]:
    """Columns of numbers and levels, two of them linked, and boosted trees trained on a part of the rows."""
    rng = np.random.default_rng(0)
    columns: dict[str, np.ndarray] = {f"n{i:03d}": rng.normal(size=rows).astype(np.float32) for i in range(numbers)}
    columns["n001"] = (columns["n000"] + 0.1 * columns["n001"]).astype(np.float32)
    levels = np.array(["ash", "birch", "elm", "fir", "oak"], dtype=object)
    columns |= {f"t{i:02d}": levels[rng.integers(0, 5, rows)] for i in range(texts)}
    worth = columns["n000"] + columns["n002"] * columns["n003"] + np.abs(columns["n004"])
    happened = worth + rng.normal(size=rows) > 1.0
    few = slice(0, 20_000)
    names = list(columns)
    x = np.column_stack([columns[name][few].astype(object) for name in names])
    encode = ColumnTransformer(
        [
            ("numbers", "passthrough", list(range(numbers))),
            ("texts", OneHotEncoder(handle_unknown="ignore", sparse_output=False), list(range(numbers, len(names)))),
        ]
    )
    trees = GradientBoostingClassifier(n_estimators=100, max_depth=4, subsample=0.3, max_features=20, random_state=0)
    model = make_pipeline(encode, trees).fit(x, happened[few].astype(int))
    kinds = [(n, FloatTensorType([None, 1])) for n in names[:numbers]]
    kinds += [(n, StringTensorType([None, 1])) for n in names[numbers:]]
    onnx = convert_sklearn(model, initial_types=kinds, options={id(trees): {"zipmap": False}}, target_opset=18)
    table = pa.table(columns | {"happened": np.where(happened, "yes", "no").astype(object)})
    return table, onnx.SerializeToString()


def subject_of(path: Path, model: bytes, output: str) -> Subject:
    """As a job opens it: the file is read again, so that what is measured is what is waited for."""
    table = Table(path.open("rb"))
    columns = tuple(
        ColumnSpec(
            name=name,
            kind=Kind.categorical if table.is_text(name) else Kind.numeric,
            role=Role.outcome if name == "happened" else Role.group if name == "t00" else Role.feature,
        )
        for name in table.names
    )
    spec = Spec(columns=columns, event="yes", holdout_share=0.5)
    return Subject(spec, table, OnnxPredictor(model, table, spec), Context(rows="all", output=output))


def measure(called: str, fresh, times: int) -> None:
    """Each method's first look, where it has one, and the whole."""
    for name, settings in SHEETS.items():
        method = METHODS[name]
        if method.first_look:
            look = method.settings(**settings | dict(method.first_look))
            line(
                f"{called}, {name}, first look",
                quickest(lambda m=method, s=look: m.compute(fresh(), s, 20, Work()), times),
            )
        whole = method.settings(**settings)
        line(f"{called}, {name}", quickest(lambda m=method, s=whole: m.compute(fresh(), s, 20, Work()), times))
    print(f"most memory so far: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20:.1f} GiB", flush=True)


def demo() -> None:
    claims, audits = audit.build_all()
    table = Table(claims)
    for one in audits:
        for name, data in one.models.items():
            predictor = OnnxPredictor(data, table, one.spec)

            def fresh(one=one, predictor=predictor):
                return Subject(one.spec, table, predictor)

            if name in (next(iter(one.models)), "small network v2"):
                measure(f"demo, {name}", fresh, 2)


def main() -> None:
    demo()
    with tempfile.TemporaryDirectory() as folder:
        for called, rows, numbers, texts in (("200,000 × 60", 200_000, 50, 10), ("5,000 × 300", 5_000, 290, 10)):
            table, model = invented(max(rows, 20_000), numbers, texts)
            path = Path(folder) / "table.parquet"
            pq.write_table(table.slice(0, rows), path)
            for output in ("probability", "log-odds"):
                measure(f"{called}, {output}", lambda p=path, m=model, o=output: subject_of(p, m, o), 1)


if __name__ == "__main__":
    main()
