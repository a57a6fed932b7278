"""The measures of a set of rows: which rows count, among which. Defined once for performance and for groups."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core.groups import intervals
from zerotilt.core.spec import Frozen
from zerotilt.core.subject import Subject

MetricName = Literal[
    "base_rate",
    "selection_rate",
    "accuracy",
    "true_positive_rate",
    "false_positive_rate",
    "true_negative_rate",
    "false_negative_rate",
    "positive_predictive_value",
    "negative_predictive_value",
    "auc",
    "brier_score",
    "log_loss",
]
LOSS_CLIP = 1e-15
Mask = NDArray[np.bool_]


class Estimate(Frozen):
    """A number with its interval; null where it is not defined."""

    value: float | None
    low: float | None
    high: float | None


class Measure(Estimate):
    """A metric of some rows. For rates, ``count`` rows out of ``of`` rows (unweighted)."""

    count: int | None = None
    of: int = Field(description="Rows that the metric can be read from; for AUC the smaller class")


@dataclass(frozen=True)
class Metric:
    name: MetricName
    label: str
    meaning: str
    kind: Literal["rate", "auc", "mean"]
    counted: Callable[[Mask, Mask, Mask], Mask] | None = None
    among: Callable[[Mask, Mask, Mask], Mask] | None = None

    @property
    def short(self) -> str:
        """For the head of a narrow column."""
        return {"positive_predictive_value": "PPV", "negative_predictive_value": "NPV"}.get(self.name, self.label)

    @property
    def phrase(self) -> str:
        """The label inside a sentence; names and initials keep their capitals."""
        return self.label if self.name in ("auc", "brier_score") else self.label[0].lower() + self.label[1:]


def _rate(name: MetricName, label: str, meaning: str, counted, among) -> Metric:
    return Metric(name, label, meaning, "rate", counted, among)


def _all(y: Mask, d: Mask, f: Mask) -> Mask:
    return np.ones_like(y)


# y: the event happened; d: the event was predicted; f: the decision was favourable
METRICS: dict[str, Metric] = {
    metric.name: metric
    for metric in (
        _rate("base_rate", "Base rate", "share of rows in which the event happened", lambda y, d, f: y, _all),
        _rate(
            "selection_rate", "Selection rate", "share of rows with the favourable decision", lambda y, d, f: f, _all
        ),
        _rate("accuracy", "Accuracy", "share of rows decided rightly", lambda y, d, f: y == d, _all),
        _rate(
            "true_positive_rate",
            "True positive rate",
            "of the rows in which the event happened, the share predicted so",
            lambda y, d, f: d,
            lambda y, d, f: y,
        ),
        _rate(
            "false_positive_rate",
            "False positive rate",
            "of the rows in which the event did not happen, the share predicted as if",
            lambda y, d, f: d,
            lambda y, d, f: ~y,
        ),
        _rate(
            "true_negative_rate",
            "True negative rate",
            "of the rows in which the event did not happen, the share predicted so",
            lambda y, d, f: ~d,
            lambda y, d, f: ~y,
        ),
        _rate(
            "false_negative_rate",
            "False negative rate",
            "of the rows in which the event happened, the share predicted as if not",
            lambda y, d, f: ~d,
            lambda y, d, f: y,
        ),
        _rate(
            "positive_predictive_value",
            "Positive predictive value",
            "of the rows predicted to have the event, the share that had it",
            lambda y, d, f: y,
            lambda y, d, f: d,
        ),
        _rate(
            "negative_predictive_value",
            "Negative predictive value",
            "of the rows predicted not to have the event, the share that had it not",
            lambda y, d, f: ~y,
            lambda y, d, f: ~d,
        ),
        Metric("auc", "AUC", "chance that a row with the event scores above a row without it", "auc"),
        Metric("brier_score", "Brier score", "mean squared distance of the score from what happened", "mean"),
        Metric("log_loss", "Log loss", "mean of minus the log of the probability given to what happened", "mean"),
    )
}


def losses(outcome: Mask, scores: NDArray[np.float64]) -> NDArray[np.float64]:
    """Brier score and log loss of each row, shape (n, 2)."""
    y = outcome.astype(float)
    kept = np.clip(scores, LOSS_CLIP, 1 - LOSS_CLIP)
    return np.column_stack([(scores - y) ** 2, -(y * np.log(kept) + (1 - y) * np.log1p(-kept))])


@dataclass(frozen=True)
class Measured:
    """Everything needed to compare one set of rows with another."""

    rows: int
    measures: dict[str, Measure]
    effective: dict[str, tuple[float, float]]
    """Rates: effective (x, n), equal to the counts when rows have no weights."""
    auc_variance: float
    draws: NDArray[np.float64] | None
    """Bootstrap means of Brier score and log loss, shape (draws, 2)."""

    def bootstrapped(self, name: str) -> NDArray[np.float64]:
        assert self.draws is not None
        return self.draws[:, 0 if name == "brier_score" else 1]


def measure(subject: Subject, mask: Mask, seed: int) -> Measured:
    """All metrics of the rows in ``mask``, with intervals at the policy's confidence."""
    y, d, f = subject.outcome[mask], subject.predicted[mask], subject.favoured[mask]
    w = None if subject.weights is None else subject.weights[mask]
    confidence = subject.spec.policy.confidence
    measures: dict[str, Measure] = {}
    pairs: dict[str, tuple[float, float]] = {}
    for metric in METRICS.values():
        if metric.kind == "rate":
            counted, among = metric.counted(y, d, f), metric.among(y, d, f)
            count, of = int((counted & among).sum()), int(among.sum())
            x, n = float(count), float(of)
            if w is not None and of:
                n = intervals.effective(w[among])
                total = w[among].sum()
                x = n * float(w[counted & among].sum() / total) if total else 0.0
            pairs[metric.name] = (x, n)
            found = intervals.wilson(x, n, confidence)
            measures[metric.name] = Measure(**_numbers(*map(float, found)), count=count, of=of)
    variance, draws = float("nan"), None
    if subject.scores is not None:
        scores = subject.scores[mask]
        area, variance = intervals.auc(scores, y, w)
        half = intervals.normal_quantile(confidence) * math.sqrt(variance) if math.isfinite(variance) else float("nan")
        measures["auc"] = Measure(
            **_numbers(area, max(area - half, 0.0), min(area + half, 1.0)), of=int(min(y.sum(), (~y).sum()))
        )
        per_row = losses(y, scores)
        defined = len(y) and (w is None or w.sum() > 0)
        draws = intervals.bootstrap_means(per_row, w, seed) if defined else None
        for place, name in enumerate(("brier_score", "log_loss")):
            value = float(np.average(per_row[:, place], weights=w)) if defined else float("nan")
            low, high = intervals.percentile(draws[:, place], confidence) if defined else (value, value)
            measures[name] = Measure(**_numbers(value, low, high), of=len(y))
    return Measured(len(y), measures, pairs, variance, draws)


def _numbers(value: float, low: float, high: float) -> dict[str, float | None]:
    """NaN has no place in a result: what is not defined is null."""
    if not math.isfinite(value):
        return {"value": None, "low": None, "high": None}
    return {"value": value, "low": low, "high": high}
