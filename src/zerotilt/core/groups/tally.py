"""Counts and sums of rows by group, in one pass each; tallies of parts of the rows add up."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.groups.membership import Grouping
from zerotilt.core.groups.readout import Readout

Floats = NDArray[np.float64]
CELLS = 8
"""y + 2·d + 4·favoured"""


@dataclass(frozen=True)
class Tally:
    """Of k groups: ``rows`` (k,); ``cells`` (lenses, k, 8, 3) with rows, Σw and Σw² of each cell;
    ``sums`` (k, 2) with Σw and Σw²; ``moments`` (means, k, 3) with Σwv, Σwv², Σwv³ of v less its ``centre`` (means,).
    """

    rows: NDArray[np.int64]
    cells: Floats
    sums: Floats
    moments: Floats
    centre: Floats

    def __add__(self, other: Tally) -> Tally:
        return self._with(other, 1)

    def __sub__(self, other: Tally) -> Tally:
        return self._with(other, -1)

    def _with(self, other: Tally, sign: int) -> Tally:
        if not np.array_equal(self.centre, other.centre):
            raise ValueError("tallies about different centres do not add up")
        pairs = (
            (self.rows, other.rows),
            (self.cells, other.cells),
            (self.sums, other.sums),
            (self.moments, other.moments),
        )
        return Tally(*(a + sign * b for a, b in pairs), self.centre)

    def whole(self) -> Tally:
        """All groups together, once for each group."""
        k = len(self.rows)

        def total(values: NDArray, axis: int) -> NDArray:
            return np.repeat(values.sum(axis=axis, keepdims=True), k, axis=axis)

        return Tally(
            total(self.rows, 0), total(self.cells, 1), total(self.sums, 0), total(self.moments, 1), self.centre
        )


def centre(readout: Readout) -> Floats:
    """A point near the middle of every mean, about which moments keep their digits."""
    return np.array([float(values.mean()) if len(values) else 0.0 for values in readout.means.values()])


@dataclass(frozen=True)
class Packed:
    """A readout as the plain arrays that the kernels take."""

    cells: NDArray[np.int8]
    values: Floats
    centre: Floats
    weights: Floats

    @classmethod
    def of(cls, readout: Readout, n: int) -> Packed:
        return cls(
            np.array([lens.cells for lens in readout.lenses], np.int8).reshape(len(readout.lenses), n),
            np.array(list(readout.means.values())).reshape(len(readout.means), n),
            centre(readout),
            np.empty(0) if readout.weights is None else readout.weights,
        )


def count(packed: Packed, codes: NDArray[np.int64], k: int) -> Tally:
    """Tally rows by ``codes`` (n,) into k groups."""
    rows, cells, sums, moments = _count(codes, packed.cells, packed.values, packed.centre, packed.weights, k)
    return Tally(rows, cells, sums, moments, packed.centre)


def count_groups(packed: Packed, grouping: Grouping, outside: bool) -> tuple[Tally, Tally | None]:
    """Tally every group; with ``outside`` also, for each, the rows that are not in it."""
    if grouping.codes is not None:
        found = count(packed, grouping.codes, len(grouping.labels))
        return found, found.whole() - found if outside else None
    pairs = [count(packed, mask.astype(np.int64), 2) for mask in grouping.masks]
    return _joined(pairs, 1), _joined(pairs, 0) if outside else None


def _joined(pairs: list[Tally], side: int) -> Tally:
    def pick(name: str, axis: int) -> NDArray:
        return np.stack([np.take(getattr(one, name), side, axis=axis) for one in pairs], axis=axis)

    return Tally(pick("rows", 0), pick("cells", 1), pick("sums", 0), pick("moments", 1), pairs[0].centre)


@njit(cache=True, nogil=True)
def _count(codes, cells, values, middle, weights, k):
    lenses, means = cells.shape[0], values.shape[0]
    rows = np.zeros(k, np.int64)
    found = np.zeros((lenses, k, 8, 3))
    sums = np.zeros((k, 2))
    moments = np.zeros((means, k, 3))
    weighted = len(weights) > 0
    for i in range(len(codes)):
        g = codes[i]
        w = weights[i] if weighted else 1.0
        rows[g] += 1
        sums[g, 0] += w
        sums[g, 1] += w * w
        for a in range(lenses):
            at = cells[a, i]
            found[a, g, at, 0] += 1.0
            if weighted:
                found[a, g, at, 1] += w
                found[a, g, at, 2] += w * w
        for m in range(means):
            v = values[m, i] - middle[m]
            moments[m, g, 0] += w * v
            moments[m, g, 1] += w * v * v
            moments[m, g, 2] += w * v * v * v
    if not weighted:
        found[:, :, :, 1] = found[:, :, :, 0]
        found[:, :, :, 2] = found[:, :, :, 0]
    return rows, found, sums, moments


@dataclass(frozen=True)
class Ranked:
    """Rows in the order of their scores, so that the areas of any groups take one pass."""

    order: NDArray[np.int64]
    ends: NDArray[np.bool_]
    """Whether the next row in this order has another score."""
    happened: NDArray[np.bool_]
    weights: Floats

    @classmethod
    def of(cls, scores: Floats, happened: NDArray[np.bool_], weights: Floats | None) -> Ranked:
        order = np.argsort(scores, kind="stable")
        ends = np.append(scores[order][1:] != scores[order][:-1], True)
        return cls(order, ends, happened[order], np.empty(0) if weights is None else weights[order])


@dataclass(frozen=True)
class Areas:
    """Of k groups, shapes (k,): AUC, its variance (DeLong et al. 1988), effective rows with and without the event."""

    value: Floats
    variance: Floats
    with_event: Floats
    without: Floats


def areas(ranked: Ranked, codes: NDArray[np.int64], k: int) -> Areas:
    """The AUC of every group; NaN where one of the classes has no rows."""
    sums = _areas(codes[ranked.order], ranked.ends, ranked.happened, ranked.weights, k)
    with np.errstate(invalid="ignore", divide="ignore"):
        mass, square, first, second = np.moveaxis(sums, 2, 0)  # each (2, k): without and with the event
        mean = first / mass
        rows = mass**2 / square
        # nothing can be said about the spread of fewer than two rows
        variance = np.where(rows > 1, (second / mass - mean**2).clip(0) / np.maximum(rows - 1, 1e-9), 0.0)
    return Areas(mean[1], variance.sum(axis=0), rows[1], rows[0])


@njit(cache=True, nogil=True)
def _areas(codes, ends, happened, weights, k):
    n = len(codes)
    total = np.zeros((2, k))
    for i in range(n):
        total[1 if happened[i] else 0, codes[i]] += weights[i] if len(weights) else 1.0
    below, tied = np.zeros((2, k)), np.zeros((2, k))
    found = np.zeros((2, k, 4))
    start = 0
    for end in range(n):
        if not ends[end]:
            continue
        for i in range(start, end + 1):
            tied[1 if happened[i] else 0, codes[i]] += weights[i] if len(weights) else 1.0
        for i in range(start, end + 1):
            g, w = codes[i], weights[i] if len(weights) else 1.0
            side = 1 if happened[i] else 0
            other = 1 - side
            if total[other, g] <= 0:
                continue
            share = (below[other, g] + tied[other, g] / 2) / total[other, g]
            v = share if side == 1 else 1 - share
            found[side, g, 0] += w
            found[side, g, 1] += w * w
            found[side, g, 2] += w * v
            found[side, g, 3] += w * v * v
        for i in range(start, end + 1):
            g, side = codes[i], 1 if happened[i] else 0
            below[side, g] += weights[i] if len(weights) else 1.0
            tied[0, g] = 0.0
            tied[1, g] = 0.0
        start = end + 1
    return found
