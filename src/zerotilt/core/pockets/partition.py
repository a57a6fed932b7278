"""Rows parted step by step where the error differs most: nested blocks that hold every row once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import segments
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Block, Condition, Segment
from zerotilt.core.pockets.cells import Cells, between
from zerotilt.core.pockets.confirmed import ErrorGap, gap_of
from zerotilt.core.pockets.hunt import Hunt
from zerotilt.core.typed_conditions import written

DEEP = 3
Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]


class Parted(Frozen):
    """One block of the partition; its figures are of the half that it was not learnt from."""

    number: int
    inside: int = Field(description="Number of the block that it is a part of; −1 for all rows")
    depth: int
    said: str = Field(description="Its own condition; empty for all rows")
    segment: Segment | None = Field(description="All conditions on the way to it; none for all rows")
    typed: str = Field(description="The same as they are typed; empty for all rows")
    rows: int
    share: float = Field(description="Of the rows that confirm")
    gap: ErrorGap | None = Field(description="Against all other rows; none for all rows")
    value: float | None
    enough: bool = Field(description="Whether it has rows enough to be shaded")


@dataclass(frozen=True)
class _Cut:
    gained: float
    cells: Cells
    inside: Bools
    """Of the cells of the column, those of the first part."""


def parted(hunt: Hunt, outcome: Floats, source: str, minimum: int, confidence: float) -> tuple[Parted, ...]:
    """Blocks in the order of depth first: each is cut in two where that takes most from the squares of the error, as long
    as it takes more than chance would of the best of so many cuts (Foster & George 1994)."""
    learns = hunt.half(0)
    judged = ~learns
    errors = hunt.errors.among(judged)
    found: list[Parted] = []

    def add(block: Block, own: tuple[Condition, ...], parent: int, depth: int, mask: Bools) -> None:
        inside = mask[judged]
        rows = int(inside.sum())
        gap = gap_of(errors, inside, outcome[judged], confidence) if block and 0 < rows < len(inside) else None
        value = None
        if rows:
            part = errors.among(inside)
            value = float(np.average(part.values, weights=part.mass))
        number = len(found)
        found.append(
            Parted(
                number=number,
                inside=parent,
                depth=depth,
                said=", ".join(segments.said(one) for one in own),
                segment=_named(block, source) if block else None,
                typed=written((block,)) if block else "",
                rows=rows,
                share=rows / max(len(inside), 1),
                gap=gap,
                value=value,
                enough=rows >= minimum,
            )
        )
        cut = _best_cut(hunt, mask & learns) if depth < DEEP else None
        if cut is None:
            return
        codes = cut.cells.codes
        parts = []
        for side in (cut.inside, ~cut.inside):
            condition = _condition(cut.cells, side)
            at = side[codes] & mask
            parts.append((float(hunt.moved[at & learns].mean()), condition, at))
        for _, condition, at in sorted(parts, key=lambda one: -one[0]):
            add((*block, condition), (condition,), number, depth + 1, at)

    add((), (), -1, 0, np.ones(hunt.errors.m, bool))
    return tuple(found)


def _named(block: Block, source: str) -> Segment:
    said = ", ".join(segments.said(one) for one in block)
    return Segment(name=said if len(said) <= 120 else f"{said[:119]}…", conditions=block, source=source)


def _best_cut(hunt: Hunt, mask: Bools) -> _Cut | None:
    """The cut of some rows that takes most; None where none takes more than chance."""
    moved = hunt.moved[mask]
    rows = len(moved)
    variance = float(moved.var()) if rows else 0.0
    if variance <= 0 or rows < 2 * hunt.asked.least:
        return None
    off = moved - moved.mean()
    best: _Cut | None = None
    tried = 0
    for cells in hunt.searched.cells:
        codes = cells.codes[mask]
        held = np.bincount(codes, minlength=cells.count).astype(float)
        sums = np.bincount(codes, off, minlength=cells.count)
        order = _order(cells, held, sums)
        n, total = np.cumsum(held[order])[:-1], np.cumsum(sums[order])[:-1]
        allowed = (n >= hunt.asked.least) & (rows - n >= hunt.asked.least)
        tried += int(allowed.sum())
        if not allowed.any():
            continue
        with np.errstate(invalid="ignore", divide="ignore"):
            score = np.where(allowed, total**2 * (rows - 1) / (n * (rows - n) * variance), -np.inf)
        at = int(score.argmax())
        if best is None or score[at] > best.gained:
            inside = np.zeros(cells.count, bool)
            inside[order[: at + 1]] = True
            best = _Cut(float(score[at]), cells, inside)
    # levels are put in the order of their error before they are cut: chance has as many ways as there are levels
    return best if best is not None and best.gained > 2 * np.log(max(tried, 2)) + 4 else None


def _order(cells: Cells, held: Floats, sums: Floats) -> NDArray[np.int64]:
    """Cells as they are cut: as they follow one another, with what is missing at the end that its error is nearer to; of
    levels by their error."""
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.where(held > 0, sums / held, 0.0)
    if cells.sort == "levels":
        return np.argsort(mean, kind="stable")
    ordered = np.array([one for one in range(cells.count) if one != cells.missing], np.int64)
    if cells.missing < 0:
        return ordered
    ends = mean[ordered[0]], mean[ordered[-1]]
    first = abs(mean[cells.missing] - ends[0]) < abs(mean[cells.missing] - ends[1])
    return np.concatenate([[cells.missing], ordered] if first else [ordered, [cells.missing]])


def _condition(cells: Cells, inside: Bools) -> Condition:
    """What the rows of some cells meet."""
    missing = cells.missing >= 0 and bool(inside[cells.missing])
    chosen = [one for one in np.flatnonzero(inside).tolist() if one != cells.missing]
    if not chosen:
        return Condition(column=cells.column, missing=True)
    if cells.sort in ("ordered", "levels"):
        held = len(cells.levels)
        if any(one >= held for one in chosen):  # the levels that share a cell: all but the others
            out = tuple(level for one in range(held) if not inside[one] for level in cells.levels[one])
            if not out and missing:
                raise ValueError("a part of all rows is no part")
            gone = cells.missing >= 0 and not missing
            return Condition(column=cells.column, levels=out, missing=gone, negated=True)
        held_levels = tuple(level for one in chosen for level in cells.levels[one])
        return Condition(column=cells.column, levels=held_levels, missing=missing)
    low = cells.edges[chosen[0] - 1] if chosen[0] else None
    high = cells.edges[chosen[-1]] if chosen[-1] < len(cells.edges) else None
    if low is None and high is None:
        return Condition(column=cells.column, missing=True, negated=True)
    found = between(cells.column, cells.sort, low, high)
    return found.model_copy(update={"missing": missing})
