"""Calibration error with an interval that knows that noise alone makes it larger."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.stats.intervals import DRAWS, Interval

BINS = 15
BIN_ROWS = 20
EXACT_ROWS = 100_000
"""Rows above which the noise of a bin, with thousands of rows in it, is drawn from the normal distribution."""
Floats = NDArray[np.float64]


def starts(n: int) -> NDArray[np.int64]:
    """Where each bin of n sorted rows starts: 15 of equal counts, fewer where a bin would hold under 20 rows."""
    bins = int(np.clip(n // BIN_ROWS, 1, BINS))
    return np.linspace(0, n, bins, endpoint=False).astype(np.int64)


def calibration_error(happened: NDArray[np.bool_], scores: Floats, weights: Floats) -> float:
    """Mean distance of mean score and share of the event over bins of equal counts, weighted by rows."""
    happened, scores, weights = _counting(happened, scores, weights)
    order = np.argsort(scores, kind="stable")
    at = starts(len(scores))
    mass = np.add.reduceat(weights[order], at)
    off = np.add.reduceat((weights * (scores - happened))[order], at)
    return float(np.abs(off).sum() / mass.sum())


def _counting(happened: NDArray[np.bool_], scores: Floats, weights: Floats):
    """The rows that weigh something: others would fill bins and say nothing."""
    if (weights > 0).all():
        return happened, scores, weights
    kept = weights > 0
    return happened[kept], scores[kept], weights[kept]


def with_interval(
    happened: NDArray[np.bool_], scores: Floats, weights: Floats | None, seed: int, confidence: float = 0.95
) -> Interval:
    """The calibration error and its interval, by inverting a bootstrap test.

    The mean of absolute distances is never below zero, so noise alone raises it,
    and the plain percentile bootstrap raises it once more. Here 2,000 resamples
    within the bins (Efron 1979) give the noise of each bin's distance; the
    interval holds every size of miscalibration under which a value as far off as
    the one seen is not rare (Carpenter 1999). What is not known is how a given
    size is spread over the bins; half its square is taken alike in all, half as
    seen. NaN without rows or weight.
    """
    nothing = Interval(*(np.array(np.nan),) * 3)
    happened, scores, w = _counting(happened, scores, np.ones(len(scores)) if weights is None else weights)
    if len(scores) < 2 or not w.sum() > 0:
        return nothing
    order = np.argsort(scores, kind="stable")
    gap, mass, at = (scores - happened)[order], w[order], starts(len(scores))
    total = np.add.reduceat(mass, at)
    with np.errstate(invalid="ignore", divide="ignore"):
        off = np.where(total > 0, np.add.reduceat(mass * gap, at) / total, 0.0)
    share = total / total.sum()
    value = float(share @ np.abs(off))
    noise = _noise(gap, mass, at, off, total, seed)
    pattern = np.sqrt((off**2 + share @ off**2) / 2)
    size = float(share @ pattern)
    if size <= 0:
        return Interval(*(np.array(one) for one in (value, value, value)))

    def passing(scale: float) -> float:
        """How often noise about a miscalibration of this size gives no more than what was seen."""
        return float((np.abs(scale * pattern + noise) @ share <= value).mean())

    tail = (1 - confidence) / 2
    low, high = (_where(passing, end) * size for end in (1 - tail, tail))
    return Interval(np.array(value), np.array(min(low, value)), np.array(min(max(high, value), 1.0)))


def _where(passing, wanted: float) -> float:
    """The scale at which a falling share crosses ``wanted``; 0 where it starts below."""
    if passing(0.0) < wanted:
        return 0.0
    low, high = 0.0, 1.0
    while passing(high) > wanted and high < 64:
        low, high = high, high * 2
    for _ in range(18):
        middle = (low + high) / 2
        low, high = (middle, high) if passing(middle) > wanted else (low, middle)
    return (low + high) / 2


def _noise(gap: Floats, mass: Floats, at: NDArray[np.int64], off: Floats, total: Floats, seed: int) -> Floats:
    """How far resampled bins come off their own distance, shape (draws, bins)."""
    rng = np.random.default_rng(seed)
    if len(gap) > EXACT_ROWS:
        spread = np.add.reduceat(mass**2 * (gap - np.repeat(off, np.diff([*at, len(gap)]))) ** 2, at)
        return rng.standard_normal((DRAWS, len(at))) * np.sqrt(spread) / np.maximum(total, 1e-300)
    return _resampled(gap, mass, np.append(at, len(gap)), off, DRAWS, seed % 2**32)


@njit(cache=True, nogil=True)
def _resampled(gap, mass, edges, off, draws, seed):
    bins = len(edges) - 1
    out = np.empty((draws, bins))
    state = np.uint64(seed) * np.uint64(2654435769) + np.uint64(88172645463325252)
    for draw in range(draws):
        for b in range(bins):
            first = edges[b]
            size = np.uint64(edges[b + 1] - first)
            top, bottom = 0.0, 0.0
            for _ in range(edges[b + 1] - first):
                # xorshift64* (Vigna 2016): a resample needs many draws, and none of them secret
                state ^= state >> np.uint64(12)
                state ^= state << np.uint64(25)
                state ^= state >> np.uint64(27)
                drawn = (state * np.uint64(2685821657736338717)) >> np.uint64(32)
                i = first + np.int64((drawn * size) >> np.uint64(32))
                top += mass[i] * gap[i]
                bottom += mass[i]
            # a bin of n rows drawn from itself spreads by n − 1; the root makes up for it
            grown = np.sqrt(size / (size - 1.0)) if size > 1 else 1.0
            out[draw, b] = (top / bottom - off[b]) * grown if bottom > 0 else 0.0
    return out
