"""How good the predictions are, on held-out and on training rows side by side."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.measure import of_whole
from zerotilt.core.groups.metrics import Metrics
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method, Place
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class PerformanceSettings(Frozen):
    """Nothing to choose."""


class RowSet(Frozen):
    which: Literal["hold-out", "training", "all"]
    name: str
    described: str
    rows: int
    metrics: Metrics
    same_for_all: float | None = Field(
        default=None, description="Share that would be decided rightly if all were decided the commonest way"
    )


class PerformanceResult(Frozen):
    sets: tuple[RowSet, ...]
    threshold: float | None
    notes: tuple[str, ...]
    confidence: float


def perform(subject: Subject, settings: PerformanceSettings, seed: int, work: Work) -> PerformanceResult:
    """All metrics of the context's rows, and beside them of the training rows (or of the hold-out, when reading those),
    where a column says which these are.
    """
    others = {"hold-out": ["training"], "training": ["hold-out"], "all": []}[subject.context.rows]
    if not row_sets.split_known(subject.spec):
        others = []  # the rest of a draw of our own is not what the model was trained on
    wanted = [subject.context.rows, *others]
    work.begin(len(wanted), "row sets measured")
    sets = []
    for which in wanted:
        read = Subject(
            subject.spec, subject.table, subject.predictor, subject.context.model_copy(update={"rows": which})
        )
        try:
            metrics = of_whole(read, seed)
        except Refused:
            if which == subject.context.rows:
                raise
            continue  # a table of held-out rows only has no training rows to stand beside them
        sets.append(
            RowSet(
                which=which,
                name=row_sets.NAMES[which],
                described=row_sets.describe(subject.spec, read.context.row_set),
                rows=read.n,
                metrics=metrics,
                same_for_all=_same_for_all(read),
            )
        )
        work.advance(1)
    return PerformanceResult(
        sets=tuple(sets),
        threshold=subject.decisions.cut if subject.kind.cut and subject.predictions.scores is not None else None,
        notes=()
        if subject.predictor is None
        else (*subject.predictor.notes, *subject.predictor.strange_levels(subject.table, subject.rows.numbers)),
        confidence=subject.spec.policy.confidence,
    )


def _same_for_all(read: Subject) -> float | None:
    """Share of the rows, weighted, in which the commonest outcome happened; None of a number and of unknown outcomes."""
    outcome = read.rows.outcome_if_known
    if outcome is None or not read.kind.decides:
        return None
    mass = np.bincount(outcome.astype(np.int64), read.rows.mass)
    return float(mass.max() / mass.sum()) if mass.sum() > 0 else None


def say(result: PerformanceResult, wording: Wording, settings: PerformanceSettings) -> Reading:
    first = result.sets[0]
    rows, sure = row_sets.counted(first.rows, first.which, wording.rows), words.level(result.confidence)
    found = first.metrics

    def share(key: str) -> str:
        one = found[key]
        low, high = words.percent(one.low), words.percent(one.high)
        return f"{words.percent(one.value)} of {rows} {{}} ({sure} interval {low} to {high})."

    if "mae" in found:
        value, low, high = words.measured(found["mae"].value, found["mae"].low, found["mae"].high)
        headline = (
            f"For {rows} the prediction is off by {f'{value} {wording.unit}'.strip()} on average ({sure} interval "
            f"{low} to {f'{high} {wording.unit}'.strip()})."
        )
        fit = found["r_squared"].value
        detail = f"R² {words.decimal(fit)}." if fit is not None else ""
    elif "mean_prediction" in found:
        value, low, high = words.measured(*(getattr(found["mean_prediction"], x) for x in ("value", "low", "high")))
        headline = (
            f"The prediction is {f'{value} {wording.unit}'.strip()} on average for {rows} ({sure} interval {low} to "
            f"{f'{high} {wording.unit}'.strip()})."
        )
        detail = UNKNOWN
    elif "accuracy" not in found and "selection_rate" in found:
        headline = share("selection_rate").format(f"are {wording.favourable}")
        detail = HUSHED if "base_rate" in found else UNKNOWN
    elif "accuracy" not in found:
        headline, detail = f"{words.opening(rows)} were read.", HUSHED
    elif "true_positive_rate" in found:  # of an event, not of each class
        headline = share("accuracy").format("are decided rightly")
        detail = f"{_same(first)}{_of_order(result)}"
    else:
        headline = share("accuracy").format("get their own class")
        detail = f"{_same(first)}Balanced accuracy {words.percent(found['balanced_accuracy'].value)}."
    return plain(headline, f"{detail} Read: {first.described}.".strip().replace("  ", " "))


def _same(first: RowSet) -> str:
    """How good it would be to decide alike about all."""
    if first.same_for_all is None:
        return ""
    return f"Deciding the same for all would be right for {words.percent(first.same_for_all)}. "


HUSHED = "How often decisions are right is not printed: it would tell of too few."
UNKNOWN = "No column says what really happened, so nothing is said about how good this is."


def _of_order(result: PerformanceResult) -> str:
    """How well the scores of an event put the rows in order."""
    area = result.sets[0].metrics.get("auc")
    if area is None or area.value is None:
        return ""
    found = f"AUC {words.decimal(area.value)} ({words.decimal(area.low)} to {words.decimal(area.high)})"
    if len(result.sets) > 1 and (other := result.sets[1].metrics["auc"]).value is not None:
        found += f"; {result.sets[1].name} rows {words.decimal(other.value)}"
    below = " An AUC below one half suggests that event and class are mixed up; check which class is the event."
    return f"{found}.{below if area.value < 0.5 else ''}"


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
    place=Place("Performance"),
    needs=frozenset({"predictions"}),
    version=5,
)
