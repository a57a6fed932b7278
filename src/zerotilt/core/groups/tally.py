"""Counts and sums of rows by group, in one pass each; tallies of parts of the rows add up."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.groups.readout import Readout, ranked_by
from zerotilt.core.membership import Grouping

Floats = NDArray[np.float64]
CELLS = 8
"""y + 2·d + 4·favoured"""


@dataclass(frozen=True)
class Tally:
    """Of k groups: ``rows`` (k,); ``cells`` (lenses, k, 8, 3) with rows, Σw and Σw² of each cell; ``sums`` (k, 2) with Σw
    and Σw²; ``moments`` (means, k, 5) with Σwv, Σwv², Σwv³, Σw²v, Σw²v² of v less its group's ``centre`` (means, k).

    Rows that weigh nothing are not counted. Each group has a centre near its own mean, so that groups far apart, and
    values far from zero, keep their digits.
    """

    rows: NDArray[np.int64]
    cells: Floats
    sums: Floats
    moments: Floats
    centre: Floats

    def __add__(self, other: Tally) -> Tally:
        """The same groups with more rows."""
        with np.errstate(invalid="ignore", divide="ignore"):
            mass = self.sums[:, 0] + other.sums[:, 0]
            share = np.where(mass > 0, other.sums[:, 0] / np.where(mass > 0, mass, 1), 0.0)
        to = self.centre + (other.centre - self.centre) * share
        parts = (_about(one.moments, one.sums, one.centre - to) for one in (self, other))
        return Tally(self.rows + other.rows, self.cells + other.cells, self.sums + other.sums, sum(parts), to)

    def others(self) -> Tally:
        """For each group all other groups together. They are added up, never taken off the whole, which would leave
        rounding errors where nothing is left."""
        k = len(self.rows)
        rest = 1.0 - np.eye(k)
        mass = rest @ self.sums[:, 0]
        shares = rest * self.sums[:, 0] / np.where(mass > 0, mass, 1)[:, None]
        to = self.centre @ shares.T
        moments = np.empty_like(self.moments)
        for g in range(k):
            kept = np.flatnonzero(rest[g])
            shift = self.centre[:, kept] - to[:, g : g + 1]
            moments[:, g] = _about(self.moments[:, kept], self.sums[kept], shift).sum(axis=1)
        return Tally(
            (rest @ self.rows).round().astype(np.int64),
            np.einsum("gh,lhcj->lgcj", rest, self.cells),
            rest @ self.sums,
            moments,
            to,
        )


def _about(moments: Floats, sums: Floats, shift: Floats) -> Floats:
    """Moments about a point ``shift`` below the one they are about; (means, k, 5), (k, 2) and (means, k)."""
    w, square = sums.T
    first, second, third, of_squares, of_squares_twice = np.moveaxis(moments, 2, 0)
    return np.stack(
        [
            first + shift * w,
            second + 2 * shift * first + shift**2 * w,
            third + 3 * shift * second + 3 * shift**2 * first + shift**3 * w,
            of_squares + shift * square,
            of_squares_twice + 2 * shift * of_squares + shift**2 * square,
        ],
        axis=2,
    )


@dataclass(frozen=True)
class Packed:
    """A readout as the plain arrays that the kernels take."""

    cells: NDArray[np.int8]
    values: Floats
    weights: Floats

    @classmethod
    def of(cls, readout: Readout, n: int) -> Packed:
        return cls(
            np.array([lens.cells for lens in readout.lenses], np.int8).reshape(len(readout.lenses), n),
            np.array(list(readout.means.values())).reshape(len(readout.means), n),
            np.empty(0) if readout.weights is None else readout.weights,
        )


def count(packed: Packed, codes: NDArray[np.int64], k: int) -> Tally:
    """Tally rows by ``codes`` (n,) into k groups."""
    return Tally(*_count(codes, packed.cells, packed.values, packed.weights, k))


def count_groups(packed: Packed, grouping: Grouping, outside: bool) -> tuple[Tally, Tally | None]:
    """Tally every group; with ``outside`` also, for each, the rows that are not in it."""
    if grouping.codes is not None:
        found = count(packed, grouping.codes, len(grouping.labels))
        return found, found.others() if outside else None
    pairs = [count(packed, mask.astype(np.int64), 2) for mask in grouping.apart]
    return _joined(pairs, 1), _joined(pairs, 0) if outside else None


def _joined(pairs: list[Tally], side: int) -> Tally:
    def pick(name: str, axis: int) -> NDArray:
        return np.stack([np.take(getattr(one, name), side, axis=axis) for one in pairs], axis=axis)

    return Tally(pick("rows", 0), pick("cells", 1), pick("sums", 0), pick("moments", 1), pick("centre", 1))


@njit(cache=True, nogil=True)
def _count(codes, cells, values, weights, k):
    lenses, means = cells.shape[0], values.shape[0]
    rows = np.zeros(k, np.int64)
    found = np.zeros((lenses, k, 8, 3))
    sums = np.zeros((k, 2))
    weighted = len(weights) > 0
    for i in range(len(codes)):
        g = codes[i]
        w = weights[i] if weighted else 1.0
        if w <= 0.0:
            continue
        rows[g] += 1
        sums[g, 0] += w
        sums[g, 1] += w * w
        for a in range(lenses):
            at = cells[a, i]
            found[a, g, at, 0] += 1.0
            if weighted:
                found[a, g, at, 1] += w
                found[a, g, at, 2] += w * w
            else:
                found[a, g, at, 1] += 1.0
                found[a, g, at, 2] += 1.0
    centre = np.zeros((means, k))
    for m in range(means):
        own, column = centre[m], values[m]
        for i in range(len(codes)):
            own[codes[i]] += column[i] * (weights[i] if weighted else 1.0)
    for g in range(k):
        for m in range(means):
            centre[m, g] = centre[m, g] / sums[g, 0] if sums[g, 0] > 0 else 0.0
    moments = np.zeros((means, k, 5))
    for m in range(means):
        own, middle, column = moments[m], centre[m], values[m]
        for i in range(len(codes)):
            g = codes[i]
            w = weights[i] if weighted else 1.0
            if w <= 0.0:
                continue
            v = column[i] - middle[g]
            own[g, 0] += w * v
            own[g, 1] += w * v * v
            own[g, 2] += w * v * v * v
            own[g, 3] += w * w * v
            own[g, 4] += w * w * v * v
    return rows, found, sums, moments, centre


@dataclass(frozen=True)
class Ranked:
    """Rows in the order of their scores, so that the areas of any groups take one pass."""

    order: NDArray[np.int64]
    ends: NDArray[np.bool_]
    """Whether the next row in this order has another score."""
    happened: NDArray[np.bool_]
    weights: Floats

    @classmethod
    def of(
        cls,
        scores: Floats,
        happened: NDArray[np.bool_],
        weights: Floats | None,
        ranking: tuple[NDArray[np.int64], NDArray[np.bool_]] | None = None,
    ) -> Ranked:
        """``ranking``: order and ends, where they are known."""
        order, ends = ranking or ranked_by(scores)
        return cls(order, ends, happened[order], np.empty(0) if weights is None else weights[order])


@dataclass(frozen=True)
class Areas:
    """Of k groups, shapes (k,): AUC, its variance (DeLong et al. 1988; with weights linearised), effective rows with and
    without the event."""

    value: Floats
    variance: Floats
    with_event: Floats
    without: Floats


def areas(ranked: Ranked, codes: NDArray[np.int64], k: int) -> Areas:
    """The AUC of every group; NaN where one of the classes has no rows."""
    sums = _areas(codes[ranked.order], ranked.ends, ranked.happened, ranked.weights, k)
    with np.errstate(invalid="ignore", divide="ignore"):
        # each (2, k): without and with the event
        mass, square, first, of_squares, of_squares_twice, count = np.moveaxis(sums, 2, 0)
        mean = first / mass
        rows = mass**2 / square
        left = (of_squares_twice - 2 * mean * of_squares + mean**2 * square).clip(0) / mass**2
        # nothing can be said about the spread of fewer than two rows
        variance = np.where(count > 1, left * count / np.maximum(count - 1, 1), 0.0)
    return Areas(mean[1], variance.sum(axis=0), rows[1], rows[0])


@njit(cache=True, nogil=True)
def _areas(codes, ends, happened, weights, k):
    n = len(codes)
    total = np.zeros((2, k))
    for i in range(n):
        total[1 if happened[i] else 0, codes[i]] += weights[i] if len(weights) else 1.0
    below, tied = np.zeros((2, k)), np.zeros((2, k))
    found = np.zeros((2, k, 6))
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
            if total[other, g] <= 0 or w <= 0:
                continue
            share = (below[other, g] + tied[other, g] / 2) / total[other, g]
            v = share if side == 1 else 1 - share
            found[side, g, 0] += w
            found[side, g, 1] += w * w
            found[side, g, 2] += w * v
            found[side, g, 3] += w * w * v
            found[side, g, 4] += w * w * v * v
            found[side, g, 5] += 1.0
        for i in range(start, end + 1):
            g, side = codes[i], 1 if happened[i] else 0
            below[side, g] += weights[i] if len(weights) else 1.0
            tied[0, g] = 0.0
            tied[1, g] = 0.0
        start = end + 1
    return found
