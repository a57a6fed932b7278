"""How far two rows are apart, whatever the kinds of their columns (Gower 1971)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.predictors import Frame

BAND = (1, 99)


@dataclass(frozen=True)
class Space:
    """Scales learnt from some rows: numbers by the range of their 1–99% band, levels by being the same.

    A missing value is at distance 1 from a known one, and 0 from a missing one.
    """

    names: tuple[str, ...]
    numeric: NDArray[np.bool_]
    scale: NDArray[np.float64]
    codes: dict[str, dict[str, int]]

    def place(self, frame: Frame) -> NDArray[np.float64]:
        """Rows as numbers in which a difference of one column is at most 1, shape (rows, columns); NaN is missing."""
        out = np.empty((frame.rows, len(self.names)))
        for j, name in enumerate(self.names):
            values = frame[name]
            if self.numeric[j]:
                out[:, j] = values / self.scale[j] if self.scale[j] else np.where(np.isfinite(values), 0.0, np.nan)
            else:
                # levels that the scales were not learnt from are like themselves alone
                known = dict(self.codes[name])
                out[:, j] = [np.nan if value == "" else known.setdefault(value, len(known)) for value in values]
        return out


def space(frame: Frame) -> Space:
    """Learn scales from rows."""
    numeric = np.array([frame[name].dtype.kind == "f" for name in frame.names], dtype=bool)
    scale = np.ones(len(frame.names))
    codes: dict[str, dict[str, int]] = {}
    for j, name in enumerate(frame.names):
        values = frame[name]
        if numeric[j]:
            known = values[np.isfinite(values)]
            low, high = np.percentile(known, BAND) if len(known) else (0.0, 0.0)
            scale[j] = high - low or (np.ptp(known) if len(known) else 0.0)
        else:
            codes[name] = {value: i for i, value in enumerate(sorted(set(values.tolist())))}
    return Space(frame.names, numeric, scale, codes)


@njit(cache=True, nogil=True)
def _nearest(real, asked, numeric, own, near, which):
    """Distance to the nearest real row and its number; where ``own``, a row is not its own neighbour."""
    p = real.shape[1]
    for i in range(len(asked)):
        best, at = np.inf, -1
        for r in range(len(real)):
            if own and r == i:
                continue
            total = 0.0
            for j in range(p):
                a, b = asked[i, j], real[r, j]
                if a != a or b != b:
                    total += 0.0 if (a != a) and (b != b) else 1.0
                elif numeric[j]:
                    total += 0.0 if a == b else min(abs(a - b), 1.0)  # two endless values are alike
                elif a != b:
                    total += 1.0
                if total >= best:
                    break
            if total < best:
                best, at = total, r
        near[i], which[i] = best / p, at


def nearest(where: Space, real: Frame, asked: Frame | None = None) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Distance of each asked row to the nearest real one, 0 to 1, and which it is; of the real rows among themselves when None.

    Both of shape (asked rows,).
    """
    placed = where.place(real)
    return nearest_placed(where, placed, placed if asked is None else where.place(asked), asked is None)


def nearest_placed(
    where: Space, real: NDArray[np.float64], asked: NDArray[np.float64], own: bool = False
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """The same of rows that are placed already; where ``own``, a row is not its own neighbour."""
    near, which = np.empty(len(asked)), np.empty(len(asked), np.int64)
    _nearest(real, asked, where.numeric, own, near, which)
    return near, which


def distances(where: Space, real: Frame, one: Frame) -> NDArray[np.float64]:
    """Distance of every real row from one row, shape (rows,)."""
    a, b = where.place(real), where.place(one)[0]
    with np.errstate(invalid="ignore"):
        off = np.where(where.numeric & (a != b), np.minimum(np.abs(a - b), 1.0), (a != b).astype(float))
    absent = np.isnan(a) | np.isnan(b)
    off = np.where(absent, (np.isnan(a) != np.isnan(b)).astype(float), off)
    return off.mean(axis=1)
