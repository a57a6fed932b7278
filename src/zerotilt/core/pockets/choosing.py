"""Which boxes of one halving are looked at closely: the densest, then what is dense beyond those already chosen."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import segments
from zerotilt.core.meaning import Block
from zerotilt.core.pockets.borders import HalfRows, sharpened
from zerotilt.core.pockets.boxes import Asked, Boxes, Grid
from zerotilt.core.pockets.cells import Cells
from zerotilt.core.pockets.errors import Errors
from zerotilt.core.subject import Subject

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
FIRST = 200
"""Boxes that are held against one another."""
MOST_BYTES = 100 * 2**20
MOST_PATTERNS = 4_096
ALIKE = 0.5
"""Rows that two boxes share, of those that either holds, from which on they are one pocket."""


@dataclass(frozen=True)
class Searched:
    """Rows in which pockets are searched and confirmed, and how they are met by conditions."""

    subject: Subject
    errors: Errors
    cells: tuple[Cells, ...]

    @cached_property
    def numbers(self) -> NDArray[np.int64]:
        """Rows of the table, shape (m,)."""
        return self.subject.rows.numbers[self.errors.places]

    def inside(self, block: Block) -> Bools:
        """Which rows meet all conditions, shape (m,)."""
        return np.logical_and.reduce([segments.meeting(one, self.subject.table, self.numbers) for one in block])

    def half(self, half: Bools, moved: Floats, asked: Asked, level: float) -> HalfRows:
        """One half, with what is added up in it (rows of the half,)."""
        return HalfRows(self.subject.table, self.numbers[half], moved, asked, level)


def chosen(
    searched: Searched,
    grid: Grid,
    sets: NDArray[np.int64],
    boxes: Boxes,
    halving: int,
    half: Bools,
    moved: Floats,
    asked: Asked,
    level: float,
    most: int,
) -> list[Block]:
    """Up to ``most`` descriptions, the densest first.

    Each further one is chosen by what is left of the error once every row is held against the mean of the rows that are
    in the same ones of those chosen before: what is only part of them, or holds them, has nothing left.

    Parameters
    ----------
    half : the rows searched, shape (m,). moved : errors less their mean times weights, of these rows.
    """
    found = _first(grid, sets, boxes, halving, int(half.sum()))
    if not found:
        return []
    cells = {one.column: one for one in searched.cells}
    names = [one.column for one in searched.cells]
    masks = _masks(grid, grid.codes[:, half], found)
    held = masks.sum(axis=1).astype(float)
    cost = np.array([asked.price * grid.ends[_places(grid, columns, runs)].sum() for columns, runs in found])
    left = moved - moved.mean()
    rows = searched.half(half, left, asked, level)
    pattern = np.zeros(len(left), np.int64)
    open_ = np.ones(len(found), bool)
    blocks: list[Block] = []
    known: list[Bools] = []
    while len(blocks) < most and open_.any():
        score = _scores(masks, held, left) - cost
        score[~open_] = -np.inf
        best = int(score.argmax())
        if not np.isfinite(score[best]):
            break
        columns, runs = found[best]
        conditions = tuple(cells[names[column]].condition(int(run)) for column, run in zip(columns, runs, strict=True))
        block = sharpened(conditions, cells, rows.about(left))
        inside = rows.all_met(block)
        open_ &= ~_alike(masks, held, inside) & (np.arange(len(found)) != best)
        if any(overlap(inside, other) >= ALIKE for other in known):
            continue
        blocks.append(block)
        known.append(inside)
        pattern = refined(pattern, inside)
        left = _less_their_means(moved, pattern)
    return blocks


def _less_their_means(moved: Floats, pattern: NDArray[np.int64]) -> Floats:
    sizes = np.maximum(np.bincount(pattern), 1)
    return moved - (np.bincount(pattern, moved) / sizes)[pattern]


def _first(grid: Grid, sets, boxes: Boxes, halving: int, rows: int) -> list[tuple[NDArray, NDArray]]:
    """Columns and runs of the boxes with the best scores."""
    score = boxes.score[halving].reshape(-1)
    most = int(np.clip(MOST_BYTES // max(4 * rows, 1), 20, FIRST))
    order = [i for i in np.argsort(-score, kind="stable")[:most] if np.isfinite(score[i])]
    found = []
    for i in order:
        columns, runs = sets[i // boxes.score.shape[2]], boxes.runs[halving].reshape(-1, 3)[i]
        real = columns < grid.columns
        found.append((columns[real], runs[real]))
    return found


def _places(grid: Grid, columns, runs):
    return grid.first[columns] + runs


def _masks(grid: Grid, codes: NDArray[np.uint8], found) -> NDArray[np.float32]:
    """Which rows lie in each box, shape (boxes, rows)."""
    known: dict[tuple[int, int], Bools] = {}
    out = np.empty((len(found), codes.shape[1]), np.float32)
    for i, (columns, runs) in enumerate(found):
        inside = None
        for column, run in zip(columns.tolist(), runs.tolist(), strict=True):
            if (column, run) not in known:
                low, high = grid.runs[grid.first[column] + run]
                known[column, run] = (codes[column] >= low) & (codes[column] <= high)
            mine = known[column, run]
            inside = mine if inside is None else inside & mine
        out[i] = inside
    return out


def _scores(masks, held: Floats, left: Floats) -> Floats:
    rows = len(left)
    excess = masks @ left.astype(np.float32)
    variance = float(left @ left) / rows
    with np.errstate(invalid="ignore", divide="ignore"):
        found = excess.astype(float) ** 2 * (rows - 1) / (held * (rows - held) * variance)
    return np.where((excess > 0) & np.isfinite(found), found, -np.inf)


def _alike(masks, held: Floats, inside: Bools) -> Bools:
    both = masks @ inside.astype(np.float32)
    return both / np.maximum(held + inside.sum() - both, 1) >= ALIKE


def overlap(one: Bools, other: Bools) -> float:
    """Rows in both, of the rows in either."""
    return float((one & other).sum()) / max(int((one | other).sum()), 1)


def refined(pattern: NDArray[np.int64], inside: Bools) -> NDArray[np.int64]:
    """A number for rows that are in the same ones of some sets, with one set more."""
    found = pattern * 2 + inside
    return found if found.max(initial=0) < MOST_PATTERNS else np.unique(found, return_inverse=True)[1]


def patterned(masks: list[Bools], rows: int) -> NDArray[np.int64]:
    """Which of several sets of rows each row is in, as one number, shape (rows,)."""
    pattern = np.zeros(rows, np.int64)
    for mask in masks:
        pattern = refined(pattern, mask)
    return pattern
