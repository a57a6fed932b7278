"""Benchmarks, printed as ratios and seconds within one run. Run with ``./zt bench``."""

from __future__ import annotations

import io
import resource
import subprocess
import sys

import engine
import pyarrow.csv as pacsv
from timing import line, quickest

from zerotilt.core.drivers.ranking_result import DriversSettings
from zerotilt.core.evidence import METHODS
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work
from zerotilt.demo import audit, generator


def demo_methods(subject: Subject) -> None:
    """Every method on the demo's 3,600 held-out claims, computed afresh; on one case where it is of one."""
    for name, method in METHODS.items():
        settings = {"row": 5} if "row" in method.settings.model_fields else {}

        def fresh(method=method, settings=settings):
            again = Subject(subject.spec, subject.table, subject.predictor, subject.context)
            return method.compute(again, method.settings(**settings), 20, Work())

        line(f"demo, {name}", quickest(fresh))
    quick = DriversSettings(rows=400, repeats=2, explained=15)
    line(
        "demo, drivers, first look from a sample",
        quickest(lambda: METHODS["drivers"].compute(subject, quick, 20, Work())),
    )


def reading_csv() -> None:
    """A large CSV in a process of its own, to see its memory."""
    code = (
        "import io, sys, time, resource\n"
        "from zerotilt.core import table\n"
        "data = sys.stdin.buffer.read(); source = io.BytesIO(data); sink = io.BytesIO()\n"
        "before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss; t = time.perf_counter()\n"
        "table.convert(source, sink); took = time.perf_counter() - t\n"
        "print(took, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before, len(sink.getvalue()))\n"
    )
    sink = io.BytesIO()
    pacsv.write_csv(generator.claims(1_000_000), sink)
    done = subprocess.run([sys.executable, "-c", code], input=sink.getvalue(), capture_output=True, check=True)
    took, grown, written = (float(part) for part in done.stdout.split())
    size = len(sink.getvalue()) / 2**20
    line(
        f"reading a CSV of 1,000,000 rows, 21 columns, {size:,.0f} MiB",
        took,
        f"{size / took:,.0f} MiB/s, memory grown by {grown / 1024 - written / 2**20:,.0f} MiB",
    )


def million_rows() -> None:
    """Tilt on a million rows with recorded scores."""
    from zerotilt.core.meaning import Context, Role

    claims = generator.claims(1_000_000)
    spec = audit.spec(claims)
    columns = tuple(
        column.model_copy(update={"role": Role.score}) if column.name == "reference_photo_score" else column
        for column in spec.columns
    )
    subject = Subject(spec.model_copy(update={"columns": columns}), Table(claims), None, Context(rows="all"))
    tilt = METHODS["tilt"]
    line(
        "tilt, 1,000,000 rows, 5 groupings, 12 metrics",
        quickest(lambda: tilt.compute(subject, tilt.settings(), 1, Work()), 1),
    )


def main() -> None:
    claims, spec, models = audit.build()
    table = Table(claims)
    subject = Subject(spec, table, OnnxPredictor(models["gradient trees v3"], table, spec))
    demo_methods(subject)
    engine.main()
    reading_csv()
    million_rows()
    print(f"most memory: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20:.1f} GiB")


if __name__ == "__main__":
    main()
