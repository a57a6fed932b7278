"""Ends of intervals where a score test just does not refuse: compiled, many at once."""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

STEPS = 48


"""Halvings in search of an interval's end."""


@njit(cache=True, nogil=True)
def _score_of_difference(x1, n1, x2, n2, d):
    """(p̂1 − p̂2 − d) over its standard error under the difference d."""
    size, r1, r2 = n2 / n1, x1 / n1, x2 / n2
    a, b = 1 + size, -(1 + size + r1 + size * r2 + d * (size + 2))
    c, e = d * d + d * (2 * r1 + size + 1) + r1 + size * r2, -r1 * d * (1 + d)
    v = (b / (3 * a)) ** 3 - b * c / (6 * a * a) + e / (2 * a)
    u = math.sqrt(max((b / (3 * a)) ** 2 - c / (3 * a), 0.0)) * (-1.0 if v < 0 else 1.0)
    turn = (math.pi + math.acos(min(max(v / u**3, -1.0), 1.0) if u != 0 else 0.0)) / 3
    p1 = min(max(2 * u * math.cos(turn) - b / (3 * a), 0.0), 1.0)
    p2 = min(max(p1 - d, 0.0), 1.0)
    return _in_errors(r1 - r2 - d, p1 * (1 - p1) / n1 + p2 * (1 - p2) / n2)


@njit(cache=True, nogil=True)
def _score_of_ratio(x1, n1, x2, n2, ratio):
    """(p̂1 − ratio·p̂2) over its standard error under the ratio."""
    a, b, c = (n1 + n2) * ratio, -(ratio * (n1 + x2) + x1 + n2), x1 + x2
    p2 = min(max((-b - math.sqrt(max(b * b - 4 * a * c, 0.0))) / (2 * a), 0.0), 1.0)
    p1 = min(max(ratio * p2, 0.0), 1.0)
    return _in_errors(x1 / n1 - ratio * x2 / n2, p1 * (1 - p1) / n1 + ratio**2 * p2 * (1 - p2) / n2)


@njit(cache=True, nogil=True)
def _score_of_area(value, true, n1, n0):
    """How far an AUC is from a true one in the standard errors that the true one implies (Hanley & McNeil 1982)."""
    rows = (n1 + n0) / 2 - 1
    spread = true * (1 - true) * (1 + rows * (1 - true) / (2 - true) + rows * true / (1 + true))
    return _in_errors(value - true, spread / max(n1 * n0, 1.0))


@njit(cache=True, nogil=True)
def _in_errors(gap, variance):
    """A gap in standard errors; endless where there is a gap and no spread."""
    spread = math.sqrt(max(variance, 0.0))
    if spread > 1e-12:
        return gap / spread
    return 0.0 if abs(gap) <= 1e-12 else math.copysign(math.inf, gap)


@njit(cache=True, nogil=True)
def mee_end(x1, n1, x2, n2, wanted):
    low, high = -1.0, 1.0
    for _ in range(STEPS):
        middle = (low + high) / 2
        if _score_of_difference(x1, n1, x2, n2, middle) > wanted:
            low = middle
        else:
            high = middle
    return (low + high) / 2


@njit(cache=True, nogil=True)
def koopman_end(x1, n1, x2, n2, wanted):
    low, high = -18.0, 18.0  # of the logarithm
    for _ in range(STEPS):
        middle = (low + high) / 2
        if _score_of_ratio(x1, n1, x2, n2, math.exp(middle)) > wanted:
            low = middle
        else:
            high = middle
    return math.exp((low + high) / 2)


@njit(cache=True, nogil=True)
def area_end(value, n1, n0, unused, wanted):
    low, high = 0.0, 1.0
    for _ in range(STEPS):
        middle = (low + high) / 2
        if _score_of_area(value, middle, n1, n0) > wanted:
            low = middle
        else:
            high = middle
    return (low + high) / 2


def ends_of(end, sides, z: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Where the score crosses z and −z, element by element."""
    flat = [np.ascontiguousarray(side, float).ravel() for side in sides]
    low, high = np.empty((2, len(flat[0])))
    for i, cells in enumerate(zip(*flat, strict=True)):
        low[i], high[i] = end(*cells, z), end(*cells, -z)
    return low.reshape(np.shape(sides[0])), high.reshape(np.shape(sides[0]))


def over_error(gap: NDArray, variance: NDArray) -> NDArray[np.float64]:
    """A gap in standard errors; endless where there is a gap and no spread."""
    spread = np.sqrt(np.maximum(variance, 0))
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(spread > 1e-12, gap / spread, np.where(np.abs(gap) > 1e-12, np.sign(gap) * np.inf, 0.0))
