"""How far two samples of one column are apart, and whether by more than chance."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.stats.distributions import chi_squared_tail, kolmogorov_tail

LEAST_EXPECTED = 5.0
"""Rows expected in a cell, under which levels are joined before they are tested (Cochran 1954)."""
INDEX_BINS = 10
LEAST_SHARE = 1e-4


class Apart(NamedTuple):
    distance: float
    """0 where both are distributed alike, 1 where they have nothing in common."""
    p: float
    """Two-sided p-value of no difference; NaN where it cannot be tested."""


def numbers(one: NDArray[np.float64], other: NDArray[np.float64]) -> Apart:
    """Largest distance of two distribution functions (Kolmogorov 1933; Smirnov 1948), missing numbers left out.

    The p-value is the asymptotic one with Stephens' (1970) correction for few rows; with ties it errs towards one.
    """
    one, other = np.sort(one[np.isfinite(one)]), np.sort(other[np.isfinite(other)])
    if not len(one) or not len(other):
        return Apart(np.nan, np.nan)
    both = np.concatenate([one, other])
    gap = np.searchsorted(one, both, "right") / len(one) - np.searchsorted(other, both, "right") / len(other)
    distance = float(np.abs(gap).max())
    scale = np.sqrt(len(one) * len(other) / (len(one) + len(other)))
    return Apart(distance, kolmogorov_tail((scale + 0.12 + 0.11 / scale) * distance))


def levels(counts: NDArray[np.int64]) -> Apart:
    """Total variation between two samples of levels, and Pearson's (1900) χ² test of them.

    Parameters
    ----------
    counts : rows of each level in both samples, shape (levels, 2). For the test the rarest levels are joined until each
        is expected in five rows of both samples.
    """
    counts = np.asarray(counts, float)
    sizes = counts.sum(axis=0)
    if (sizes == 0).any():
        return Apart(np.nan, np.nan)
    distance = float(np.abs(counts[:, 0] / sizes[0] - counts[:, 1] / sizes[1]).sum() / 2)
    return Apart(distance, chi_squared(counts))


def chi_squared(counts: NDArray) -> float:
    """p-value of independence of a table of counts, shape (levels, samples); NaN where too few rows are left to test."""
    counts = np.asarray(counts, float)
    counts = counts[:, counts.sum(axis=0) > 0]
    total = counts.sum()
    if counts.shape[1] < 2 or not total:
        return float("nan")
    smallest = counts.sum(axis=0).min() / total
    order = np.argsort(-counts.sum(axis=1), kind="stable")
    kept: list[NDArray] = []
    rest = np.zeros(counts.shape[1])
    for place in order:
        row = counts[place]
        if row.sum() * smallest >= LEAST_EXPECTED:
            kept.append(row)
        else:
            rest = rest + row
    if rest.sum() * smallest >= LEAST_EXPECTED:
        kept.append(rest)
    elif kept and rest.sum():
        kept[-1] = kept[-1] + rest
    if len(kept) < 2:
        return float("nan")
    table = np.array(kept)
    expected = np.outer(table.sum(axis=1), table.sum(axis=0)) / table.sum()
    value = float(((table - expected) ** 2 / expected).sum())
    return float(chi_squared_tail(value, (len(table) - 1) * (table.shape[1] - 1)))


def stability(one: NDArray[np.float64], other: NDArray[np.float64]) -> float:
    """Population stability index of two shares of the same bins, Σ(pᵢ − qᵢ) ln(pᵢ/qᵢ); empty bins count as 0.01%."""
    p, q = np.maximum(one / max(one.sum(), 1), LEAST_SHARE), np.maximum(other / max(other.sum(), 1), LEAST_SHARE)
    return float(((p - q) * np.log(p / q)).sum())


def binned(one: NDArray[np.float64], other: NDArray[np.float64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Rows of two samples of numbers in ten bins of the first one's equal counts; missing is a bin of its own."""
    known = one[np.isfinite(one)]
    edges = np.unique(np.quantile(known, np.arange(1, INDEX_BINS) / INDEX_BINS)) if len(known) else np.empty(0)
    counts = []
    for values in (one, other):
        codes = np.where(np.isfinite(values), np.searchsorted(edges, values, "right"), len(edges) + 1)
        counts.append(np.bincount(codes, minlength=len(edges) + 2))
    return counts[0], counts[1]
