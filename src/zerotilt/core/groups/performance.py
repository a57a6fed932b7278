"""How good the predictions are, on held-out and on training rows side by side (methods section 9)."""

from __future__ import annotations

from typing import Literal

import numpy as np

from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.groups.metrics import Measure, MetricName, measure
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Frozen, Wording
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class PerformanceSettings(Frozen):
    """Nothing to choose."""


class RowSet(Frozen):
    which: Literal["hold-out", "training", "all"]
    name: str
    described: str
    rows: int
    metrics: dict[MetricName, Measure]


class PerformanceResult(Frozen):
    sets: tuple[RowSet, ...]
    threshold: float | None
    notes: tuple[str, ...]
    confidence: float


def perform(subject: Subject, settings: PerformanceSettings, seed: int, work: Work) -> PerformanceResult:
    """All metrics of the context's rows, and beside them of the training rows (or of the hold-out, when reading those)."""
    others = {"hold-out": ["training"], "training": ["hold-out"], "all": []}[subject.context.rows]
    wanted = [subject.context.rows, *others]
    work.begin(len(wanted), "row sets measured")
    sets = []
    for which in wanted:
        read = Subject(
            subject.spec, subject.table, subject.predictor, subject.context.model_copy(update={"rows": which})
        )
        try:
            found = measure(read, np.ones(read.n, dtype=bool), seed)
        except Refused:
            if which == subject.context.rows:
                raise
            continue  # a table of held-out rows only has no training rows to stand beside them
        sets.append(
            RowSet(
                which=which,
                name=row_sets.NAMES[which],
                described=row_sets.describe(subject.spec, which),
                rows=found.rows,
                metrics=found.measures,
            )
        )
        work.advance(1)
    return PerformanceResult(
        sets=tuple(sets),
        threshold=subject.spec.threshold if subject.scores is not None else None,
        notes=tuple(subject.predictor.notes) if subject.predictor else (),
        confidence=subject.spec.policy.confidence,
    )


def say(result: PerformanceResult, wording: Wording, settings: PerformanceSettings) -> Reading:
    first = result.sets[0]
    accuracy = first.metrics["accuracy"]
    headline = (
        f"{words.percent(accuracy.value)} of {row_sets.counted(first.rows, first.which, wording.rows)} are decided rightly "
        f"({words.level(result.confidence)} interval {words.percent(accuracy.low)} to {words.percent(accuracy.high)})."
    )
    detail = ""
    area = first.metrics.get("auc")
    if area and area.value is not None:
        detail = f"AUC {words.decimal(area.value)} ({words.decimal(area.low)} to {words.decimal(area.high)})"
        if len(result.sets) > 1 and (other := result.sets[1].metrics["auc"]).value is not None:
            detail += f"; {result.sets[1].name} rows {words.decimal(other.value)}"
        detail += "."
        if area.value < 0.5:
            detail += (
                " An AUC below one half suggests that event and class are mixed up; check which class is the event."
            )
    detail += f" Read: {first.described}."
    return plain(headline, detail.strip())
