"""Measures that are read of a whole set of rows, and not compared among groups."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.stats import distributions, intervals, weighing
from zerotilt.core.stats.calibration import with_interval
from zerotilt.core.stats.intervals import Interval

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
NOTHING = Interval(*(np.array(np.nan),) * 3)


@dataclass(frozen=True)
class Set:
    """The rows that count, shapes (n,). ``y``: what happened, ``d``: what was decided (events and classes), ``s``: the
    score of the event or of one class, or the predicted number; None where none was recorded."""

    y: NDArray
    d: NDArray | None
    s: Floats | None
    w: Floats
    classes: int
    confidence: float
    seed: int

    @classmethod
    def counting(cls, y, d, s, weights, classes: int, confidence: float, seed: int) -> Set:
        """Without the rows that weigh nothing."""
        w = np.ones(len(y)) if weights is None else weights
        kept = w > 0
        return cls(
            y[kept], None if d is None else d[kept], None if s is None else s[kept], w[kept], classes, confidence, seed
        )

    @property
    def decided(self) -> NDArray:
        if self.d is None:
            raise ValueError("nothing is decided about a number")
        return self.d

    @property
    def said(self) -> Floats:
        if self.s is None:
            raise ValueError("nothing was said but decisions")
        return self.s

    def share(self, counted: Bools, among: Bools) -> Interval:
        """Weighted share of ``counted`` among the rows of ``among``, Wilson (1927); NaN where there are none."""
        hit, mass = self.w[among & counted], self.w[among]
        if not len(mass):
            return NOTHING
        sums = hit.sum(), (hit**2).sum(), mass.sum(), (mass**2).sum(), len(mass)
        counts = intervals.effective_counts(*sums, self.confidence)
        return intervals.wilson(*counts, self.confidence)


Measured = tuple[Interval, int]
"""An interval, and the rows that the measure can be read from."""


def balanced_accuracy(r: Set) -> Measured:
    """Mean over the classes that occur of the share recognised; from the classes' intervals (Zou & Donner 2008)."""
    y, d = r.y.astype(int), r.decided.astype(int)
    present = [c for c in range(r.classes) if (y == c).any()]
    if not present:
        return NOTHING, 0
    parts = [r.share(d == c, y == c) for c in present]
    value, low, high = (np.array([float(one[i]) for one in parts]) for i in range(3))
    down, up = (np.sqrt(((value - side) ** 2).sum()) / len(parts) for side in (low, high))
    middle = value.mean()
    found = Interval(np.array(middle), np.array(max(middle - down, 0.0)), np.array(min(middle + up, 1.0)))
    return found, min(int((y == c).sum()) for c in present)


def f1(r: Set) -> Measured:
    """2J / (1 + J), with J the share of the rows said and right among the rows said or right."""
    either = r.y | r.decided
    return Interval(*(2 * one / (1 + one) for one in r.share(r.y & r.decided, either))), int(either.sum())


def area(r: Set) -> Measured:
    """AUC: DeLong et al. (1988) on the log-odds scale."""
    smaller = int(min(r.y.sum(), (~r.y).sum()))
    if not smaller:
        return NOTHING, 0
    value, variance = intervals.auc(r.said, r.y, r.w)
    sides = (intervals.effective(r.w[r.y]), intervals.effective(r.w[~r.y]))
    return intervals.area(value, variance, *sides, r.confidence), smaller


def calibration(r: Set) -> Measured:
    """Mean distance of mean score and share of the event, over bins of equal counts."""
    return with_interval(r.y, r.said, r.w, r.seed, r.confidence), len(r.y)


def average_precision(r: Set) -> Measured:
    """Σ (recall gained) · precision from the highest score down, ties in one step; the binomial interval on as many rows
    as have the event (Boyd, Eng & Page 2013)."""
    with_event = int(r.y.sum())
    if not with_event:
        return NOTHING, 0
    order = np.argsort(r.said, kind="stable")[::-1]
    last = np.append(np.flatnonzero(np.diff(r.said[order])), len(r.said) - 1)
    hits, said = np.cumsum((r.w * r.y)[order])[last], np.cumsum(r.w[order])[last]
    gained = np.diff(np.concatenate([[0.0], hits]))
    value = float((gained * hits / np.maximum(said, 1e-300)).sum() / hits[-1])
    n = intervals.effective(r.w[r.y])
    return intervals.wilson(value * n, n, r.confidence), with_event


def r_squared(r: Set) -> Measured:
    """1 less the squared error over that of the mean; linearised, of ln(1 − R²)."""
    if len(r.y) < 2:
        return NOTHING, len(r.y)
    lost, off = (r.said - r.y) ** 2, (r.y - np.average(r.y, weights=r.w)) ** 2
    m, v = (float(np.average(one, weights=r.w)) for one in (lost, off))
    if not v > 0:
        return NOTHING, len(r.y)
    if not m > 0:
        return Interval(*(np.array(1.0),) * 3), len(r.y)
    error = float(weighing.error(lost / m - off / v, r.w))
    half = distributions.t_quantile(0.5 + r.confidence / 2, len(r.y) - 1) * error
    ends = (np.array(1 - m / v * np.exp(sign * half)) for sign in (1, -1))
    return Interval(np.array(1 - m / v), *ends), len(r.y)


def median_error(r: Set) -> Measured:
    """The median absolute error: the values between which the share below one half lies (Woodruff 1952)."""
    off = np.abs(r.said - r.y)
    if not len(off):
        return NOTHING, 0
    order = np.argsort(off, kind="stable")
    ranked, ends = off[order], np.cumsum(r.w[order]) / r.w.sum()
    n = intervals.effective(r.w)
    half = intervals.normal_quantile(r.confidence) * 0.5 / np.sqrt(n)

    def at(share: float) -> float:
        return float(ranked[min(int(np.searchsorted(ends, share - 1e-12)), len(ranked) - 1)])

    middle = float(weighing.quantiles(off, [0.5], r.w)[0])
    low, high = min(at(max(0.5 - half, 0)), middle), max(at(min(0.5 + half + 1 / n, 1)), middle)
    return Interval(np.array(middle), np.array(low), np.array(high)), len(off)


OF_SETS: Mapping[str, Callable[[Set], Measured]] = {
    "balanced_accuracy": balanced_accuracy,
    "f1": f1,
    "auc": area,
    "average_precision": average_precision,
    "calibration_error": calibration,
    "r_squared": r_squared,
    "median_absolute_error": median_error,
}
"""How a metric is measured of rows at once; those that groups are compared in as well are tallied there."""
OF_SCORES = ("auc", "average_precision", "calibration_error")
"""Of these, those that need scores."""
