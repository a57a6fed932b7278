"""Walks from one row to another through a sum of linear terms: of each step only its own columns' terms change."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray


@njit(cache=True, nogil=True)
def walk(cases, others, case, other, orders, start, columns, coefficients, base, out):
    """Sums along walks, into out (m, p + 1, k); the columns of player j are ``columns[start[j]:start[j + 1]]``."""
    for m in range(len(case)):
        a, b = cases[case[m]], others[other[m]]
        for k in range(out.shape[2]):
            out[m, 0, k] = base[k]
        for c in range(len(coefficients)):
            for k in range(out.shape[2]):
                out[m, 0, k] += b[c] * coefficients[c, k]
        for s in range(orders.shape[1]):
            j = orders[m, s]
            for k in range(out.shape[2]):
                out[m, s + 1, k] = out[m, s, k]
            for i in range(start[j], start[j + 1]):
                c = columns[i]
                if a[c] != b[c]:
                    for k in range(out.shape[2]):
                        out[m, s + 1, k] += (np.float64(a[c]) - np.float64(b[c])) * coefficients[c, k]


def by_player(owner: NDArray[np.integer], players: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Encoded columns in the order of the raw columns they stem from, and where those of each begin, shape (players + 1,)."""
    columns = np.argsort(owner, kind="stable")
    return np.searchsorted(owner[columns], np.arange(players + 1)), columns
