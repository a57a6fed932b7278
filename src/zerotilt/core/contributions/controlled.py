"""Running estimates of contributions from walks, with all that is known exactly of a walk as control variates."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

FOLDS = 2
SINGULAR = 1e-10
"""Of a control's variance, what is left of it beside the others and is taken for rounding."""
UNTOLD = 0.1
"""Of a step that no draw has shown yet, what the sums may not tell."""
UNSEEN = 4.0
"""Standard errors by which the mean of a control may miss what is known of it; beyond, draws are missing."""


class Running:
    """Estimates of contributions of n rows from one background row after the other.

    Terms are y = r·d, with d the steps of one draw and r its weight. Known are
    the means of r (one) and of r·t, t the sum of a draw's steps; and where the
    output is a link of sums, the means of each feature's own steps in them,
    r·s, and of their total. All of them are control variates (Lavenberg & Welch
    1981). Coefficients come from one half of the draws and are used on the other
    (Avramidis & Wilson 1993), so that residuals are those of coefficients that
    have not seen them and the standard error stays honest. What the estimates
    then add up to is f(x) less the baseline; what is missing of it, since each
    feature has controls of its own, is spread over them by their variance.

    Parameters
    ----------
    expected : f(x) less the baseline, shape (n,). known : Shapley values of the sums, shape (n, p, sums).
    """

    def __init__(self, n: int, p: int, expected: NDArray[np.float64], known: NDArray[np.float64] | None = None):
        self.used = np.zeros(n, np.int64)
        self._expected = expected[:, None]
        self._known = known
        self._width = 3 if known is None else 3 + 2 * known.shape[2]  # y, r, r·t; own steps, totals of sums
        self._count = np.zeros((FOLDS, n), np.int64)
        self._sums = np.zeros((FOLDS, n, p, self._width))
        self._products = np.zeros((FOLDS, n, p, self._width, self._width))
        self._largest = np.zeros((n, p))
        self._steepest = np.zeros((n, 1))

    def add(
        self,
        rows: NDArray[np.intp],
        steps: NDArray,
        totals: NDArray,
        weights: NDArray,
        of_sums: NDArray | None = None,
        rise: NDArray | None = None,
    ) -> None:
        """``steps``: shape (rows, draws, p); ``totals``, ``weights``: (rows, draws); ``of_sums``: (rows, draws, p, sums);
        ``rise``: most that the output rose with the sums in one step, (rows,).
        """
        terms = self._terms(rows, steps, totals, weights, of_sums)
        half = steps.shape[1] // 2
        for fold, part in enumerate((slice(0, half), slice(half, None))):
            some = terms[:, part]
            self._count[fold, rows] += some.shape[1]
            self._sums[fold, rows] += some.sum(axis=1)
            # (n, p, width, draws) by (n, p, draws, width)
            across = some.transpose(0, 2, 3, 1)
            self._products[fold, rows] += across @ across.transpose(0, 1, 3, 2)
        self.used[rows] += steps.shape[1]
        self._note_largest(rows, terms, steps)
        if rise is not None:
            self._steepest[rows] = np.maximum(self._steepest[rows], rise[:, None])

    def _terms(self, rows, steps, totals, weights, of_sums) -> NDArray[np.float64]:
        """y, and each control less its mean, of every draw and feature, shape (rows, draws, p, width)."""
        r = weights[:, :, None]
        out = np.empty((*steps.shape, self._width))
        out[..., 0] = steps * r
        out[..., 1] = r - 1
        out[..., 2] = r * totals[:, :, None] - self._expected[rows][:, :, None]
        if self._known is not None:
            own, c = self._known[rows], self._known.shape[2]
            out[..., 3 : 3 + c] = r[..., None] * of_sums - own[:, None]
            out[..., 3 + c :] = (weights[:, :, None] * of_sums.sum(axis=2) - own.sum(axis=1)[:, None])[:, :, None]
        return out

    def _note_largest(self, rows, terms, steps) -> None:
        """How far one draw was off at most."""
        n = np.maximum(self.used[rows], 1)[:, None]
        sums = self._sums[:, rows].sum(axis=0)
        middle = sums[..., 0] / (n + sums[..., 1])
        off = np.abs(steps - middle[:, None]).max(axis=(1, 2), initial=0.0)[:, None]
        if self._known is not None:
            mean, spread = self._moments(slice(None), rows)
            gone = terms - mean[:, None]
            left = gone[..., 0] - np.einsum("ndpi,npi->ndp", gone[..., 1:], _coefficients(spread))
            off = np.maximum(UNTOLD * off, np.abs(left).max(axis=1, initial=0.0))
        self._largest[rows] = np.maximum(self._largest[rows], off)

    def _moments(self, folds: slice, rows: NDArray[np.intp]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Mean (rows, p, width) and covariance (rows, p, width, width) over the draws of some folds."""
        n = np.maximum(self._count[folds, rows].sum(axis=0), 1)[:, None, None]
        mean = self._sums[folds, rows].sum(axis=0) / n
        return mean, self._products[folds, rows].sum(axis=0) / n[..., None] - mean[..., None] * mean[..., None, :]

    def estimate(self, rows: NDArray[np.intp] | None = None) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Values and their standard errors, both (rows, p); of all rows when None."""
        rows = np.arange(len(self.used)) if rows is None else rows
        n = np.maximum(self.used[rows], 1)[:, None].astype(float)
        values, left = np.zeros((len(rows), self._sums.shape[2])), np.zeros((len(rows), self._sums.shape[2]))
        whole = [self._moments(slice(fold, fold + 1), rows) for fold in range(FOLDS)]
        for fold, (mean, spread) in enumerate(whole):
            slope = _coefficients(whole[1 - fold][1])
            share = self._count[fold, rows][:, None] / n
            values += share * (mean[..., 0] - (slope * mean[..., 1:]).sum(axis=2))
            across = np.einsum("npi,npi->np", slope, spread[..., 0, 1:])
            within = np.einsum("npi,npij,npj->np", slope, spread[..., 1:, 1:], slope)
            free = np.maximum(self._count[fold, rows][:, None] - 1, 1)
            left += share * (spread[..., 0, 0] - 2 * across + within) * (self._count[fold, rows][:, None] / free)
        # one draw as far off as any seen that was not seen yet: else a feature that matters for few background rows
        # would look exact as long as none of them was drawn
        left = np.maximum(left, 0) + self._largest[rows] ** 2 / n
        left = left + n * self._missing(rows) ** 2
        gap = self._expected[rows] - values.sum(axis=1, keepdims=True)
        whole_left = left.sum(axis=1, keepdims=True)
        by = np.where(whole_left > 0, left / np.where(whole_left > 0, whole_left, 1), 1 / values.shape[1])
        return values + by * gap, np.sqrt(left / n)

    def _missing(self, rows: NDArray[np.intp]) -> NDArray[np.float64] | float:
        """By how much the output may be off since draws are missing that what is known of the sums tells of."""
        if self._known is None:
            return 0.0
        c = self._known.shape[2]
        mean, spread = self._moments(slice(None), rows)
        n = np.maximum(self.used[rows], 1)[:, None, None]
        own = np.arange(3, 3 + c)
        off = np.abs(mean[..., own]) - UNSEEN * np.sqrt(np.maximum(spread[..., own, own], 0) / n)
        return self._steepest[rows] * np.maximum(off, 0).sum(axis=2)


def _coefficients(spread: NDArray[np.float64]) -> NDArray[np.float64]:
    """Of y on the controls, from their covariance (…, width, width); a control that the others tell gets none."""
    scale = np.sqrt(np.maximum(np.diagonal(spread, axis1=-2, axis2=-1)[..., 1:], 0))
    by = np.where(scale > 0, 1 / np.where(scale > 0, scale, 1), 0.0)
    alike = spread[..., 1:, 1:] * by[..., :, None] * by[..., None, :]
    toward = spread[..., 0, 1:] * by
    wide = alike.shape[-1]
    out = np.zeros((toward.size // max(wide, 1), wide))
    solve_all(alike.reshape(-1, wide, wide), toward.reshape(-1, wide), SINGULAR, out)
    return out.reshape(toward.shape) * by


@njit(cache=True, nogil=True)
def solve_all(a, b, least, out):
    """Solutions of many small symmetric systems, the most telling unknown first; one of which no more than ``least`` is
    left beside the others stays nought. ``a`` and ``b`` are written over.
    """
    wide = b.shape[1]
    for m in range(len(b)):
        open_ = np.ones(wide, np.bool_)
        for _ in range(wide):
            j = -1
            for i in range(wide):
                if open_[i] and (j < 0 or a[m, i, i] > a[m, j, j]):
                    j = i
            if not a[m, j, j] > least:
                break
            open_[j] = False
            for k in range(wide):
                if k != j:
                    a[m, j, k] /= a[m, j, j]
            b[m, j] /= a[m, j, j]
            for i in range(wide):
                if i != j and a[m, i, j] != 0:
                    share = a[m, i, j]
                    for k in range(wide):
                        if k != j:
                            a[m, i, k] -= share * a[m, j, k]
                    a[m, i, j] = 0.0
                    b[m, i] -= share * b[m, j]
            a[m, j, j] = 1.0
        for i in range(wide):
            if not open_[i]:
                out[m, i] = b[m, i]
