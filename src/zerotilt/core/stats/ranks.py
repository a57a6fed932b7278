"""Ranks, and how alike two orders are.

SciPy has them in its module of all distributions, which takes as long to load
as everything else that a reader loads, at every start of a worker.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

ROWS_AT_ONCE = 512


def mean_ranks(values: ArrayLike) -> NDArray[np.float64]:
    """Ranks from 1, shape (n,); equal values share the mean of theirs.

    >>> mean_ranks([30, 10, 10]).tolist()
    [3.0, 1.5, 1.5]
    """
    _, place, many = np.unique(np.asarray(values), return_inverse=True, return_counts=True)
    last = np.cumsum(many)
    return (last - (many - 1) / 2)[place]


def least_ranks(values: ArrayLike) -> NDArray[np.int64]:
    """The same where equal values share the smallest of theirs."""
    _, place, many = np.unique(np.asarray(values), return_inverse=True, return_counts=True)
    return (np.cumsum(many) - many + 1)[place]


def kendall(a: ArrayLike, b: ArrayLike) -> float:
    """Kendall's τ-b (1945): pairs in the same order less pairs in opposite order, over those that neither list ties.

    NaN where one list has no order, or holds what is not a number.
    """
    a, b = np.asarray(a, float), np.asarray(b, float)
    if np.isnan(a).any() or np.isnan(b).any():
        return float("nan")
    alike = of_a = of_b = 0
    for start in range(0, len(a), ROWS_AT_ONCE):
        part = slice(start, start + ROWS_AT_ONCE)
        first, second = (
            (one[part, None] > one).astype(np.int8) - (one[part, None] < one).astype(np.int8) for one in (a, b)
        )
        alike += int((first * second).sum(dtype=np.int64))
        of_a += int(np.count_nonzero(first))
        of_b += int(np.count_nonzero(second))
    return float("nan") if not of_a or not of_b else float(alike / np.sqrt(float(of_a) * float(of_b)))
