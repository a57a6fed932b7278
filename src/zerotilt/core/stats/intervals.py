"""Intervals and tests for rates, differences and ratios.

All functions take arrays that broadcast and give arrays of the broadcast
shape. Counts may be fractional, because weighted rows enter as effective
counts: as many as would have the rate's own linearised variance
(:func:`effective_counts`). Weights that go with what is counted make that
variance larger or smaller than the weights alone tell.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from zerotilt.core.stats import distributions
from zerotilt.core.stats.score_ends import area_end, ends_of, koopman_end, mee_end, over_error

DRAWS = 2_000
MOST_SKEW = 0.4


class Interval(NamedTuple):
    value: NDArray[np.float64]
    low: NDArray[np.float64]
    high: NDArray[np.float64]


def normal_quantile(confidence: float) -> float:
    """How many standard errors an interval of this confidence reaches to each side."""
    if not 0 < confidence < 1:
        raise ValueError(f"confidence must be within 0 and 1, got {confidence!r}")
    return float(distributions.normal_quantile(0.5 + confidence / 2))


def effective_counts(
    counted: ArrayLike,
    counted_square: ArrayLike,
    mass: ArrayLike,
    square: ArrayLike,
    rows: ArrayLike,
    confidence: float,
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """x and n of a weighted rate: p = Σwx / Σw, and n = p (1 − p) / V with V = Σw²(x − p)² / (Σw)² (Korn & Graubard 1998).

    Parameters
    ----------
    counted, counted_square : Σw and Σw² of the rows counted. mass, square : of the rows they are counted among.
    rows : how many those are. confidence : of the interval that is made of them.

    The plain counts where all rows weigh the same. Otherwise n is made smaller by the square of the ratio of the
    normal to Student's quantile, since V is estimated. Where all or none is counted V is nothing and tells nothing;
    there n is (Σw)² / Σw² (Kish 1965).
    """
    counted, counted_square, mass, square, rows = (
        np.asarray(v, float) for v in (counted, counted_square, mass, square, rows)
    )
    with np.errstate(invalid="ignore", divide="ignore"):
        p = np.where(mass > 0, counted / np.where(mass > 0, mass, 1), 0.0)
        kish = np.where(square > 0, mass**2 / np.where(square > 0, square, 1), 0.0)
        uneven = kish < rows * (1 - 1e-9)
        variance = ((1 - p) ** 2 * counted_square + p**2 * np.maximum(square - counted_square, 0)) / mass**2
        one_sided = (counted_square <= 0) | (square - counted_square <= 1e-12 * square)
        n = np.where(one_sided | (variance <= 0), kish, p * (1 - p) / np.where(variance > 0, variance, 1))
        n = np.where(uneven, n * np.where(rows > 1, estimated(rows, confidence), 1.0), rows)
    n = np.where(mass > 0, n, 0.0)
    return p * n, n


def estimated(units: ArrayLike, confidence: float) -> NDArray[np.float64]:
    """By how much a number of rows shrinks whose variance was estimated from that many units, of which there are two or
    more: the square of the normal's over Student's quantile (Korn & Graubard 1998)."""
    end = 0.5 + confidence / 2
    student = distributions.t_quantile(end, np.maximum(np.asarray(units, float) - 1, 1))
    return (distributions.normal_quantile(end) / student) ** 2


def wilson(x: ArrayLike, n: ArrayLike, confidence: float = 0.95) -> Interval:
    """Score interval of a rate x / n (Wilson 1927). NaN where n is 0.

    >>> found = wilson(3, 14)
    >>> [round(float(one), 3) for one in (found.value, found.low, found.high)]
    [0.214, 0.076, 0.476]
    """
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


def mee(x1: ArrayLike, n1: ArrayLike, x2: ArrayLike, n2: ArrayLike, confidence: float = 0.95) -> Interval:
    """Interval of the difference x1/n1 − x2/n2: all differences that the score test does not reject (Mee 1984).

    The rates under each difference are the maximum-likelihood ones (Farrington &
    Manning 1990). It leaves zero out exactly where :func:`score_test` rejects.
    """
    sides = x1, n1, x2, n2 = np.broadcast_arrays(*(np.asarray(v, float) for v in (x1, n1, x2, n2)))
    empty = (n1 <= 0) | (n2 <= 0)
    safe = [np.where(empty, v, side) for v, side in zip((1.0, 2.0, 1.0, 2.0), sides, strict=True)]
    ends = ends_of(mee_end, safe, normal_quantile(confidence))
    with np.errstate(invalid="ignore", divide="ignore"):
        value = x1 / n1 - x2 / n2
    low, high = np.minimum(ends[0], value), np.maximum(ends[1], value)
    return Interval(*(np.where(empty, np.nan, v) for v in (value, low, high)))


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
    value, low, high = (np.where(empty, np.nan, v) for v in (value, low, high))
    return RatioInterval(value, low, high, zero & ~empty)


def koopman(x1: ArrayLike, n1: ArrayLike, x2: ArrayLike, n2: ArrayLike, confidence: float = 0.95) -> RatioInterval:
    """Interval of the ratio (x1/n1) / (x2/n2): all ratios that the score test does not reject (Koopman 1984).

    It leaves one out exactly where :func:`score_test` rejects. Where no row of
    the second side counts the ratio has no upper limit; there, and for the
    estimate wherever a rate is zero, :func:`katz` with 0.5 in all four cells is
    taken, so that every ratio is a number. ``corrected`` says where.
    """
    sides = x1, n1, x2, n2 = np.broadcast_arrays(*(np.asarray(v, float) for v in (x1, n1, x2, n2)))
    plain = katz(x1, n1, x2, n2, confidence)
    tiny = 1e-12
    none, zero = x2 <= tiny, (x1 <= tiny) | (x2 <= tiny)
    usable = ~none & (n1 > 0) & (n2 > 0)
    safe = [np.where(usable, side, v) for v, side in zip((1.0, 2.0, 1.0, 2.0), sides, strict=True)]
    ends = ends_of(koopman_end, safe, normal_quantile(confidence))
    low = np.where(x1 <= tiny, 0.0, ends[0])
    low, high = np.minimum(low, plain.value), np.maximum(ends[1], plain.value)
    low, high = np.where(usable, low, plain.low), np.where(usable, high, plain.high)
    return RatioInterval(plain.value, low, high, zero & (n1 > 0) & (n2 > 0))


def mean(value: ArrayLike, error: ArrayLike, skew: ArrayLike, n: ArrayLike, confidence: float = 0.95) -> Interval:
    """Interval of a mean from its standard error, with its skewness taken into account (Hall 1992).

    Parameters
    ----------
    skew : third central moment of one row over its standard deviation cubed.
    n : rows. NaN where there are fewer than two.
    """
    value, error, skew, n = (np.asarray(v, float) for v in (value, error, skew, n))
    with np.errstate(invalid="ignore", divide="ignore"):
        # past this the correction turns over and an end runs away; what is held stays the same in simulation
        a = np.clip(skew / np.sqrt(n), -MOST_SKEW, MOST_SKEW)
        t = distributions.t_quantile(0.5 + confidence / 2, np.maximum(n - 1, 1))
        small = np.abs(a) < 1e-6
        slope = np.where(small, 1.0, a)
        # the inverse of g(T) = T + a·T²/3 + a²·T³/27 + a/6
        ends = [np.where(small, end, 3 / slope * (np.cbrt(1 + slope * (end - slope / 6)) - 1)) for end in (t, -t)]
        low, high = np.minimum(value - error * ends[0], value), np.maximum(value - error * ends[1], value)
    few = ~(n >= 2)
    return Interval(np.where(n > 0, value, np.nan), np.where(few, np.nan, low), np.where(few, np.nan, high))


def area(value: ArrayLike, variance: ArrayLike, n1: ArrayLike, n0: ArrayLike, confidence: float = 0.95) -> Interval:
    """Interval of an AUC from its variance (DeLong et al. 1988) on the log-odds scale (Pepe 2003).

    Where the ranking is perfect that variance is nothing and says nothing; there
    the interval is Newcombe's (2006, method 5). ``n1``, ``n0``: rows with and without the event.
    """
    value, variance, n1, n0 = np.broadcast_arrays(*(np.asarray(v, float) for v in (value, variance, n1, n0)))
    z = normal_quantile(confidence)
    perfect = (value >= 1 - 1e-9) | (value <= 1e-9) | (variance <= 0)
    with np.errstate(invalid="ignore", divide="ignore"):
        middle = np.log(value) - np.log1p(-value)
        half = z * np.sqrt(variance) / (value * (1 - value))
        low, high = 1 / (1 + np.exp(half - middle)), 1 / (1 + np.exp(-half - middle))
    known = [np.where(np.isfinite(one), one, 0.5) for one in (value, n1, n0)]
    ends = ends_of(area_end, (*known, known[0]), z)
    low, high = np.where(perfect, np.minimum(ends[0], value), low), np.where(perfect, np.maximum(ends[1], value), high)
    unknown = ~np.isfinite(value)
    return Interval(value, np.where(unknown, np.nan, low), np.where(unknown, np.nan, high))


def between(first: Interval, second: Interval) -> Interval:
    """Interval of a difference from the intervals of its two independent sides (Zou & Donner 2008)."""
    p1, l1, u1 = first
    p2, l2, u2 = second
    gap = p1 - p2
    return Interval(gap, gap - np.sqrt((p1 - l1) ** 2 + (u2 - p2) ** 2), gap + np.sqrt((u1 - p1) ** 2 + (p2 - l2) ** 2))


def over(first: Interval, second: Interval) -> Interval:
    """Interval of a ratio from the intervals of its two independent sides (Donner & Zou 2012).

    NaN unless all of both intervals is above zero, since only then the ratio has two limits.
    """
    p1, l1, u1 = (np.asarray(v, float) for v in first)
    p2, l2, u2 = (np.asarray(v, float) for v in second)
    with np.errstate(invalid="ignore", divide="ignore"):
        both = p1 * p2
        low = (both - np.sqrt(np.maximum(both**2 - l1 * u2 * (2 * p1 - l1) * (2 * p2 - u2), 0))) / (u2 * (2 * p2 - u2))
        high = (both + np.sqrt(np.maximum(both**2 - u1 * l2 * (2 * p1 - u1) * (2 * p2 - l2), 0))) / (l2 * (2 * p2 - l2))
        # an upper side more than twice its estimate away turns the formula over; on the log scale it holds
        wide = (u2 >= 2 * p2) | ~np.isfinite(low)
        logs = between(*(Interval(np.log(p), np.log(lo), np.log(hi)) for p, lo, hi in ((p1, l1, u1), (p2, l2, u2))))
        low, high = np.where(wide, np.exp(logs.low), low), np.where(wide, np.exp(logs.high), high)
        value = p1 / p2
    defined = (l1 > 0) & (l2 > 0)
    return Interval(*(np.where(defined, v, np.nan) for v in (value, low, high)))


def tested(gap: Interval, confidence: float) -> NDArray[np.float64]:
    """Two-sided p-value of no difference, from the side of the interval that faces zero."""
    value, low, high = (np.asarray(v, float) for v in gap)
    z = normal_quantile(confidence)
    facing = np.where(value > 0, value - low, high - value)
    p = 2 * distributions.normal_tail(np.abs(over_error(value * z, facing**2)))
    return np.where(np.isfinite(value) & np.isfinite(facing), p, np.nan)


def score_test(x1: ArrayLike, n1: ArrayLike, x2: ArrayLike, n2: ArrayLike) -> NDArray[np.float64]:
    """Two-sided p-value of equal rates: the score test with the pooled rate (Pearson 1900), no continuity correction.

    1 where both rates are 0 or both are 1; NaN where a side is empty.
    """
    x1, n1, x2, n2 = (np.asarray(v, float) for v in (x1, n1, x2, n2))
    with np.errstate(invalid="ignore", divide="ignore"):
        pooled = (x1 + x2) / (n1 + n2)
        se = np.sqrt(pooled * (1 - pooled) * (1 / n1 + 1 / n2))
        z = np.where(se > 0, (x1 / n1 - x2 / n2) / se, 0.0)
    p = 2 * distributions.normal_tail(np.abs(z))
    return np.where((n1 <= 0) | (n2 <= 0), np.nan, p)


Adjustment = Literal["false discovery rate", "Holm", "Bonferroni", "none"]


def adjust(p_values: ArrayLike, how: Adjustment = "false discovery rate") -> NDArray[np.float64]:
    """p-values adjusted for how many there are. NaN stays NaN and counts for nothing.

    For the share of false alarms among the flagged (Benjamini & Hochberg 1995), or
    for the chance of any false alarm (Holm 1979; Bonferroni, Dunn 1961).

    >>> adjust([0.01, 0.02, 0.5], "Bonferroni").tolist()
    [0.03, 0.06, 1.0]
    """
    p = np.asarray(p_values, float)
    out = np.full(p.shape, np.nan)
    known = np.flatnonzero(np.isfinite(p))
    if not len(known):
        return out
    if how == "false discovery rate":
        order = known[np.argsort(p[known], kind="stable")]
        steps = p[order] * (len(order) / np.arange(1, len(order) + 1))
        out[order] = np.minimum(np.minimum.accumulate(steps[::-1])[::-1], 1)
    elif how == "Holm":
        order = known[np.argsort(p[known], kind="stable")]
        out[order] = np.minimum(np.maximum.accumulate(p[order] * np.arange(len(order), 0, -1)), 1)
    else:
        out[known] = np.minimum(p[known] * (len(known) if how == "Bonferroni" else 1), 1)
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
    """Sampling variance of a weighted mean, linearised; 0 for fewer than two rows, where nothing can be said."""
    if (weights > 0).sum() < 2:
        return 0.0
    mean = np.average(values, weights=weights)
    rows = int((weights > 0).sum())
    return float(((weights * (values - mean)) ** 2).sum() / weights.sum() ** 2 * rows / max(rows - 1, 1))


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
