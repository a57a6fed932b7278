"""The densest box of every set of up to three columns, from tallies.

Rows are counted once for each set of columns, by the cells that they lie in and by the block of rows that they were
dealt to; a half of the rows is some of the blocks. Sums over any box of cells are eight look-ups in running totals, so
that what a box costs does not depend on how many rows it holds (Crow 1984).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.pockets.cells import Cells
from zerotilt.core.work import Work

Floats = NDArray[np.float64]
BEST = 2
"""Boxes kept of each set: the densest, and the densest that shares no row with it."""
SETS_AT_ONCE = 24
SECOND_FROM = 25.0
"""Squared score from which on a second box is looked for."""


@dataclass(frozen=True)
class Grid:
    """Rows by cells, for the kernel. A last column of one cell stands where a set has fewer than three."""

    codes: NDArray[np.uint8]
    """Shape (columns + 1, rows)."""
    width: NDArray[np.int64]
    runs: NDArray[np.int64]
    """Of all columns one after the other, shape (runs, 2)."""
    first: NDArray[np.int64]
    """Where the runs of each column begin, shape (columns + 2,)."""
    ends: NDArray[np.int64]

    @staticmethod
    def of(cells: list[Cells]) -> Grid:
        rows = len(cells[0].codes)
        return Grid(
            np.vstack([*(one.codes for one in cells), np.zeros(rows, np.uint8)]),
            np.array([*(one.count for one in cells), 1], np.int64),
            np.vstack([*(one.runs for one in cells), np.zeros((1, 2), np.int64)]),
            np.concatenate([[0], np.cumsum([*(len(one.runs) for one in cells), 1])]).astype(np.int64),
            np.concatenate([*(one.ends for one in cells), np.zeros(1, np.int64)]),
        )

    @property
    def columns(self) -> int:
        return len(self.width) - 1

    @property
    def conditions(self) -> int:
        """Single conditions that can be asked."""
        return len(self.runs) - 1

    def boxes(self, sets: NDArray[np.int64]) -> int:
        """Conjunctions of conditions on these sets of columns."""
        many = np.diff(self.first)
        return int(many[sets].prod(axis=1).sum())


@dataclass(frozen=True)
class Halves:
    """Halvings of the rows: which blocks each searches in, and how errors lie there; shapes (halvings,) unless said."""

    searched: NDArray[np.bool_]
    """Shape (halvings, blocks)."""
    rows: Floats
    centre: Floats
    """Mean of what is added up."""
    worth: Floats
    """(rows − 1) over its variance: a squared sum times it, over n (rows − n), is the squared score."""
    level: Floats
    """Mean error."""


@dataclass(frozen=True)
class Asked:
    """What a box must be to be kept."""

    least: int
    """Rows in it, of the half that is searched."""
    most: float
    """Share of that half that it may hold."""
    times: float
    """How many times the rest's its error must be; 0 where it can be nothing or less."""
    price: float
    """What each end or level in its description takes off its squared score."""


@dataclass(frozen=True)
class Boxes:
    """Of every halving and set of columns the densest boxes: ``score``, −inf where there is none, shape (halvings, sets,
    2), and the run of each column, shape (halvings, sets, 2, 3)."""

    score: Floats
    runs: NDArray[np.int64]


def densest(
    grid: Grid,
    sets: NDArray[np.int64],
    block: NDArray[np.uint8],
    moved: Floats,
    halves: Halves,
    asked: Asked,
    work: Work,
) -> Boxes:
    """The best boxes of every set of columns in every halving.

    A box's squared score is that of the permutation test of its mean error against all rows of the half; each end or
    level of its description takes ``price`` off.

    Parameters
    ----------
    block : of each row, shape (rows,). moved : errors less their mean, times weights of mean 1, shape (rows,).
    """
    shared = grid, sets, block, moved, halves, asked
    starts = [slice(start, start + SETS_AT_ONCE) for start in range(0, len(sets), SETS_AT_ONCE)]
    sizes = [len(sets[part]) for part in starts]
    found = list(work.spread(_search, shared, starts, "sets of columns searched", sizes))
    return Boxes(*(np.concatenate([one[i] for one in found], axis=1) for i in range(2)))


def _search(shared, part: slice) -> tuple[Floats, NDArray[np.int64]]:
    grid, sets, block, moved, halves, asked = shared
    many, r = len(sets[part]), len(halves.rows)
    score = np.full((r, many, BEST), -np.inf)
    runs = np.zeros((r, many, BEST, 3), np.int64)
    _densest(
        grid.codes, grid.width, grid.runs, grid.first, grid.ends.astype(np.float64), sets[part], block, moved,
        halves.searched, halves.rows, halves.centre, halves.worth, halves.level,
        asked.least, asked.most, asked.times, asked.price, SECOND_FROM, score, runs,
    )  # fmt: skip
    return score, runs


@njit(cache=True, nogil=True)
def _densest(
    codes, width, runs, first, ends, sets, block, moved, searched, rows, centre, worth, level, least, most, times, price,
    second_from, score, place,
):  # fmt: skip
    blocks = searched.shape[1]
    for s in range(len(sets)):
        a, b, c = sets[s]
        wa, wb, wc = width[a], width[b], width[c]
        tally = _tallied(codes[a], codes[b], codes[c], wb, wc, block, moved, blocks, wa * wb * wc)
        for r in range(len(searched)):
            held, excess = _running(tally, searched[r], wa, wb, wc, centre[r])
            avoid = np.full(3, -1, np.int64)
            for k in range(score.shape[2]):
                found, ra, rb, rc = _best(
                    held, excess, runs, ends, first[a], first[a + 1], first[b], first[b + 1], first[c], first[c + 1],
                    rows[r], worth[r], level[r], least, most, times, price, avoid,
                )  # fmt: skip
                if ra < 0:
                    break
                score[r, s, k] = found
                place[r, s, k, 0], place[r, s, k, 1], place[r, s, k, 2] = ra - first[a], rb - first[b], rc - first[c]
                avoid[0], avoid[1], avoid[2] = ra, rb, rc
                if found + price * (ends[ra] + ends[rb] + ends[rc]) < second_from:
                    break


@njit(cache=True, nogil=True)
def _tallied(one, two, three, wb, wc, block, moved, blocks, cells):
    """Rows and sums by block and cell, shape (blocks · cells, 2)."""
    out = np.zeros((blocks * cells, 2))
    for i in range(len(moved)):
        k = block[i] * cells + (one[i] * wb + two[i]) * wc + three[i]
        out[k, 0] += 1.0
        out[k, 1] += moved[i]
    return out


@njit(cache=True, nogil=True)
def _running(tally, searched, wa, wb, wc, centre):
    """Running totals over the cells of some blocks: rows, and sums less the mean, each (wa + 1, wb + 1, wc + 1)."""
    cells = wa * wb * wc
    held, excess = np.zeros((wa + 1, wb + 1, wc + 1)), np.zeros((wa + 1, wb + 1, wc + 1))
    for q in range(len(searched)):
        if searched[q]:
            k = q * cells
            for i in range(1, wa + 1):
                for j in range(1, wb + 1):
                    for h in range(1, wc + 1):
                        held[i, j, h] += tally[k, 0]
                        excess[i, j, h] += tally[k, 1]
                        k += 1
    for i in range(1, wa + 1):
        for j in range(1, wb + 1):
            n, total = 0.0, 0.0
            for h in range(1, wc + 1):
                n += held[i, j, h]
                total += excess[i, j, h] - centre * held[i, j, h]
                held[i, j, h], excess[i, j, h] = n + held[i, j - 1, h], total + excess[i, j - 1, h]
        for j in range(1, wb + 1):
            for h in range(1, wc + 1):
                held[i, j, h] += held[i - 1, j, h]
                excess[i, j, h] += excess[i - 1, j, h]
    return held, excess


@njit(cache=True, nogil=True)
def _best(
    held, excess, runs, ends, a0, a1, b0, b1, c0, c1, rows, worth, level, least, most, times, price, avoid
):  # fmt: skip
    best, ra, rb, rc = -np.inf, -1, -1, -1
    wb, wc, many = held.shape[1], held.shape[2], c1 - c0
    plane_n, plane_e = np.empty((wb, wc)), np.empty((wb, wc))
    line_n, line_e = np.empty(wc), np.empty(wc)
    # places that cannot be negative are looked up without asking whether they are
    lows, highs = runs[c0:c1, 0].astype(np.uint64), (runs[c0:c1, 1] + 1).astype(np.uint64)
    costs = price * ends[c0:c1]
    ns, es = np.empty(many), np.empty(many)
    largest = most * rows
    for x in range(a0, a1):
        low, high = runs[x, 0], runs[x, 1] + 1
        if held[high, wb - 1, wc - 1] - held[low, wb - 1, wc - 1] < least:
            continue
        plane_n[:] = held[high] - held[low]
        plane_e[:] = excess[high] - excess[low]
        for y in range(b0, b1):
            low, high = runs[y, 0], runs[y, 1] + 1
            if plane_n[high, wc - 1] - plane_n[low, wc - 1] < least:
                continue
            for h in range(wc):
                line_n[h] = plane_n[high, h] - plane_n[low, h]
                line_e[h] = plane_e[high, h] - plane_e[low, h]
            cost = price * (ends[x] + ends[y])
            promising = 0
            for z in range(many):
                n = line_n[highs[z]] - line_n[lows[z]]
                e = line_e[highs[z]] - line_e[lows[z]]
                ns[z], es[z] = n, e
                dense = e * e * worth > (best + cost + costs[z]) * n * (rows - n)
                promising += dense & (e > 0.0) & (n >= least) & (n <= largest)
            if promising == 0:
                continue
            shared = avoid[0] >= 0 and _meet(runs, x, avoid[0]) and _meet(runs, y, avoid[1])
            for z in range(many):
                n, e = ns[z], es[z]
                if e <= 0 or n < least or n > largest:
                    continue
                spread = n * (rows - n)
                found = e * e * worth / spread - cost - costs[z]
                if found <= best or e * (rows - n + times * n) < (times - 1) * level * spread:
                    continue
                if shared and _meet(runs, z + c0, avoid[2]):
                    continue
                best, ra, rb, rc = found, x, y, z + c0
    return best, ra, rb, rc


@njit(cache=True, nogil=True)
def _meet(runs, one, other):
    """Whether two runs of one column share a cell."""
    return runs[one, 0] <= runs[other, 1] and runs[other, 0] <= runs[one, 1]
