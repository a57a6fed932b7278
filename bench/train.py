"""Candidates: how long a starter set of the demo takes, and how long it takes to set versions beside each other.

./zt bench train
"""

from __future__ import annotations

import time

import numpy as np
from timing import line

from zerotilt.api.candidates import starter
from zerotilt.core.candidates.compared import metrics_of, table_of
from zerotilt.core.candidates.recipe import Dealing
from zerotilt.core.candidates.validated import FoldMeasured, GroupOfFold, Validated
from zerotilt.core.table import Table
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


if __name__ == "__main__":
    main()
