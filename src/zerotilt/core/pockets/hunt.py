"""The search itself: rows are dealt to blocks, half of the blocks is searched, and what is found is held for the other half."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import combinations
from math import ceil, comb, log

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.meaning import Block
from zerotilt.core.pockets import boxes, cells
from zerotilt.core.pockets.boxes import Asked, Boxes, Grid, Halves
from zerotilt.core.pockets.choosing import Searched, chosen
from zerotilt.core.pockets.errors import Errors
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

BLOCKS = 10
MOST_COUNTED = 3_000_000_000
"""Rows times sets of columns that are counted at most; beyond, the deepest sets are made of the columns that say most."""
SHARE, LARGEST = 0.01, 0.5
"""Of the rows: what a pocket holds at least, besides twice the policy's minimum, and what it holds at most."""


@dataclass(frozen=True)
class Hunt:
    """Everything one search needs; nothing of it depends on what was found."""

    searched: Searched
    grid: Grid
    block: NDArray[np.uint8]
    """Which block each row was dealt to, shape (m,)."""
    halves: NDArray[np.bool_]
    """Blocks that are searched in each halving, shape (halvings, blocks); the first is the one that is reported."""
    asked: Asked
    deep: int
    most: int

    @property
    def errors(self) -> Errors:
        return self.searched.errors

    @cached_property
    def moved(self) -> NDArray[np.float64]:
        """Errors less their mean, times weights of mean 1, shape (m,)."""
        values, mass = self.errors.values, self.errors.mass
        return (values - np.average(values, weights=mass)) * mass / mass.mean()

    @property
    def flat(self) -> bool:
        """Whether all rows are alike in their error, so that there is nothing to find."""
        return not np.ptp(self.errors.values) > 0

    def half(self, halving: int) -> NDArray[np.bool_]:
        """Rows that are searched, shape (m,)."""
        return self.halves[halving][self.block]

    def level(self, halving: int) -> float:
        """The mean error of the rows searched, which a pocket's must be so many times of; 0 where it can be nothing."""
        if not self.asked.times:
            return 0.0
        half = self.half(halving)
        return float(np.average(self.errors.values[half], weights=self.errors.mass[half]))

    @cached_property
    def _halves(self) -> Halves:
        rows, centre, worth, level = [], [], [], []
        for halving in range(len(self.halves)):
            moved = self.moved[self.half(halving)]
            variance = float(moved.var())
            rows.append(len(moved))
            centre.append(float(moved.mean()) if len(moved) else 0.0)
            worth.append((len(moved) - 1) / variance if variance > 0 else 0.0)
            level.append(self.level(halving))
        return Halves(self.halves, *(np.array(one, float) for one in (rows, centre, worth, level)))

    def boxes(self, work: Work) -> tuple[NDArray[np.int64], Boxes, NDArray[np.int64]]:
        """Sets of columns, their densest boxes, and columns that the deepest sets are made of."""
        every = np.arange(self.grid.columns)
        kept, sets = every, np.zeros((0, 3), np.int64)
        found: list[Boxes] = []
        for size in range(1, min(self.deep, self.grid.columns) + 1):
            kept = self._affordable(size, kept, sets, found)
            more = self._sets(size, kept)
            found.append(boxes.densest(self.grid, more, self.block, self.moved, self._halves, self.asked, work))
            sets = np.vstack([sets, more])
        joined = Boxes(*(np.concatenate([getattr(one, name) for one in found], axis=1) for name in ("score", "runs")))
        return sets, joined, kept

    def _sets(self, size: int, kept: NDArray[np.int64]) -> NDArray[np.int64]:
        none = (self.grid.columns,) * (3 - size)
        return np.array([(*some, *none) for some in combinations(kept.tolist(), size)], np.int64).reshape(-1, 3)

    def _affordable(self, size: int, kept, sets, found: Sequence[Boxes]) -> NDArray[np.int64]:
        """Columns that sets of one more are made of: all, or those that did best in what was searched of the first half."""
        many = len(kept)
        while many > size and comb(many, size) * self.errors.m > MOST_COUNTED:
            many -= 1
        if many == len(kept) or not found:
            return kept
        best = np.full(self.grid.columns, -np.inf)
        score = np.concatenate([one.score[0].max(axis=1) for one in found])
        for place in range(3):
            real = sets[:, place] < self.grid.columns
            np.maximum.at(best, sets[real, place], score[real])
        return np.sort(kept[np.argsort(-best[kept], kind="stable")[:many]])

    def descriptions(self, sets: NDArray[np.int64], found: Boxes, halving: int) -> list[Block]:
        """Pockets of one halving as conditions, the densest first."""
        half = self.half(halving)
        return chosen(
            self.searched, self.grid, sets, found, halving, half, self.moved[half], self.asked, self.level(halving),
            self.most,
        )  # fmt: skip


def hunt(
    subject: Subject, errors: Errors, columns: Sequence[str], deep: int, most: int, halvings: int, least: int | None,
    times: float, seed: int,
) -> Hunt | None:  # fmt: skip
    """A search made ready; None where no column can be told apart or too few rows are there.

    Parameters
    ----------
    least : rows that a pocket holds at least; twice the policy's minimum and a hundredth of the rows where None.
    times : how many times the rest's a pocket's error is at least; asked of errors that cannot be below nothing.
    """
    least = least or least_rows(subject, errors)
    in_half = ceil(least / 2)
    known = [cells.cells_of(subject, name, errors.places, least) for name in columns]
    kept = tuple(one for one in known if one is not None)
    if not kept or errors.m < 2 * least:
        return None
    block, halves = dealt(errors, halvings, seed)
    grid = Grid.of(list(kept))
    return Hunt(
        Searched(subject, errors, kept),
        grid,
        block,
        halves,
        Asked(in_half, LARGEST, 0.0 if errors.signed else times, 2 * log(max(grid.conditions, 2))),
        deep,
        most,
    )


def least_rows(subject: Subject, errors: Errors) -> int:
    return max(2 * subject.spec.policy.minimum_rows, ceil(SHARE * errors.m))


def halvings_of(rng: np.random.Generator, many: int) -> NDArray[np.bool_]:
    """Different choices of half of the blocks, shape (many, blocks); none is another's other half. The first ones are the
    same however many there are."""
    every = [one for one in combinations(range(BLOCKS), BLOCKS // 2) if 0 in one]
    order, turned = rng.permutation(len(every))[:many], rng.random(len(every)) < 0.5
    found = np.zeros((many, BLOCKS), bool)
    for row, which in enumerate(order):
        found[row, list(every[which])] = True
        if turned[which]:
            found[row] = ~found[row]
    return found


def sampled(errors: Errors, most: int, seed: int) -> Errors:
    """Those of the rows that are read: all, or a seeded sample of so many. What reads a place again draws the same."""
    if errors.m <= most:
        return errors
    return errors.among(np.random.default_rng(seed).permutation(errors.m) < most)


def dealt(errors: Errors, many: int, seed: int) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
    """The block of each row, shape (m,), and the blocks that each halving searches, shape (many, blocks)."""
    rng = np.random.default_rng(seed)
    block = (rng.permutation(errors.m) % BLOCKS).astype(np.uint8)
    return block, halvings_of(rng, many)
