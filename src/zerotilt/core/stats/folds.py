"""Means over folds: they share most of their training rows, so that their plain spread says too little."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.stats import distributions
from zerotilt.core.stats.intervals import Interval

FEWEST = 4
"""Folds by which differences are told."""
ROUNDING = 1e-9
"""Spreads below this share of the values come of rounding."""


def over_folds(values: NDArray[np.float64], sizes: NDArray[np.float64], confidence: float = 0.95) -> Interval:
    """The mean of k folds with the corrected resampled interval (Nadeau & Bengio 2003).

    The variance of the mean is s²(1/k + n₂/n₁), n₂ the share of the rows that a fold holds and n₁ the rest, on which was
    trained; Student's distribution with k − 1 degrees of freedom. NaN ends where fewer than two folds say anything, or all
    say the same: how far they would vary is then not known.

    Parameters
    ----------
    values : of each fold, shape (k,); NaN where it says nothing. sizes : rows of each fold, shape (k,).
    """
    known = np.isfinite(values)
    found = values[known]
    if not len(found):
        return Interval(*(np.array(np.nan) for _ in range(3)))
    mean = float(np.average(found, weights=sizes[known]))
    error = corrected_error(found, sizes, known) if len(found) > 1 else 0.0
    if not error:
        return Interval(np.array(mean), np.array(np.nan), np.array(np.nan))
    half = _quantile(0.5 + confidence / 2, len(found) - 1) * error
    return Interval(np.array(mean), np.array(mean - half), np.array(mean + half))


@lru_cache(maxsize=64)
def _quantile(chance: float, freedom: int) -> float:
    """The same few are asked for again and again."""
    return float(distributions.t_quantile(chance, freedom))


def corrected_error(found: NDArray[np.float64], sizes: NDArray[np.float64], known: NDArray[np.bool_]) -> float:
    """The standard error of the mean of folds, what they share taken into account; 0 where all say the same."""
    spread = float(found.std(ddof=1))
    if spread <= ROUNDING * float(np.abs(found).max(initial=0.0)):
        return 0.0
    held = float(sizes[known].mean() / max(sizes.sum() - sizes[known].mean(), 1))
    return spread * float(np.sqrt(1 / len(found) + held))


def told_apart(
    gaps: NDArray[np.float64], sizes: NDArray[np.float64], confidence: float = 0.95
) -> tuple[Interval, float | None]:
    """The mean difference of two candidates on the same folds, and the two-sided p-value that there is none.

    Neither ends nor p where it cannot be told: fewer than four folds tell twice as often apart what is alike as they
    should. Folds that all say the same do not say how far they vary, so that there are no ends; p is that of their sign.
    """
    span = over_folds(gaps, sizes, confidence)
    known = np.isfinite(gaps)
    if known.sum() < FEWEST:
        return Interval(span.value, np.array(np.nan), np.array(np.nan)), None
    error = corrected_error(gaps[known], sizes, known)
    if not error:
        return span, 2.0 ** (1 - int(known.sum())) if float(span.value) else None
    t = abs(float(span.value)) / error
    return span, float(2 * distributions.t_tail(t, int(known.sum()) - 1))
