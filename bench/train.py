"""Candidates: how long a starter set of the demo takes, and how long it takes to set versions beside each other.

./zt bench train
"""

from __future__ import annotations

import time

import numpy as np
from timing import line

from zerotilt.api.candidates import starter
from zerotilt.cluster import executor_at
from zerotilt.core import membership
from zerotilt.core.candidates.compared import metrics_of, table_of
from zerotilt.core.candidates.recipe import Dealing, Recipe
from zerotilt.core.candidates.validated import FoldMeasured, GroupOfFold, Validated, of_used
from zerotilt.core.executor import side_by_side
from zerotilt.core.groups.metrics import of_task
from zerotilt.core.groups.readout import read
from zerotilt.core.meaning import ColumnSpec, Kind, Role, Spec
from zerotilt.core.membership import Grouping
from zerotilt.core.remedies.versions import compare
from zerotilt.core.steps.repair import Groups, fitted
from zerotilt.core.table import Table, from_arrays
from zerotilt.core.work import Work
from zerotilt.demo import audit
from zerotilt.train.fitting import train

VERSIONS, METRICS, GROUPS, FOLDS = 12, 12, 20, 5


def main() -> None:
    claims, audits = audit.build_all()
    table = Table(claims)
    for one in audits:
        whole, each = 0.0, []
        for recipe in starter(one.spec, Dealing()):
            began = time.perf_counter()
            train(one.spec, table, recipe, Work())
            took = time.perf_counter() - began
            whole += took
            each.append(f"{recipe.estimator} {took:.1f}")
        beyond = " ← beyond" if whole > 60 else ""
        line(f"{one.title}: starter set in five folds, of 60 s{beyond}", whole, ", ".join(each))
    rng = np.random.default_rng(1)
    names = ["log_loss", "auc", "accuracy", "true_positive_rate", "false_positive_rate", "true_negative_rate",
             "false_negative_rate", "positive_predictive_value", "negative_predictive_value", "brier_score", "f1",
             "balanced_accuracy"]  # fmt: skip

    def fold() -> FoldMeasured:
        values = dict(zip(names, rng.random(METRICS).tolist(), strict=True))
        groups = tuple(
            GroupOfFold(attribute="group", group=f"g{i}", rows=50, values=dict(values)) for i in range(GROUPS)
        )
        return FoldMeasured(rows=1_000, validation=values, training=values, groups=groups)

    candidates = [
        (f"version {i}", Validated(folds=tuple(fold() for _ in range(FOLDS)), test=None, rows=5_000))
        for i in range(VERSIONS)
    ]
    began = time.perf_counter()
    for metric in metrics_of(audits[0].spec.task, [one for _, one in candidates]):
        for group in range(1, GROUPS):
            table_of(candidates, metric, (metric, "group", f"g{group}", "g0"), 0.95, 0.05)
    line(
        f"{VERSIONS} versions × {METRICS} metrics × {GROUPS} groups from what is known, of 1 s",
        time.perf_counter() - began,
    )

    for rows in (3_600, 100_000):
        versions(rows)
    repair()
    cluster(audits[0].spec, table)


def versions(rows: int) -> None:
    """All versions in all metrics, groups and segments, with paired intervals, once their scores are known."""
    rng = np.random.default_rng(2)
    columns = {f"g{place}": rng.choice(list("abcd"), rows) for place in range(GROUPS // 4)}
    score = rng.random(rows)
    table = from_arrays(columns | {"y": np.where(rng.random(rows) < score, "yes", "no")})
    spec = Spec(
        columns=tuple(
            ColumnSpec(
                name=name,
                kind=Kind.categorical,
                grouped=name != "y",
                role=Role.outcome if name == "y" else Role.feature,
            )
            for name in table.names
        ),
        event="yes",
    )
    readouts = []
    for place in range(VERSIONS):
        outputs = np.clip(score + rng.normal(0, 0.05, rows), 0.001, 0.999)[:, None]
        subject = of_used(spec, table, outputs, ("no", "yes"))
        told = [one.name for one in of_task(spec.task) if one.name != "calibration_error"]
        readouts.append((f"version {place}", read(subject, told)))
    numbers = np.arange(rows)
    groupings = [membership.grouping(spec, table, numbers, columns) for columns in spec.groupings]
    first = Grouping((), ("",), np.zeros(rows, np.int64))
    for _ in range(2):  # the first turn compiles
        began = time.perf_counter()
        found = compare(readouts[0], readouts[1:], [first, *groupings], 0.95, 0.05, 30, Work())
        took = time.perf_counter() - began
    most = 1 if rows < 10_000 else 2
    line(
        f"{VERSIONS} versions on {rows:,} rows, of {most} s",
        took,
        f"{len(found):,} values, paired intervals to the first",
    )


def repair() -> None:
    rng = np.random.default_rng(3)
    group = rng.choice(["harbour town", "uplands", "outer isles"], 1_000_000)
    columns = [rng.normal(size=1_000_000).astype(np.float32) for _ in range(20)]
    began = time.perf_counter()
    told = Groups.of(group)
    for one in side_by_side(lambda values: fitted(values, told, 1.0).moved(values, told), columns):
        assert len(one) == 1_000_000
    line("repair of 1,000,000 × 20 values, of 5 s", time.perf_counter() - began)


def cluster(spec: Spec, table: Table) -> None:
    """A candidate's folds here and on a Dask scheduler with two workers of this machine: the same numbers."""
    from distributed import LocalCluster

    recipe = Recipe(estimator="boosted trees", reweigh="home_area")
    began = time.perf_counter()
    here = train(spec, table, recipe, Work())
    line("boosted trees, reweighed, in five folds: this machine", time.perf_counter() - began)
    with LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as made:
        began = time.perf_counter()
        there = train(spec, table, recipe, Work(executor=executor_at(made.scheduler_address)))
        same = "the same numbers" if there.validated == here.validated else "← other numbers"
        line("the same on a Dask scheduler with two workers", time.perf_counter() - began, same)


if __name__ == "__main__":
    main()
