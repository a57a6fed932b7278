"""Measures of a whole set of predictions, for every kind of outcome, with intervals (methods section 9)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy import stats

from zerotilt.core.spec import Task
from zerotilt.core.stats import intervals, weighing
from zerotilt.core.stats.calibration import with_interval
from zerotilt.core.stats.estimates import LOSS_CLIP, Estimate, estimate
from zerotilt.core.stats.intervals import Interval


class Score(Estimate):
    """One measure. ``unit``: a share of rows, a number without unit, or the outcome's own unit."""

    name: str
    label: str
    unit: Literal["share", "number", "outcome", "outcome squared"]
    of_class: str | None = None


def scores(
    task: Task,
    outcome: NDArray,
    outputs: NDArray[np.float64],
    weights: NDArray[np.float64] | None,
    classes: tuple[str, ...],
    confidence: float,
    seed: int,
) -> tuple[Score, ...]:
    """All measures of a set of rows, each with the interval of its own kind.

    Shares: Wilson (1927). F1 is a share's 2J / (1 + J), with J the rows said and
    right among the rows said or right. Balanced accuracy: from the classes'
    intervals (Zou & Donner 2008). Means: Hall (1992). AUC: DeLong et al. (1988).
    Average precision: the binomial interval on as many rows as have the event
    (Boyd, Eng & Page 2013). R²: linearised, of ln(1 − R²). Median: order
    statistics (Woodruff 1952). Rows that weigh nothing are left out.

    Parameters
    ----------
    outcome : as :attr:`Subject.outcome`. outputs : shape (n, k); of an event the decisions and the scores.
    """
    w = np.ones(len(outputs)) if weights is None else weights
    kept = w > 0
    rows = _Rows(outcome[kept], outputs[kept], w[kept], confidence, seed)
    return tuple(
        Score(name=name, label=label, unit=unit, of_class=of_class, **_estimated(measure(rows)))
        for name, label, unit, of_class, measure in _measures(task, classes)
    )


def _estimated(found: Interval) -> dict[str, float | None]:
    return estimate(*(float(one) for one in found)).model_dump()


@dataclass(frozen=True)
class _Rows:
    """Outcome, outputs (n, k) and weights of the rows that count."""

    y: NDArray
    o: NDArray[np.float64]
    w: NDArray[np.float64]
    confidence: float
    seed: int

    def share(self, counted: NDArray[np.bool_], among: NDArray[np.bool_]) -> Interval:
        """Weighted share of ``counted`` among the rows of ``among``; NaN where there are none."""
        hit, mass = self.w[among & counted], self.w[among]
        if not len(mass):
            return NOTHING
        counts = intervals.effective_counts(hit.sum(), (hit**2).sum(), mass.sum(), (mass**2).sum(), len(mass))
        return intervals.wilson(*counts, self.confidence)

    def mean(self, values: NDArray[np.float64]) -> Interval:
        if not len(values):
            return NOTHING
        middle = np.average(values, weights=self.w)
        off = values - middle
        spread = float(np.average(off**2, weights=self.w))
        skew = float(np.average(off**3, weights=self.w)) / spread**1.5 if spread > 1e-24 else 0.0
        error = float(weighing.error(values, self.w))
        n = min(spread / error**2 + 1, len(values)) if error > 0 else len(values)
        return intervals.mean(middle, error, skew, n, self.confidence)

    def of(self, y: NDArray[np.bool_], o: NDArray[np.float64]) -> _Rows:
        return replace(self, y=y, o=o)


NOTHING = Interval(*(np.array(np.nan),) * 3)
Measured = Callable[[_Rows], Interval]


def _measures(task: Task, classes: tuple[str, ...]) -> list[tuple[str, str, str, str | None, Measured]]:
    if task is Task.regression:
        return [
            ("mae", "MAE", "outcome", None, lambda r: r.mean(np.abs(r.o[:, 0] - r.y))),
            ("rmse", "RMSE", "outcome", None, _root),
            ("r_squared", "R²", "number", None, _r_squared),
            ("median_absolute_error", "Median absolute error", "outcome", None, _median_error),
            ("mean_error", "Mean error", "outcome", None, lambda r: r.mean(r.o[:, 0] - r.y)),
        ]
    if task is Task.binary:
        # precision and recall stand among the event's rates, as positive predictive value and true positive rate
        return [
            ("balanced_accuracy", "Balanced accuracy", "share", None, lambda r: _balanced(r, r.o[:, 0] > 0, 2)),
            ("f1", "F1", "share", None, lambda r: _f1(r, r.o[:, 0] > 0)),
            ("average_precision", "Average precision", "share", None, lambda r: _average_precision(r, r.o[:, 1])),
        ]
    k = len(classes)
    found: list[tuple[str, str, str, str | None, Measured]] = [
        ("accuracy", "Accuracy", "share", None, lambda r: r.share(_said(r) == r.y, np.ones(len(r.y), bool))),
        ("balanced_accuracy", "Balanced accuracy", "share", None, lambda r: _balanced(r, _said(r), k)),
        ("log_loss", "Log loss", "number", None, lambda r: r.mean(-np.log(np.maximum(r.o[np.arange(len(r.y)), r.y], LOSS_CLIP)))),
        ("brier_score", "Brier score", "number", None, lambda r: r.mean(((r.o - np.eye(k)[r.y]) ** 2).sum(axis=1))),
    ]  # fmt: skip
    if task is Task.ordered:
        found.append(("rank_error", "Mean distance of ranks", "number", None, lambda r: r.mean(np.abs(_said(r) - r.y).astype(float))))  # fmt: skip
    for place, name in enumerate(classes):

        def one(measure: Callable[[_Rows, NDArray], Interval], scored: bool, c: int = place) -> Measured:
            return lambda r: measure(r.of(r.y == c, r.o), r.o[:, c] if scored else _said(r) == c)

        found += [
            ("precision", "Precision", "share", name, one(lambda r, d: r.share(r.y, d), False)),
            ("recall", "Recall", "share", name, one(lambda r, d: r.share(d, r.y), False)),
            ("f1", "F1", "share", name, one(_f1, False)),
            ("auc", "AUC", "share", name, one(_auc, True)),
            ("average_precision", "Average precision", "share", name, one(_average_precision, True)),
            ("calibration_error", "Calibration error", "share", name, one(_calibration, True)),
        ]
    return found


def _said(r: _Rows) -> NDArray[np.int64]:
    return r.o.argmax(axis=1)


def _root(r: _Rows) -> Interval:
    return Interval(*(np.sqrt(np.maximum(one, 0)) for one in r.mean((r.o[:, 0] - r.y) ** 2)))


def _r_squared(r: _Rows) -> Interval:
    if len(r.y) < 2:
        return NOTHING
    lost, off = (r.o[:, 0] - r.y) ** 2, (r.y - np.average(r.y, weights=r.w)) ** 2
    m, v = (float(np.average(one, weights=r.w)) for one in (lost, off))
    if not v > 0:
        return NOTHING
    if not m > 0:
        return Interval(*(np.array(1.0),) * 3)
    error = float(weighing.error(lost / m - off / v, r.w))
    half = stats.t.ppf(0.5 + r.confidence / 2, len(r.y) - 1) * error
    return Interval(np.array(1 - m / v), np.array(1 - m / v * np.exp(half)), np.array(1 - m / v * np.exp(-half)))


def _median_error(r: _Rows) -> Interval:
    """The median and its interval: the values between which the share below one half lies."""
    off = np.abs(r.o[:, 0] - r.y)
    if not len(off):
        return NOTHING
    order = np.argsort(off, kind="stable")
    ranked, ends = off[order], np.cumsum(r.w[order]) / r.w.sum()
    n = intervals.effective(r.w)
    half = intervals.normal_quantile(r.confidence) * 0.5 / np.sqrt(n)

    def at(share: float) -> float:
        return float(ranked[min(int(np.searchsorted(ends, share - 1e-12)), len(ranked) - 1)])

    middle = float(weighing.quantiles(off, [0.5], r.w)[0])
    return Interval(
        np.array(middle),
        np.array(min(at(max(0.5 - half, 0)), middle)),
        np.array(max(at(min(0.5 + half + 1 / n, 1)), middle)),
    )


def _balanced(r: _Rows, decided: NDArray, k: int) -> Interval:
    """Mean over the classes that occur of the share recognised."""
    y, d = r.y.astype(int), decided.astype(int)
    parts = [r.share(d == c, y == c) for c in range(k) if (y == c).any()]
    if not parts:
        return NOTHING
    value, low, high = (np.array([float(one[i]) for one in parts]) for i in range(3))
    down, up = (np.sqrt(((value - side) ** 2).sum()) / len(parts) for side in (low, high))
    middle = value.mean()
    return Interval(np.array(middle), np.array(max(middle - down, 0.0)), np.array(min(middle + up, 1.0)))


def _f1(r: _Rows, decided: NDArray[np.bool_]) -> Interval:
    return Interval(*(2 * one / (1 + one) for one in r.share(r.y & decided, r.y | decided)))


def _auc(r: _Rows, s: NDArray[np.float64]) -> Interval:
    if r.y.all() or not r.y.any():
        return NOTHING
    value, variance = intervals.auc(s, r.y, r.w)
    sides = (intervals.effective(r.w[r.y]), intervals.effective(r.w[~r.y]))
    return intervals.area(value, variance, *sides, r.confidence)


def _calibration(r: _Rows, s: NDArray[np.float64]) -> Interval:
    return with_interval(r.y, s, r.w, r.seed, r.confidence)


def _average_precision(r: _Rows, s: NDArray[np.float64]) -> Interval:
    value, n = average_precision(r.y, s, r.w), intervals.effective(r.w[r.y])
    return intervals.wilson(value * n, n, r.confidence) if np.isfinite(value) else NOTHING


def average_precision(y: NDArray[np.bool_], s: NDArray[np.float64], w: NDArray[np.float64]) -> float:
    """Σ (recall gained) · precision, from the highest score down; ties are one step."""
    if not w[y].sum():
        return float("nan")
    order = np.argsort(s, kind="stable")[::-1]
    last = np.append(np.flatnonzero(np.diff(s[order])), len(s) - 1)
    hits, said = np.cumsum((w * y)[order])[last], np.cumsum(w[order])[last]
    gained = np.diff(np.concatenate([[0.0], hits]))
    return float((gained * hits / np.maximum(said, 1e-300)).sum() / hits[-1])
