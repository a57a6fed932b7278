"""Conditions of a box made exact: where a border lies best, which ends are needed, and the roundest number for each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import segments
from zerotilt.core.meaning import Block, Condition
from zerotilt.core.pockets.boxes import Asked
from zerotilt.core.pockets.cells import Cells, between
from zerotilt.core.segments import EPOCH
from zerotilt.core.stats.roundest import roundest
from zerotilt.core.table import Table

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
ROUNDS = 3
SLACK, OF_BEST = 4.0, 0.02
"""What a rounder border may cost of the squared score, and which share of it: less than a border is known to."""
MOST_PLACES = 500
"""Of a border that are weighed; a five-hundredth of the rows apart where there are more."""


@dataclass
class HalfRows:
    """Rows of one half: what is added up in them (h,), and which of them meet a condition."""

    table: Table
    numbers: NDArray[np.int64]
    """Rows of the table, shape (h,)."""
    moved: Floats
    asked: Asked
    level: float
    """The mean error that a place's must be so many times of; 0 where it can be nothing or less."""
    _met: dict[Condition, Bools] = field(default_factory=dict)
    _ordered: dict[str, tuple[Floats, NDArray[np.int64]]] = field(default_factory=dict)

    def about(self, moved: Floats) -> HalfRows:
        """The same rows with something else added up."""
        return replace(self, moved=moved)

    def meets(self, condition: Condition) -> Bools:
        if condition not in self._met:
            self._met[condition] = segments.meeting(condition, self.table, self.numbers)
        return self._met[condition]

    def all_met(self, conditions: Sequence[Condition]) -> Bools:
        found = np.ones(len(self.numbers), bool)
        for one in conditions:
            found &= self.meets(one)
        return found

    def ordered(self, column: str) -> tuple[Floats, NDArray[np.int64]]:
        """Known values of a column of numbers or days in their order, and the rows that they are of."""
        if column not in self._ordered:
            values = self.table.numbers(column)[self.numbers]
            order = np.argsort(values, kind="stable")[: int((~np.isnan(values)).sum())]
            self._ordered[column] = values[order], order
        return self._ordered[column]

    def score(self, inside: Bools) -> float:
        """Squared score of the permutation test."""
        n, excess = float(inside.sum()), float(self.moved[inside].sum())
        return float(self.scores(np.array([n]), np.array([excess]))[0])

    def scores(self, n: Floats, excess: Floats) -> Floats:
        """The same of many sets of rows, by how many they are and what they add up to; −inf where they are no pocket."""
        rows, asked = len(self.moved), self.asked
        allowed = (n >= asked.least) & (n <= asked.most * rows) & (excess > 0)
        allowed &= excess * (rows - n + asked.times * n) >= (asked.times - 1) * self.level * n * (rows - n)
        with np.errstate(invalid="ignore", divide="ignore"):
            found = excess**2 * (rows - 1) / (n * (rows - n) * self._variance)
        return np.where(allowed, found, -np.inf)

    @property
    def _variance(self) -> float:
        return float(self.moved @ self.moved) / len(self.moved)


def sharpened(block: Block, cells: dict[str, Cells], half: HalfRows) -> Block:
    """The same conditions with their borders where the error is densest, none that is not worth its words.

    Borders are moved one column at a time until none moves; then every condition, and every end of a range, is left out
    whose squared score is worth less than its price.
    """
    conditions = list(block)
    for _ in range(ROUNDS):
        before = list(conditions)
        for i, one in enumerate(conditions):
            if one.ranged or one.dated:
                others = half.all_met([*conditions[:i], *conditions[i + 1 :]])
                conditions[i] = _moved(one, cells[one.column], others, half)
        if conditions == before:
            break
    return tuple(_needed(conditions, half))


def _needed(conditions: list[Condition], half: HalfRows) -> list[Condition]:
    while True:
        whole = half.score(half.all_met(conditions))
        ways = [[*conditions[:i], *conditions[i + 1 :]] for i in range(len(conditions)) if len(conditions) > 1]
        for i, one in enumerate(conditions):
            for change in _halves(one):
                ways.append([*conditions[:i], change, *conditions[i + 1 :]])
        scored = [(half.score(half.all_met(way)), way) for way in ways]
        best = max(scored, key=lambda one: one[0], default=None)
        if best is None or not best[0] > whole - half.asked.price:
            return conditions
        conditions = best[1]


def _halves(one: Condition) -> list[Condition]:
    """A range with one of its two ends left out."""
    if one.over is not None and one.up_to is not None:
        return [one.model_copy(update={"over": None}), one.model_copy(update={"up_to": None})]
    if one.since is not None and one.until is not None:
        return [one.model_copy(update={"since": None}), one.model_copy(update={"until": None})]
    return []


def _moved(one: Condition, cells: Cells, others: Bools, half: HalfRows) -> Condition:
    """The condition with its borders where the score is best among rows that meet all others."""
    values, order = half.ordered(one.column)
    inside = others[order]
    v, moved = values[inside], half.moved[order[inside]]
    after = np.flatnonzero(np.diff(v)) + 1  # a border can lie after so many rows
    if not len(after):
        return one
    if len(after) > MOST_PLACES:
        after = after[np.linspace(0, len(after) - 1, MOST_PLACES).round().astype(np.int64)]
    at = np.concatenate([[0], after, [len(v)]])
    total = np.concatenate([[0.0], np.cumsum(moved)])
    low, high = _ends(one)
    first = 0 if low is None else int(np.searchsorted(v, low, side="right"))
    last = len(v) if high is None else int(np.searchsorted(v, high, side="right"))
    if low is not None:
        first, low = _placed(at[at < last], lambda k: (last - k, total[last] - total[k]), v, half, cells, first, low)
    if high is not None:
        last, high = _placed(at[at > first], lambda k: (k - first, total[k] - total[first]), v, half, cells, last, high)
    if low is None and high is None:
        return one
    return between(one.column, cells.sort, low, high)


def _ends(one: Condition) -> tuple[float | None, float | None]:
    if one.ranged:
        return one.over, one.up_to
    low = None if one.since is None else float((one.since - EPOCH).days - 1)
    return low, None if one.until is None else float((one.until - EPOCH).days)


def _placed(at: NDArray[np.int64], sums, v: Floats, half: HalfRows, cells: Cells, now: int, border: float):
    """The place of one border, and the roundest number that puts it there or nearly there; as it was where none is
    better. A place after no row, or after all, is no border."""
    at = at[(at > 0) & (at < len(v))]
    if not len(at):
        return now, border
    n, excess = sums(at)
    scores = half.scores(n.astype(float), excess)
    best = float(scores.max())
    if not np.isfinite(best):
        return now, border
    top = int(scores.argmax())
    place = int(at[top])
    if cells.sort == "day":
        return place, float(v[place - 1])
    # as far as the score stays near its best on both sides, the roundest number is taken; looked at more closely first
    enough = best - max(SLACK, OF_BEST * best)
    near = scores >= enough
    first = top - int(np.argmin(near[top::-1])) + 1 if not near[: top + 1].all() else 0
    last = top + int(np.argmin(near[top:])) - 1 if not near[top:].all() else len(at) - 1
    rounder = roundest(float(v[at[first] - 1]), float(v[at[last]]))
    after = int(np.searchsorted(v, rounder, side="right"))
    n, excess = sums(np.array([after]))
    if float(half.scores(n.astype(float), excess)[0]) >= enough:
        return after, rounder
    return place, roundest(float(v[place - 1]), float(v[place]))
