"""Comparisons within strata, pooled (Mantel & Haenszel 1959)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from zerotilt.core.stats import distributions
from zerotilt.core.stats.intervals import Interval, normal_quantile

NOTHING = Interval(*(np.array(np.nan),) * 3)


@dataclass(frozen=True)
class Pooled:
    """``odds_ratio``, ``ratio`` and ``difference`` over all strata; ``p`` that there is none, ``p_alike`` that they are alike."""

    odds_ratio: Interval
    ratio: Interval
    difference: Interval
    p: float
    p_alike: float


def mantel_haenszel(x1: ArrayLike, n1: ArrayLike, x2: ArrayLike, n2: ArrayLike, confidence: float = 0.95) -> Pooled:
    """Pool x1 of n1 against x2 of n2 over strata, arrays of shape (strata,).

    Odds ratio (Mantel & Haenszel 1959; variance Robins, Breslow & Greenland
    1986), rate ratio (Greenland & Robins 1985), difference (Sato 1989), test
    without continuity correction (Cochran 1954; Mantel & Haenszel 1959), and
    whether the odds ratios are alike (Breslow & Day 1980, with Tarone's 1985
    correction). Strata with rows on one side only say nothing and are left out.
    """
    sides = np.broadcast_arrays(*(np.asarray(v, float) for v in (x1, n1, x2, n2)))
    kept = (sides[1] > 0) & (sides[3] > 0)
    if not kept.any():
        return Pooled(NOTHING, NOTHING, NOTHING, float("nan"), float("nan"))
    a, m1, c, m2 = (side[kept] for side in sides)
    b, d, n = m1 - a, m2 - c, m1 + m2
    z = normal_quantile(confidence)
    r, s = a * d / n, b * c / n
    odds = _odds(a, b, c, d, n, r, s, z)
    top, bottom = (a * m2 / n).sum(), (c * m1 / n).sum()
    ratio = NOTHING
    if top > 0 and bottom > 0:
        spread = ((m1 * m2 * (a + c) - a * c * n) / n**2).sum() / (top * bottom)
        ratio = _around_log(top / bottom, max(spread, 0.0), z)
    weight = m1 * m2 / n
    gap = ((a * m2 - c * m1) / n).sum() / weight.sum()
    p_part = (m1**2 * c - m2**2 * a + m1 * m2 * (m2 - m1) / 2) / n**2
    q_part = (a * (m2 - c) + c * (m1 - a)) / (2 * n)
    half = z * np.sqrt(max((gap * p_part.sum() + q_part.sum()) / weight.sum() ** 2, 0.0))
    difference = Interval(np.array(gap), np.array(gap - half), np.array(gap + half))
    expected = m1 * (a + c) / n
    variance = np.where(n > 1, m1 * m2 * (a + c) * (b + d) / (n**2 * np.maximum(n - 1, 1)), 0).sum()
    p = float(distributions.chi_squared_tail((a.sum() - expected.sum()) ** 2 / variance, 1)) if variance > 0 else 1.0
    return Pooled(odds, ratio, difference, p, _alike(a, m1, m2, a + c, float(odds.value)))


def weighted(
    codes: NDArray[np.int64],
    k: int,
    inside: NDArray[np.bool_],
    counted: NDArray,
    weights: NDArray,
    confidence: float = 0.95,
) -> Pooled:
    """The same of rows that have weights: the estimates from weighted counts, their variances linearised.

    Each estimate is a ratio of sums over strata; a row moves it by its weight times the derivative, and the sum of
    squares of what all rows do is its variance (Binder 1983). Whether strata are alike is not tested.

    Parameters
    ----------
    codes : stratum of each row, shape (n,). inside : whether it is in the group. counted : 1 where it is counted.
    """
    z = normal_quantile(confidence)
    first, second = (np.bincount(codes, weights * side, k) for side in (inside, ~inside))
    kept = ((first > 0) & (second > 0))[codes]
    if not kept.any():
        return Pooled(NOTHING, NOTHING, NOTHING, float("nan"), float("nan"))
    codes, inside, y, w = codes[kept], inside[kept], counted[kept].astype(float), weights[kept]
    a, b, c, d = (np.bincount(codes, w * side * what, k) for side in (inside, ~inside) for what in (y, 1 - y))
    # the four cells by stratum; where a stratum is empty nothing is added
    n = a + b + c + d
    n = np.where(n > 0, n, 1.0)
    # of each row, which cell it is in
    cell = np.where(inside, np.where(y > 0, 0, 1), np.where(y > 0, 2, 3))

    def moved(parts: list[NDArray[np.float64]]) -> NDArray[np.float64]:
        """What each row does to a sum over strata, from its derivatives by the four cells, each (k,)."""
        return w * np.stack(parts)[cell, codes]

    def of_ratio(top: float, bottom: float, up: NDArray, down: NDArray) -> Interval:
        if not (top > 0 and bottom > 0):
            return NOTHING
        return _around_log(top / bottom, float(((up / top - down / bottom) ** 2).sum()), z)

    m1, m2 = a + b, c + d
    r, s = a * d / n, b * c / n
    odds = of_ratio(
        r.sum(), s.sum(),
        moved([(d - r) / n, -r / n, -r / n, (a - r) / n]), moved([-s / n, (c - s) / n, (b - s) / n, -s / n]),
    )  # fmt: skip
    t, u = a * m2 / n, c * m1 / n
    dt = moved([(m2 - t) / n, -t / n, (a - t) / n, (a - t) / n])
    du = moved([(c - u) / n, (c - u) / n, (m1 - u) / n, -u / n])
    ratio = of_ratio(t.sum(), u.sum(), dt, du)
    share = m1 * m2 / n
    dshare = moved([(m2 - share) / n, (m2 - share) / n, (m1 - share) / n, (m1 - share) / n])
    gap = (t - u).sum() / share.sum()
    error = float(np.sqrt((((dt - du) - gap * dshare) ** 2).sum()) / share.sum())
    p = float(2 * distributions.normal_tail(abs(gap) / error)) if error > 0 else 1.0
    return Pooled(
        odds, ratio, Interval(np.array(gap), np.array(gap - z * error), np.array(gap + z * error)), p, float("nan")
    )


def _odds(a, b, c, d, n, r, s, z: float) -> Interval:
    if not (r.sum() > 0 and s.sum() > 0):
        return NOTHING
    p, q = (a + d) / n, (b + c) / n
    spread = (
        (p * r).sum() / (2 * r.sum() ** 2)
        + (p * s + q * r).sum() / (2 * r.sum() * s.sum())
        + (q * s).sum() / (2 * s.sum() ** 2)
    )
    return _around_log(r.sum() / s.sum(), spread, z)


def _around_log(value: float, variance: float, z: float) -> Interval:
    step = np.exp(z * np.sqrt(variance))
    return Interval(np.array(value), np.array(value / step), np.array(value * step))


def _alike(a, m1, m2, t, odds: float) -> float:
    """Whether the strata's odds ratios are alike; NaN with a single stratum that says something."""
    if not np.isfinite(odds):
        return float("nan")
    # the count expected under the pooled odds ratio solves a quadratic
    u, v, w = 1 - odds, m2 - t + odds * (m1 + t), -odds * m1 * t
    root = np.sqrt(np.maximum(v * v - 4 * u * w, 0))
    fitted = -w / v if abs(u) < 1e-12 else (-v + root) / (2 * u)
    with np.errstate(divide="ignore", invalid="ignore"):
        variance = 1 / (1 / fitted + 1 / (m1 - fitted) + 1 / (t - fitted) + 1 / (m2 - t + fitted))
    told = np.isfinite(variance) & (variance > 1e-12)
    if told.sum() < 2:
        return float("nan")
    off, variance = (a - fitted)[told], variance[told]
    statistic = (off**2 / variance).sum() - off.sum() ** 2 / variance.sum()
    return float(distributions.chi_squared_tail(max(statistic, 0.0), told.sum() - 1))


def pooled_means(
    mean1: NDArray,
    error1: NDArray,
    n1: NDArray,
    mean2: NDArray,
    error2: NDArray,
    n2: NDArray,
    confidence: float,
    told: NDArray[np.bool_] | None = None,
) -> tuple[Interval, float]:
    """The difference of means over strata, each weighted by n1·n2/(n1+n2), with its p-value; arrays (strata,).

    ``n1``, ``n2``: rows, or their weights; ``told``: strata with two rows on each side at least.
    """
    kept = (n1 > 1) & (n2 > 1) if told is None else told
    if not kept.any():
        return NOTHING, float("nan")
    weight = (n1[kept] * n2[kept]) / (n1[kept] + n2[kept])
    weight = weight / weight.sum()
    gap = float(weight @ (mean1[kept] - mean2[kept]))
    error = float(np.sqrt((weight**2) @ (error1[kept] ** 2 + error2[kept] ** 2)))
    half = normal_quantile(confidence) * error
    p = float(2 * distributions.normal_tail(abs(gap) / error)) if error > 0 else float(gap == 0)
    return Interval(np.array(gap), np.array(gap - half), np.array(gap + half)), p
