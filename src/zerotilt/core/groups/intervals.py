"""Intervals and tests for rates, differences and ratios.

All functions take arrays that broadcast and give arrays of the broadcast
shape. Counts may be fractional, because weighted rows enter as effective
counts (Kish 1965: n = (Σw)² / Σw²).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy import stats

DRAWS = 2_000
BINNED_FROM = 10_000
BINS = 1_000
WEIGHT_STRATA = 25


class Interval(NamedTuple):
    value: NDArray[np.float64]
    low: NDArray[np.float64]
    high: NDArray[np.float64]


def normal_quantile(confidence: float) -> float:
    """How many standard errors an interval of this confidence reaches to each side."""
    if not 0 < confidence < 1:
        raise ValueError(f"confidence must be within 0 and 1, got {confidence!r}")
    return float(stats.norm.ppf(0.5 + confidence / 2))


def wilson(x: ArrayLike, n: ArrayLike, confidence: float = 0.95) -> Interval:
    """Score interval of a rate x / n (Wilson 1927). NaN where n is 0."""
    x, n = np.asarray(x, float), np.asarray(n, float)
    z2 = normal_quantile(confidence) ** 2
    with np.errstate(invalid="ignore", divide="ignore"):
        p = x / n
        middle = (p + z2 / (2 * n)) / (1 + z2 / n)
        half = np.sqrt(z2 * (p * (1 - p) / n + z2 / (4 * n * n))) / (1 + z2 / n)
        low = np.where(x <= 0, 0.0, np.clip(middle - half, 0, 1))
        high = np.where(x >= n, 1.0, np.clip(middle + half, 0, 1))
    empty = n <= 0
    return Interval(np.where(empty, np.nan, p), np.where(empty, np.nan, low), np.where(empty, np.nan, high))


def newcombe(x1: ArrayLike, n1: ArrayLike, x2: ArrayLike, n2: ArrayLike, confidence: float = 0.95) -> Interval:
    """Interval of the difference x1/n1 − x2/n2 from two Wilson intervals (Newcombe 1998, method 10)."""
    p1, l1, u1 = wilson(x1, n1, confidence)
    p2, l2, u2 = wilson(x2, n2, confidence)
    gap = p1 - p2
    return Interval(gap, gap - np.sqrt((p1 - l1) ** 2 + (u2 - p2) ** 2), gap + np.sqrt((u1 - p1) ** 2 + (p2 - l2) ** 2))


class RatioInterval(NamedTuple):
    value: NDArray[np.float64]
    low: NDArray[np.float64]
    high: NDArray[np.float64]
    corrected: NDArray[np.bool_]


def katz(x1: ArrayLike, n1: ArrayLike, x2: ArrayLike, n2: ArrayLike, confidence: float = 0.95) -> RatioInterval:
    """Interval of the ratio (x1/n1) / (x2/n2) on the log scale (Katz et al. 1978).

    Where one of the four cells is zero, 0.5 is added to all four for the
    interval; the estimate, too, is the corrected one where a rate is zero, as
    the plain ratio would be 0 or endless. ``corrected`` says where.
    """
    x1, n1, x2, n2 = (np.asarray(v, float) for v in (x1, n1, x2, n2))
    tiny = 1e-12
    zero = (x1 <= tiny) | (x2 <= tiny) | (n1 - x1 <= tiny) | (n2 - x2 <= tiny)
    a, b = np.where(zero, x1 + 0.5, x1), np.where(zero, x2 + 0.5, x2)
    m, k = np.where(zero, n1 + 1, n1), np.where(zero, n2 + 1, n2)
    with np.errstate(invalid="ignore", divide="ignore"):
        adjusted = (a / m) / (b / k)
        plain = (x1 / n1) / (x2 / n2)
        spread = np.sqrt(np.maximum(1 / a - 1 / m + 1 / b - 1 / k, 0))
    value = np.where((x1 <= tiny) | (x2 <= tiny), adjusted, plain)
    step = np.exp(normal_quantile(confidence) * spread)
    low, high = np.minimum(adjusted / step, value), np.maximum(adjusted * step, value)
    empty = (n1 <= 0) | (n2 <= 0)
    return RatioInterval(*(np.where(empty, np.nan, v) for v in (value, low, high)), zero & ~empty)


def score_test(x1: ArrayLike, n1: ArrayLike, x2: ArrayLike, n2: ArrayLike) -> NDArray[np.float64]:
    """Two-sided p-value of equal rates: the score test with the pooled rate (Pearson 1900), no continuity correction.

    1 where both rates are 0 or both are 1; NaN where a side is empty.
    """
    x1, n1, x2, n2 = (np.asarray(v, float) for v in (x1, n1, x2, n2))
    with np.errstate(invalid="ignore", divide="ignore"):
        pooled = (x1 + x2) / (n1 + n2)
        se = np.sqrt(pooled * (1 - pooled) * (1 / n1 + 1 / n2))
        z = np.where(se > 0, (x1 / n1 - x2 / n2) / se, 0.0)
    p = 2 * stats.norm.sf(np.abs(z))
    return np.where((n1 <= 0) | (n2 <= 0), np.nan, p)


def adjust(p_values: ArrayLike) -> NDArray[np.float64]:
    """p-values adjusted for the false discovery rate (Benjamini & Hochberg 1995). NaN stays NaN and counts for nothing."""
    p = np.asarray(p_values, float)
    out = np.full(p.shape, np.nan)
    known = np.flatnonzero(np.isfinite(p))
    if len(known):
        out[known] = stats.false_discovery_control(p[known], method="bh")
    return out


def placements(
    scores: NDArray[np.float64], outcome: NDArray[np.bool_], weights: NDArray[np.float64] | None = None
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Share of negatives below each positive, and of positives above each negative; ties count half (DeLong et al. 1988).

    The mean of either array (weighted) is the AUC. Shapes (positives,), (negatives,).
    """
    w = np.ones(len(scores)) if weights is None else weights
    positive, negative = scores[outcome], scores[~outcome]

    def below(points: NDArray, among: NDArray, mass: NDArray) -> NDArray:
        order = np.argsort(among, kind="stable")
        total = np.concatenate([[0.0], np.cumsum(mass[order])])
        left = np.searchsorted(among[order], points, "left")
        right = np.searchsorted(among[order], points, "right")
        return (total[left] + total[right]) / (2 * total[-1])

    return below(positive, negative, w[~outcome]), 1 - below(negative, positive, w[outcome])


def effective(weights: NDArray[np.float64]) -> float:
    """Effective number of rows of a weighted sample (Kish 1965)."""
    square = float((weights**2).sum())
    return float(weights.sum()) ** 2 / square if square else 0.0


def _variance_of_mean(values: NDArray[np.float64], weights: NDArray[np.float64]) -> float:
    """Sampling variance of a weighted mean; 0 for fewer than two rows, where nothing can be said."""
    if len(values) < 2:
        return 0.0
    mean = np.average(values, weights=weights)
    n = effective(weights)
    return float(np.average((values - mean) ** 2, weights=weights) / max(n - 1, 1e-9))


def auc(
    scores: NDArray[np.float64], outcome: NDArray[np.bool_], weights: NDArray[np.float64] | None = None
) -> tuple[float, float]:
    """Area under the ROC curve and its variance (DeLong et al. 1988); NaN with a single class."""
    if outcome.all() or not outcome.any():
        return float("nan"), float("nan")
    w = np.ones(len(scores)) if weights is None else weights
    of_positive, of_negative = placements(scores, outcome, weights)
    value = float(np.average(of_positive, weights=w[outcome]))
    return value, _variance_of_mean(of_positive, w[outcome]) + _variance_of_mean(of_negative, w[~outcome])


def bootstrap_means(
    values: NDArray[np.float64], weights: NDArray[np.float64] | None, seed: int, draws: int = DRAWS
) -> NDArray[np.float64]:
    """Means of ``draws`` resamples with replacement (Efron 1979), shape (draws, columns) for values (n, columns).

    Above ten thousand rows, rows are first joined, in the order of their weight
    and of the first column, into a thousand bins, and resamples draw how many rows fall into
    each; what varies within a thousandth of the rows is left out. Memory is
    bounded: resamples are drawn in blocks of about four million indices.
    """
    n = len(values)
    w = np.ones(n) if weights is None else weights
    weighted = values * w[:, None]
    rng = np.random.default_rng(seed)
    if n > BINNED_FROM:
        starts = np.linspace(0, n, BINS, endpoint=False).astype(int)
        # rows of one bin must be alike in weight as well, or the spread of weights would be lost
        stratum = np.zeros(n) if weights is None else np.argsort(np.argsort(w, kind="stable")) * WEIGHT_STRATA // n
        order = np.lexsort((values[:, 0], stratum))
        sizes = np.diff([*starts, n])
        means = np.add.reduceat(np.column_stack([weighted, w])[order], starts, axis=0) / sizes[:, None]
        drawn = rng.multinomial(n, sizes / n, size=draws) @ means
        return drawn[:, :-1] / drawn[:, -1:]
    out = np.empty((draws, values.shape[1]))
    block = max(1, 4_000_000 // max(n, 1))
    for start in range(0, draws, block):
        size = min(block, draws - start)
        picked = rng.integers(0, n, size=(size, n))
        mass = w[picked].sum(axis=1)
        for column in range(values.shape[1]):
            out[start : start + size, column] = weighted[:, column][picked].sum(axis=1) / mass
    return out


def percentile(draws: NDArray[np.float64], confidence: float) -> tuple[float, float]:
    """The percentile interval of bootstrap draws."""
    low, high = np.quantile(draws, [(1 - confidence) / 2, (1 + confidence) / 2])
    return float(low), float(high)
