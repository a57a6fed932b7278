"""Two ways of deciding the same rows: the difference of their rates, with its interval and test."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import ArrayLike, NDArray

from zerotilt.core.stats import distributions
from zerotilt.core.stats.intervals import Interval, normal_quantile

STEPS = 60


def tango(new: ArrayLike, mended: ArrayLike, n: ArrayLike, confidence: float = 0.95) -> Interval:
    """Difference of two rates of the same rows, (new − mended) / n, with the score interval (Tango 1998).

    At no difference the score is McNemar's, so that interval and :func:`mcnemar` never contradict. NaN where there are no
    rows.

    Parameters
    ----------
    new, mended : rows that count in the second way alone and in the first alone. n : all rows.
    """
    b, c, n = (np.asarray(one, float) for one in np.broadcast_arrays(new, mended, n))
    z = normal_quantile(confidence)
    with np.errstate(invalid="ignore", divide="ignore"):
        value = (b - c) / n
        first, second, whole = (np.ascontiguousarray(one).reshape(-1) for one in (b, c, n))
        low, high = (_ends(first, second, whole, side, z).reshape(b.shape) for side in (-1.0, 1.0))
    none = ~(n > 0)
    return Interval(*(np.where(none, np.nan, one) for one in (value, low, high)))


@njit(cache=True, nogil=True, error_model="numpy")
def _score(b, c, n, gap):
    """How many standard errors the observed difference lies from a gap, under the rates most likely with that gap."""
    a = 2 * n
    first = -b - c + (2 * n - b + c) * gap
    last = -c * gap * (1 - gap)
    q = (np.sqrt(max(first * first - 4 * a * last, 0.0)) - first) / (2 * a)
    spread = n * (2 * q + gap * (1 - gap))
    return (b - c - n * gap) / np.sqrt(max(spread, 1e-300))


@njit(cache=True, nogil=True, error_model="numpy")
def _ends(b, c, n, side, z):
    """Where the score passes z, by halving; between the observed difference and the end of what is possible."""
    out = np.empty(len(b))
    for i in range(len(b)):
        near, far = (b[i] - c[i]) / max(n[i], 1.0), side
        for _ in range(STEPS):
            middle = (near + far) / 2
            if abs(_score(b[i], c[i], n[i], middle)) <= z:
                near = middle
            else:
                far = middle
        out[i] = (near + far) / 2
    return out


def mcnemar(new: ArrayLike, mended: ArrayLike) -> NDArray[np.float64]:
    """Two-sided p-value that as many rows are new as mended (McNemar 1947), without correction; 1 where there are none."""
    b, c = np.asarray(new, float), np.asarray(mended, float)
    with np.errstate(invalid="ignore", divide="ignore"):
        p = 2 * distributions.normal_tail(np.abs(b - c) / np.sqrt(b + c))
    return np.where(b + c > 0, p, 1.0)
