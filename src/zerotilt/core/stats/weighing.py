"""Means, spreads and quantiles of rows that have weights; without weights every row counts once."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def mean(values: NDArray, weights: Floats) -> Floats:
    """Weighted mean over the first axis; the plain one, to the last digit, where all weigh the same."""
    if (weights == weights[0]).all():
        return np.asarray(values, float).mean(axis=0)
    return np.tensordot(weights / weights.sum(), values, axes=(0, 0))


def deviation(values: NDArray, weights: Floats) -> Floats:
    """Weighted standard deviation over the first axis."""
    return np.sqrt(mean((values - mean(values, weights)) ** 2, weights))


def error(values: NDArray, weights: Floats) -> Floats:
    """Standard error of the weighted mean: √(Σ w²(x − x̄)²) / Σw, linearised (Särndal, Swensson & Wretman 1992).

    With equal weights it is s/√n. Zero where fewer than two rows count.
    """
    rows = int((weights > 0).sum())
    if rows < 2:
        return np.zeros(values.shape[1:])
    share = weights / weights.sum()
    return np.sqrt(np.tensordot(share**2, (values - mean(values, weights)) ** 2, axes=(0, 0)) * rows / (rows - 1))


def quantiles(values: NDArray, at: list[float], weights: Floats) -> Floats:
    """Weighted quantiles over the first axis, shape (len(at), …): the least value that so large a share lies at or under.

    Between two values, where the share falls exactly there, their middle (Hyndman & Fan 1996, definition 2).
    """
    flat = np.asarray(values, float).reshape(len(values), -1)
    order = np.argsort(flat, axis=0, kind="stable")
    ends = np.cumsum(weights[order], axis=0)
    ends = ends / ends[-1]
    out = np.empty((len(at), flat.shape[1]))
    for c in range(flat.shape[1]):
        ranked, end = flat[order[:, c], c], ends[:, c]
        for i, share in enumerate(at):
            low = np.searchsorted(end, share - 1e-12, "left")
            high = np.searchsorted(end, share + 1e-12, "left")
            out[i, c] = (ranked[min(low, len(end) - 1)] + ranked[min(high, len(end) - 1)]) / 2
    return out.reshape(len(at), *np.shape(values)[1:])
