"""Two Dask workers of one thread against one: contributions of a million rows, and that the numbers are the same.

./zt bench cluster [rows]
"""

from __future__ import annotations

import sys
import time

import numpy as np
from distributed import LocalCluster

from zerotilt.cluster import DaskExecutor
from zerotilt.core.contributions.exact import explain_rows
from zerotilt.core.contributions.sums_met import exact_explainer
from zerotilt.core.meaning import Context
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work
from zerotilt.demo import audit as demo_audit

TO_REACH = 1.8


def explained(subject: Subject, frame, workers: int) -> tuple[float, np.ndarray]:
    with LocalCluster(n_workers=workers, threads_per_worker=1, processes=True, dashboard_address=None) as cluster:
        executor = DaskExecutor(cluster.scheduler_address)
        try:
            work = Work(executor=executor)
            explainer, _ = exact_explainer(subject, 0, Work())
            assert explainer is not None
            explain_rows(explainer, frame.take(slice(0, 20_000)), work)  # kernels are loaded on every worker
            began = time.perf_counter()
            values, _ = explain_rows(explainer, frame, work)
            return time.perf_counter() - began, values
        finally:
            executor.close()


def main() -> None:
    rows = int(sys.argv[2]) if len(sys.argv) > 2 else 1_000_000
    claims, spec, models = demo_audit.build()
    table = Table(claims)
    model = OnnxPredictor(models["gradient trees v3"], table, spec)
    subject = Subject(spec, table, model, Context(rows="all", output="log-odds"))
    frame = subject.frame.take(np.random.default_rng(0).integers(0, subject.n, rows))
    one, alone = explained(subject, frame, 1)
    two, both = explained(subject, frame, 2)
    print(f"{rows:,} rows: one worker {one:.1f} s, two {two:.1f} s: {one / two:.2f} times (to reach {TO_REACH})")
    print("same numbers:", bool((alone == both).all()))


if __name__ == "__main__":
    main()
