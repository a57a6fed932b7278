"""Which boxes of one halving are looked at closely: the densest, then what is dense beyond those already chosen."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import segments
from zerotilt.core.meaning import Block, Condition
from zerotilt.core.pockets.borders import Side, sharpened
from zerotilt.core.pockets.boxes import Asked, Boxes, Grid
from zerotilt.core.pockets.cells import Cells
from zerotilt.core.pockets.errors import Errors
from zerotilt.core.subject import Subject

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
FIRST = 200
"""Boxes that are held against one another."""
MOST_BYTES = 100 * 2**20
ALIKE = 0.5
"""Rows that two boxes share, of those that either holds, from which on they are one pocket."""


@dataclass(frozen=True)
class Searched:
    """Rows in which pockets are searched and confirmed, and how they are met by conditions."""

    subject: Subject
    errors: Errors
    cells: tuple[Cells, ...]

    @cached_property
    def _met(self) -> dict[Condition, Bools]:
        return {}

    @cached_property
    def numbers(self) -> NDArray[np.int64]:
        """Rows of the table, shape (m,)."""
        return self.subject.rows.numbers[self.errors.places]

    def meets(self, condition: Condition) -> Bools:
        """Which rows meet a condition, shape (m,)."""
        if condition not in self._met:
            if len(self._met) > 2_000:
                self._met.clear()
            self._met[condition] = segments.meeting(condition, self.subject.table, self.numbers)
        return self._met[condition]

    def inside(self, block: Block) -> Bools:
        """Which rows meet all conditions, shape (m,)."""
        found = np.ones(self.errors.m, bool)
        for one in block:
            found &= self.meets(one)
        return found

    def values(self, column: str) -> Floats:
        return self.subject.table.numbers(column)[self.numbers]

    def side(self, half: Bools, moved: Floats, asked: Asked, level: float) -> Side:
        """One half, with what is added up in it (rows of the half,)."""
        return Side(
            moved,
            lambda condition: self.meets(condition)[half],
            lambda column: self.values(column)[half],
            asked.least,
            asked.most,
            asked.times,
            level,
            asked.price,
        )


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
    codes = grid.codes[:, half]
    masks = np.array([_inside(grid, codes, columns, runs) for columns, runs in found], dtype=np.float32)
    held = masks.sum(axis=1).astype(float)
    cost = np.array([asked.price * grid.ends[_places(grid, columns, runs)].sum() for columns, runs in found])
    left = moved - moved.mean()
    pattern = np.zeros(len(left), np.int64)
    open_ = np.ones(len(found), bool)
    blocks: list[Block] = []
    while len(blocks) < most and open_.any():
        score = _scores(masks, held, left) - cost
        score[~open_] = -np.inf
        best = int(score.argmax())
        if not np.isfinite(score[best]):
            break
        columns, runs = found[best]
        conditions = tuple(cells[names[column]].condition(int(run)) for column, run in zip(columns, runs, strict=True))
        block = sharpened(conditions, cells, searched.side(half, left, asked, level))
        inside = searched.inside(block)[half]
        open_ &= ~_alike(masks, held, inside) & (np.arange(len(found)) != best)
        known = [searched.inside(one)[half] for one in blocks]
        if any(overlap(inside, other) >= ALIKE for other in known):
            continue
        blocks.append(block)
        pattern = np.unique(pattern * 2 + inside, return_inverse=True)[1]
        left = _less_their_means(moved, pattern)
    return blocks


def _less_their_means(moved: Floats, pattern: NDArray[np.int64]) -> Floats:
    sizes = np.bincount(pattern)
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


def _inside(grid: Grid, codes: NDArray[np.uint8], columns, runs) -> Bools:
    inside = np.ones(codes.shape[1], bool)
    for column, place in zip(columns, _places(grid, columns, runs), strict=True):
        low, high = grid.runs[place]
        inside &= (codes[column] >= low) & (codes[column] <= high)
    return inside


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


def patterned(masks: list[Bools], rows: int) -> NDArray[np.int64]:
    """Which of several sets of rows each row is in, as one number, shape (rows,)."""
    pattern = np.zeros(rows, np.int64)
    for mask in masks:
        pattern = np.unique(pattern * 2 + mask, return_inverse=True)[1]
    return pattern
