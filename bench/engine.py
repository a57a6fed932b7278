"""The explanation engine against merely scoring, in one run. ``python bench/engine.py growth`` draws how each part grows."""

from __future__ import annotations

import io
import os
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
import onnxruntime
import pyarrow as pa
import pyarrow.parquet as pq
from skl2onnx import to_onnx
from sklearn.ensemble import GradientBoostingClassifier, RandomForestClassifier
from sklearn.neural_network import MLPClassifier
from timing import line, quickest

from zerotilt.core.contributions import exact
from zerotilt.core.contributions.game import background
from zerotilt.core.contributions.sampled import sample_permutations
from zerotilt.core.drivers.permutation import permute
from zerotilt.core.meaning import ColumnSpec, Context, Kind, Role, Spec, Task
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.response.curves import all_curves
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays
from zerotilt.core.work import Work

FEATURES, ROWS = 20, 20_000
PICTURES = Path(__file__).resolve().parent.parent / "docs" / "growth"


def data(rows: int, features: int, seed: int = 0) -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(rows, features)).astype(np.float32)
    worth = x[:, 0] + x[:, 1] * x[:, 2] + 0.5 * np.abs(x[:, 3]) + rng.normal(size=rows)
    return x, (worth > 0.4).astype(int)


def boosted(trees: int = 100, depth: int = 6, features: int = FEATURES) -> bytes:
    x, y = data(ROWS, features)
    model = GradientBoostingClassifier(
        n_estimators=trees, max_depth=depth, subsample=0.3, max_features=max(2, features // 3), random_state=0
    ).fit(x, y)
    return to_onnx(model, x[:1], options={"zipmap": False}).SerializeToString()


def forest() -> bytes:
    x, y = data(ROWS, FEATURES)
    model = RandomForestClassifier(100, random_state=0, n_jobs=2).fit(x, y)
    return to_onnx(model, x[:1], options={"zipmap": False}).SerializeToString()


def network(features: int = FEATURES) -> bytes:
    x, y = data(ROWS, features)
    model = MLPClassifier((128, 64), max_iter=8, random_state=0).fit(x, y)
    return to_onnx(model, x[:1], options={"zipmap": False}).SerializeToString()


def subject_of(model: bytes, rows: int, features: int = FEATURES, scale: str = "log-odds") -> Subject:
    x, y = data(rows, features, seed=1)
    table = from_arrays({f"x{j}": x[:, j].astype(float) for j in range(features)} | {"y": y})
    spec = Spec(
        columns=tuple(
            ColumnSpec(name=name, kind=Kind.numeric, role=Role.outcome if name == "y" else Role.feature)
            for name in table.names
        ),
        task=Task.binary,
        event="1",
    )
    subject = Subject(spec, table, OnnxPredictor(model, table, spec), Context(rows="all", output=scale))
    assert subject.predictions.structure is not None  # read once, as in the worker
    return subject


def scoring(model: bytes, x: np.ndarray, times: int = 3) -> float:
    """Seconds that a bare ONNX Runtime takes for the same rows in one go."""
    session = onnxruntime.InferenceSession(model, providers=["CPUExecutionProvider"])
    name = session.get_inputs()[0].name
    session.run(["probabilities"], {name: x[:100]})
    return quickest(lambda: session.run(["probabilities"], {name: x}), times)


def contributions(model: bytes) -> None:
    subject = subject_of(model, 50_000)
    cases = subject.frame.take(slice(0, ROWS))
    x = np.column_stack([cases[name] for name in cases.names]).astype(np.float32)
    plain = scoring(model, x, 5)
    structure = subject.predictions.structure[0]
    speeds = {}
    for size in (100, 10_000, 50_000):
        reference = background(subject.frame.take(slice(0, size)))
        met = quickest(lambda reference=reference: exact.prepare(structure, 0, reference), 2)
        explainer = exact.prepare(structure, 0, reference)
        took = quickest(lambda explainer=explainer: exact.explain_rows(explainer, cases), 5)
        speeds[size] = ROWS / took
        line(
            f"exact contributions, {ROWS:,} rows, background {size:,}",
            took,
            f"{plain / took:.3f} of the scoring speed; with the tables made ({met:.3f} s) {plain / (took + met):.3f}",
        )
    change = max(abs(speeds[size] / speeds[10_000] - 1) for size in (100, 50_000))
    print(f"{'':<74} explained rows a second differ by {change:.0%} between backgrounds")


def deep(model: bytes) -> None:
    subject = subject_of(model, ROWS, scale="probability")
    cases = subject.frame.take(slice(0, 100))
    reference = background(subject.frame.take(slice(0, 1_000)))
    structure = subject.predictions.structure[0]

    def explain() -> None:
        exact.explain_rows(exact.prepare(structure, 0, reference), cases)

    explain()
    took = quickest(explain, 2)
    x = np.column_stack([subject.frame[name] for name in subject.frame.names]).astype(np.float32)
    wide = x[np.resize(np.arange(len(x)), 100 * 1_000 * 10)]
    line(
        "100 unlimited trees, 100 rows, background 1,000",
        took,
        f"{took / scoring(model, wide, 1):.2f} of scoring 10 rows a pair",
    )


def curves(model: bytes) -> None:
    subject = subject_of(model, 10_000, scale="probability")
    grids = {
        name: np.unique(np.quantile(subject.frame[name], np.linspace(0.01, 0.99, 50), method="nearest"))
        for name in subject.frame.names
    }

    def draw() -> None:
        for found in all_curves(subject, subject.frame, grids).values():
            found.mean(axis=0)

    draw()
    took = quickest(draw)
    x = np.column_stack([subject.frame[name] for name in subject.frame.names]).astype(np.float32)
    points = sum(map(len, grids.values()))
    plain = scoring(model, x[np.resize(np.arange(len(x)), 2_000_000)], 1) * len(x) * points / 2_000_000
    line(
        f"ICE and means, {FEATURES} features, 10,000 rows, {points:,} points",
        took,
        f"1/{plain / took:.0f} of rescoring every point",
    )


def sampled(name: str, model: bytes, alone: bool) -> None:
    subject = subject_of(model, 2_000, scale="probability")
    asked = subject.asked if not alone else lambda rows: subject.model.outputs(rows)[:, 0]
    cases = subject.frame.take(slice(0, 64))
    reference = background(subject.frame)
    sample_permutations(asked, cases.take(slice(0, 2)), reference, 0.0, 32, 1)
    found = []
    took = quickest(lambda: found.append(sample_permutations(asked, cases, reference, 0.0, 256, 1)), 2)
    x = np.column_stack([subject.frame[one] for one in subject.frame.names]).astype(np.float32)
    wide = x[np.resize(np.arange(len(x)), found[0].evaluations)]
    line(
        f"sampled contributions, {name}, {found[0].evaluations:,} evaluations",
        took,
        f"{took / scoring(model, wide, 2):.2f} of scoring as many rows",
    )


def permutation() -> None:
    features, rows, repeats = 30, 100_000, 10
    model = boosted(features=features)
    subject = subject_of(model, rows, features, "probability")
    took = quickest(
        lambda: permute(subject.model, subject.frame, subject.rows.outcome, "log_loss", 0.5, repeats, 1, Work()), 1
    )
    asked = rows * (features * repeats + 1)
    x = np.column_stack([subject.frame[name] for name in subject.frame.names]).astype(np.float32)
    plain = scoring(model, np.tile(x, (20, 1)), 1) * asked / (20 * rows)
    line(
        f"permutation importance, {features} columns, {rows:,} rows, {repeats} repeats",
        took,
        f"{took / plain:.2f} of scoring as many rows",
    )


def million(model: bytes) -> None:
    """A million rows through Parquet in a process of its own, to see its memory."""
    code = (
        "import sys, time, resource\n"
        "from pathlib import Path\n"
        "from zerotilt.headless import explain_table\n"
        "folder = Path(sys.argv[1]); t = time.perf_counter()\n"
        "found = explain_table(folder / 'rows.parquet', folder / 'model.onnx', 'y', folder / 'out.parquet', '1', None, 'log-odds', 10_000, None, None)\n"
        "print(time.perf_counter() - t, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, found.rows)\n"
    )
    with tempfile.TemporaryDirectory() as folder:
        x, y = data(1_000_000, FEATURES, seed=2)
        pq.write_table(
            pa.table({f"x{j}": x[:, j].astype(float) for j in range(FEATURES)} | {"y": y}),
            Path(folder) / "rows.parquet",
        )
        (Path(folder) / "model.onnx").write_bytes(model)
        done = subprocess.run([sys.executable, "-c", code, folder], capture_output=True, check=True, env=os.environ)
        took, memory, rows = done.stdout.split()
    line(
        f"contributions of {int(rows):,} rows, Parquet to Parquet",
        float(took),
        f"{int(memory) / 2**20:.2f} GiB resident at most",
    )


def main() -> None:
    model = boosted()
    exact_subject = subject_of(model, 500)
    exact.explain_rows(
        exact.prepare(exact_subject.predictions.structure[0], 0, background(exact_subject.frame)), exact_subject.frame
    )
    contributions(model)
    deep(forest())
    curves(model)
    sampled("boosted trees", model, alone=False)
    sampled("boosted trees as a black box", model, alone=True)
    sampled("a network", network(), alone=False)
    permutation()
    million(model)


# how each part grows


def _speed(model: bytes, features: int = FEATURES, rows: int = ROWS, size: int = 10_000) -> tuple[float, float]:
    """Seconds to meet the background, and to explain the rows."""
    subject = subject_of(model, max(rows, size), features)
    reference = background(subject.frame.take(slice(0, size)))
    structure = subject.predictions.structure[0]
    met = quickest(lambda: exact.prepare(structure, 0, reference), 2)
    explainer = exact.prepare(structure, 0, reference)
    cases = subject.frame.take(slice(0, rows))
    return met, quickest(lambda: exact.explain_rows(explainer, cases), 2)


def growth() -> None:
    """Plots of seconds against rows, background, trees, depth and features."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot as plt

    base = boosted()
    sweeps: dict[str, tuple[list[int], Callable[[int], tuple[float, float]]]] = {
        "rows": ([1_000, 5_000, 20_000, 80_000], lambda n: _speed(base, rows=n)),
        "background rows": ([100, 1_000, 10_000, 100_000], lambda n: _speed(base, size=n)),
        "trees": ([25, 50, 100, 200, 400], lambda n: _speed(boosted(trees=n))),
        "depth": ([2, 4, 6, 8, 10], lambda n: _speed(boosted(depth=n))),
        "features": ([5, 20, 80, 300], lambda n: _speed(boosted(features=n), features=n)),
    }
    PICTURES.mkdir(parents=True, exist_ok=True)
    ink, soft, green, ochre = "#22302F", "#5B6765", "#0E6B5C", "#B86B00"
    for name, (values, measure) in sweeps.items():
        found = [measure(value) for value in values]
        print(name, [(value, f"{a:.3f}", f"{b:.3f}") for value, (a, b) in zip(values, found, strict=True)], flush=True)
        with plt.rc_context(
            {
                "font.size": 9,
                "text.color": ink,
                "axes.edgecolor": soft,
                "svg.fonttype": "path",
                "svg.hashsalt": "zerotilt",
            }
        ):
            figure, axes = plt.subplots(figsize=(4.6, 3), layout="constrained")
            axes.loglog(values, [b for _, b in found], "o-", color=green, label="rows explained")
            axes.loglog(values, [a for a, _ in found], "s--", color=ochre, label="background met")
            axes.set_xlabel(name)
            axes.set_ylabel("seconds, two cores")
            axes.legend(frameon=False)
            out = io.StringIO()
            figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None})
            plt.close(figure)
        (PICTURES / f"{name.replace(' ', '-')}.svg").write_text(out.getvalue())


if __name__ == "__main__":
    growth() if sys.argv[1:] == ["growth"] else main()
