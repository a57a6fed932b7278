"""Comparisons within strata, pooled (Mantel & Haenszel 1959)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy import stats

from zerotilt.core.groups.intervals import Interval, normal_quantile

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
    p = float(stats.chi2.sf((a.sum() - expected.sum()) ** 2 / variance, 1)) if variance > 0 else 1.0
    return Pooled(odds, ratio, difference, p, _alike(a, m1, m2, a + c, float(odds.value)))


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
    return float(stats.chi2.sf(max(statistic, 0.0), told.sum() - 1))


def pooled_means(
    mean1: NDArray, error1: NDArray, n1: NDArray, mean2: NDArray, error2: NDArray, n2: NDArray, confidence: float
) -> tuple[Interval, float]:
    """The difference of means over strata, each weighted by n1·n2/(n1+n2), with its p-value; arrays (strata,)."""
    kept = (n1 > 1) & (n2 > 1)
    if not kept.any():
        return NOTHING, float("nan")
    weight = (n1 * n2 / np.maximum(n1 + n2, 1))[kept]
    weight = weight / weight.sum()
    gap = float(weight @ (mean1 - mean2)[kept])
    error = float(np.sqrt((weight**2) @ (error1**2 + error2**2)[kept]))
    half = normal_quantile(confidence) * error
    p = float(2 * stats.norm.sf(abs(gap) / error)) if error > 0 else float(gap == 0)
    return Interval(np.array(gap), np.array(gap - half), np.array(gap + half)), p
