"""The mean of rows that have weights, with its interval."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.stats import intervals, weighing
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.stats.intervals import Interval


def mean_interval(values: NDArray[np.float64], mass: NDArray[np.float64], confidence: float) -> Estimate:
    """A weighted mean with its interval (Hall 1992); values of shape (n,)."""
    return estimate(*(float(one) for one in mean_span(values, mass, confidence)))


def mean_span(values: NDArray[np.float64], mass: NDArray[np.float64], confidence: float) -> Interval:
    """The same as arrays of shape (), NaN where nothing is known."""
    if not (mass > 0).any():
        return Interval(*(np.array(np.nan) for _ in range(3)))
    middle, error = float(weighing.mean(values, mass)), float(weighing.error(values, mass))
    spread = float(weighing.deviation(values, mass))
    off = values - middle
    skew = float(weighing.mean(off**3, mass)) / spread**3 if spread > 1e-12 else 0.0
    rows = int((mass > 0).sum())
    n = min((spread / error) ** 2 + 1, rows) if error > 0 else rows
    return intervals.mean(middle, error, skew, n, confidence)
