"""How good the predictions are, on held-out and on training rows side by side (methods section 9)."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups import readout
from zerotilt.core.groups.measure import of_rows
from zerotilt.core.groups.metrics import Measure, MetricName
from zerotilt.core.groups.scores import Score, scores
from zerotilt.core.method import Method, Place
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Task, Wording
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class PerformanceSettings(Frozen):
    """Nothing to choose."""


class RowSet(Frozen):
    which: Literal["hold-out", "training", "all"]
    name: str
    described: str
    rows: int
    metrics: dict[MetricName, Measure] = Field(description="The rates and losses of an event; empty for other outcomes")
    scores: tuple[Score, ...] = Field(description="Measures of the whole set, by class where there are several")


class PerformanceResult(Frozen):
    sets: tuple[RowSet, ...]
    threshold: float | None
    notes: tuple[str, ...]
    confidence: float


OF_DECISIONS = ("accuracy", "balanced_accuracy", "rank_error", "precision", "recall", "f1")
"""Measures of classes that need no probabilities."""


def perform(subject: Subject, settings: PerformanceSettings, seed: int, work: Work) -> PerformanceResult:
    """All metrics of the context's rows, and beside them of the training rows (or of the hold-out, when reading those)."""
    others = {"hold-out": ["training"], "training": ["hold-out"], "all": []}[subject.context.rows]
    wanted = [subject.context.rows, *others]
    event = subject.task is Task.binary
    work.begin(len(wanted), "row sets measured")
    sets = []
    for which in wanted:
        read = Subject(
            subject.spec, subject.table, subject.predictor, subject.context.model_copy(update={"rows": which})
        )
        try:
            metrics = of_rows(read, readout.read(read), np.ones(read.n, dtype=bool), seed) if event else {}
        except Refused:
            if which == subject.context.rows:
                raise
            continue  # a table of held-out rows only has no training rows to stand beside them
        sets.append(
            RowSet(
                which=which,
                name=row_sets.NAMES[which],
                described=row_sets.describe(subject.spec, which, subject.context.segment),
                rows=read.n,
                metrics=metrics,
                scores=_scores(read, seed),
            )
        )
        work.advance(1)
    return PerformanceResult(
        sets=tuple(sets),
        threshold=subject.cut if event and subject.scores is not None else None,
        notes=()
        if subject.predictor is None
        else (*subject.predictor.notes, *subject.predictor.strange_levels(subject.table, subject.rows)),
        confidence=subject.spec.policy.confidence,
    )


def _scores(read: Subject, seed: int) -> tuple[Score, ...]:
    if read.task is Task.binary:
        if read.scores is None:
            return ()
        outputs = np.column_stack([read.predicted, read.scores])
    elif read.task is Task.regression:
        outputs = read.values[:, None]
    elif read.predictor is not None:
        outputs = read.outputs
    else:
        outputs = np.eye(len(read.classes))[read.decisions]
    found = scores(read.task, read.outcome, outputs, read.weights, read.classes, read.spec.policy.confidence, seed)
    if read.classes and read.predictor is None:  # no probabilities were recorded
        return tuple(one for one in found if one.name in OF_DECISIONS)
    return found


def say(result: PerformanceResult, wording: Wording, settings: PerformanceSettings) -> Reading:
    first = result.sets[0]
    if "accuracy" not in first.metrics:
        return _say_other(result, wording)
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


def _say_other(result: PerformanceResult, wording: Wording) -> Reading:
    """For classes and numbers."""
    first = result.sets[0]
    by_name = {score.name: score for score in first.scores if score.of_class is None}
    rows = row_sets.counted(first.rows, first.which, wording.rows)
    sure = words.level(result.confidence)
    if "mae" in by_name:
        off, fit = by_name["mae"], by_name["r_squared"]
        value, low, high = words.measured(off.value, off.low, off.high)
        headline = (
            f"For {rows} the prediction is off by {f'{value} {wording.unit}'.strip()} on average ({sure} interval "
            f"{low} to {f'{high} {wording.unit}'.strip()})."
        )
        detail = f"R² {words.decimal(fit.value)}. " if fit.value is not None else ""
    else:
        right = by_name["accuracy"]
        headline = (
            f"{words.percent(right.value)} of {rows} get their own class ({sure} interval {words.percent(right.low)} to "
            f"{words.percent(right.high)})."
        )
        detail = f"Balanced accuracy {words.percent(by_name['balanced_accuracy'].value)}. "
    return plain(headline, f"{detail}Read: {first.described}.")


METHOD = Method(
    name="performance",
    area="intake",
    title="Performance",
    settings=PerformanceSettings,
    result=PerformanceResult,
    compute=perform,
    say=say,
    note=(
        "Shares of rows have Wilson's intervals (1927); F1 that of the share 2J / (1 + J) of rows said and right "
        "among those said or right; balanced accuracy those of its classes (Zou & Donner 2008); means, Brier score "
        "and log loss Hall's (1992); RMSE the root of that of the mean square; AUC DeLong's (1988) on the log-odds "
        "scale (Pepe 2003), and Newcombe's (2006) where a ranking is perfect; average precision the binomial interval "
        "on the rows with the event (Boyd, Eng & Page 2013); R² one linearised on ln(1 − R²); the median its order "
        "statistics' (Woodruff 1952). None is a percentile bootstrap, which of a few dozen rows can say \"100.0% to "
        '100.0%".\n\n'
        "**Calibration error**: the mean distance of mean score and share of the event over 15 bins of equal counts, "
        "fewer where a bin would hold under 20 rows. Noise alone makes it larger, so its interval is that of an "
        "inverted bootstrap test of 2,000 draws within the bins (Carpenter 1999); the value may stand at the upper "
        "end of it. With row weights variances are linearised, Σw²(x − p)² / (Σw)²."
    ),
    main="sets",
    place=Place("Model and data", summed_up=True),
    needs="predictions",
    version=4,
)
