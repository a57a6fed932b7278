"""Conditions of a box made exact: where a border lies best, which ends are needed, and the roundest number for each."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.meaning import Block, Condition
from zerotilt.core.pockets.cells import Cells, between
from zerotilt.core.segments import EPOCH

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
ROUNDS = 3
SLACK = 3.0
"""What a rounder border may cost of the squared score: less than a border is known to."""
MOST_PLACES = 400


class Side(NamedTuple):
    """Rows of one half: what is added up (n,), and how conditions are met there."""

    moved: Floats
    meets: Callable[[Condition], Bools]
    values: Callable[[str], Floats]
    """A column of numbers or days, NaN where missing."""
    least: int
    most: float
    times: float
    level: float
    price: float

    def score(self, inside: Bools) -> float:
        """Squared score of the permutation test, shape ()."""
        n, excess = float(inside.sum()), float(self.moved[inside].sum())
        return float(self._scores(np.array([n]), np.array([excess]))[0])

    def _scores(self, n: Floats, excess: Floats) -> Floats:
        rows = len(self.moved)
        variance = float(self.moved @ self.moved) / rows
        allowed = (n >= self.least) & (n <= self.most * rows) & (excess > 0)
        allowed &= excess * (rows - n + self.times * n) >= (self.times - 1) * self.level * n * (rows - n)
        with np.errstate(invalid="ignore", divide="ignore"):
            found = excess**2 * (rows - 1) / (n * (rows - n) * variance)
        return np.where(allowed, found, -np.inf)


def sharpened(block: Block, cells: dict[str, Cells], side: Side) -> Block:
    """The same conditions with their borders where the error is densest, none that is not worth its words.

    Borders are moved one column at a time until none moves; then every condition, and every end of a range, is left out
    whose squared score is worth less than its price.
    """
    conditions = list(block)
    for _ in range(ROUNDS):
        before = list(conditions)
        for i, one in enumerate(conditions):
            if one.ranged or one.dated:
                others = _all_met(side, [*conditions[:i], *conditions[i + 1 :]])
                conditions[i] = _moved(one, cells[one.column], others, side)
        if conditions == before:
            break
    return tuple(_needed(conditions, side))


def _all_met(side: Side, conditions: Sequence[Condition]) -> Bools:
    found = np.ones(len(side.moved), bool)
    for one in conditions:
        found &= side.meets(one)
    return found


def _needed(conditions: list[Condition], side: Side) -> list[Condition]:
    while True:
        whole = side.score(_all_met(side, conditions))
        ways = [[*conditions[:i], *conditions[i + 1 :]] for i in range(len(conditions)) if len(conditions) > 1]
        for i, one in enumerate(conditions):
            for change in _halves(one):
                ways.append([*conditions[:i], change, *conditions[i + 1 :]])
        scored = [(side.score(_all_met(side, way)), way) for way in ways]
        best = max(scored, key=lambda one: one[0], default=None)
        if best is None or not best[0] > whole - side.price:
            return conditions
        conditions = best[1]


def _halves(one: Condition) -> list[Condition]:
    """A range with one of its two ends left out."""
    if one.over is not None and one.up_to is not None:
        return [one.model_copy(update={"over": None}), one.model_copy(update={"up_to": None})]
    if one.since is not None and one.until is not None:
        return [one.model_copy(update={"since": None}), one.model_copy(update={"until": None})]
    return []


def _moved(one: Condition, cells: Cells, others: Bools, side: Side) -> Condition:
    """The condition with its borders where the score is best among rows that meet all others."""
    values = side.values(one.column)
    inside = others & ~np.isnan(values)
    order = np.argsort(values[inside], kind="stable")
    v, moved = values[inside][order], side.moved[inside][order]
    after = np.flatnonzero(np.diff(v)) + 1  # a border can lie after so many rows
    if not len(after):
        return one
    at = np.concatenate([[0], after, [len(v)]])
    total = np.concatenate([[0.0], np.cumsum(moved)])
    low, high = _ends(one)
    first = 0 if low is None else int(np.searchsorted(v, low, side="right"))
    last = len(v) if high is None else int(np.searchsorted(v, high, side="right"))
    if low is not None:
        first, low = _placed(at[at < last], lambda k: (last - k, total[last] - total[k]), v, side, cells, first, low)
    if high is not None:
        last, high = _placed(at[at > first], lambda k: (k - first, total[k] - total[first]), v, side, cells, last, high)
    if low is None and high is None:
        return one
    return between(one.column, cells.sort, low, high)


def _ends(one: Condition) -> tuple[float | None, float | None]:
    if one.ranged:
        return one.over, one.up_to
    low = None if one.since is None else float((one.since - EPOCH).days - 1)
    return low, None if one.until is None else float((one.until - EPOCH).days)


def _placed(at: NDArray[np.int64], sums, v: Floats, side: Side, cells: Cells, now: int, border: float):
    """The place of one border, and the roundest number that puts it there or nearly there; as it was where none is
    better. A place after no row, or after all, is no border."""
    at = at[(at > 0) & (at < len(v))]
    if not len(at):
        return now, border
    n, excess = sums(at)
    scores = side._scores(n.astype(float), excess)
    best = float(scores.max())
    if not np.isfinite(best):
        return now, border
    near = np.flatnonzero(scores >= best - SLACK)
    near = near[np.argsort(-scores[near], kind="stable")][:MOST_PLACES]
    if cells.sort == "day":
        place = int(at[near[0]])
        return place, float(v[place - 1])
    place = min(near, key=lambda i: _digits(roundest(float(v[at[i] - 1]), float(v[at[i]]))))
    return int(at[place]), roundest(float(v[at[place] - 1]), float(v[at[place]]))


def roundest(low: float, high: float) -> float:
    """The number of fewest digits from ``low`` on and under ``high``.

    >>> roundest(9.97, 10.04), roundest(3.0, 4.0), roundest(-0.031, -0.0295)
    (10.0, 3.0, -0.03)
    """
    if low < 0 < high or low == 0:
        return 0.0
    if not np.isfinite(low) or not np.isfinite(high):
        return low
    size = max(abs(low), abs(high))
    for digits in range(1, 17):
        step = 10.0 ** (np.floor(np.log10(size)) - digits + 1)
        found = float(f"{np.ceil(low / step) * step:.{digits}g}")
        if low <= found < high:
            return found
    return low


def _digits(value: float) -> int:
    text = f"{value:.15e}".split("e")[0].replace(".", "").replace("-", "").rstrip("0")
    return len(text)
