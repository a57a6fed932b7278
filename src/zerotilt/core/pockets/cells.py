"""Columns as cells: stretches of a number, days or ordered levels, single levels, and what is missing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.meaning import Condition, Kind, Role
from zerotilt.core.refusal import Refused
from zerotilt.core.segments import EPOCH
from zerotilt.core.stats.roundest import roundest
from zerotilt.core.subject import Subject

CELLS, LEVELS = 8, 15
Sort = Literal["number", "day", "ordered", "levels"]


@dataclass(frozen=True)
class Cells:
    """One column. ``codes``: the cell of each row, shape (n,); ``runs``: cells from and to (inclusive) of every condition
    that can be asked, shape (k, 2); ``ends``: how many ends or levels each names, shape (k,)."""

    column: str
    sort: Sort
    codes: NDArray[np.uint8]
    count: int
    runs: NDArray[np.int64]
    ends: NDArray[np.int64]
    edges: tuple[float, ...] = ()
    """Rows up to each are below it; of numbers and days."""
    levels: tuple[tuple[str, ...], ...] = ()
    """What each cell holds; of levels, in order or not."""
    missing: int = -1
    """The cell of empty ones; −1 where there are none."""

    def condition(self, run: int) -> Condition:
        """What rows of a run of cells meet."""
        first, last = (int(one) for one in self.runs[run])
        if first == self.missing:
            return Condition(column=self.column, missing=True)
        if self.sort in ("ordered", "levels"):
            held = tuple(level for cell in self.levels[first : last + 1] for level in cell)
            return Condition(column=self.column, levels=held)
        low = self.edges[first - 1] if first else None
        high = self.edges[last] if last < len(self.edges) else None
        return between(self.column, self.sort, low, high)


def between(column: str, sort: Sort, low: float | None, high: float | None) -> Condition:
    """Rows over one end and up to another, of numbers or of days since 1970."""
    if sort == "number":
        return Condition(column=column, over=low, up_to=high)
    since = None if low is None else EPOCH + timedelta(days=int(np.floor(low)) + 1)
    until = None if high is None else EPOCH + timedelta(days=int(np.floor(high)))
    return Condition(column=column, since=since, until=until)


def searchable(subject: Subject) -> tuple[str, ...]:
    """Columns that can be looked at: what rows can be told apart by, but not what is predicted or decided of them."""
    role = {column.name: column.role for column in subject.spec.columns}
    return tuple(name for name in subject.partable if role[name] not in (Role.score, Role.decision))


def columns_of(subject: Subject, chosen: Sequence[str]) -> tuple[str, ...]:
    """Columns that are looked at: those chosen, else features and groups.

    Raises
    ------
    Refused : one that is chosen cannot be looked at.
    """
    offers = searchable(subject)
    if unknown := [name for name in chosen if name not in offers]:
        raise Refused(
            f"columns: “{unknown[0]}” cannot be looked at; there are {words.listing(list(offers[:8]))}.",
            todo="Choose among these.",
        )
    if chosen:
        return tuple(name for name in offers if name in set(chosen))
    role = {column.name: column.role for column in subject.spec.columns}
    return tuple(name for name in offers if role[name] not in (Role.outcome, Role.ignored))


def cells_of(subject: Subject, name: str, places: NDArray[np.int64], least: int) -> Cells | None:
    """A column of some of the context's rows as cells; None where all rows are in one.

    Numbers of up to eight values have a cell for each, others eight of about as many rows as ties allow. Of levels the
    fifteen most frequent that hold ``least`` rows have a cell each, all others share one that no condition asks for.
    """
    rows = subject.rows.numbers[places]
    if subject.table.is_number(name) or subject.table.is_date(name):
        return _of_numbers(subject, name, subject.table.numbers(name)[rows])
    return _of_levels(subject, name, rows, least)


def _of_numbers(subject: Subject, name: str, values: NDArray[np.float64]) -> Cells | None:
    known = values[~np.isnan(values)]
    edges: list[float] = []
    if len(known):
        distinct = np.unique(known)
        if len(distinct) > CELLS:
            distinct = np.unique(np.quantile(known, np.arange(1, CELLS) / CELLS, method="inverted_cdf"))
            ordered = np.unique(known)
            after = np.searchsorted(ordered, distinct, side="right")
            # every place that is looked at is told, so its borders have as few digits as part the same rows
            edges = [roundest(float(ordered[i - 1]), float(ordered[i])) for i in after if i < len(ordered)]
        else:
            edges = [float(one) for one in distinct[:-1]]
    codes = np.searchsorted(edges, values, side="left")
    codes[np.isnan(values)] = len(edges) + 1
    sort: Sort = "day" if subject.table.is_date(name) else "number"
    return _built(name, sort, codes, len(edges) + 1, len(known) < len(values), ranged=True, edges=tuple(edges))


def _of_levels(subject: Subject, name: str, rows: NDArray[np.int64], least: int) -> Cells | None:
    found, codes = subject.table.coded(name)
    codes = codes[rows]
    sizes = np.bincount(codes[codes >= 0], minlength=len(found))
    texts, column = found.astype(str), subject.spec.column(name)
    present = [i for i in np.argsort(-sizes, kind="stable") if sizes[i]]
    place = np.full(len(found) + 1, -1)
    if column.kind is Kind.ordered and column.order:
        rank = {level: i for i, level in enumerate(column.order)}
        inside = sorted((i for i in present if str(texts[i]) in rank), key=lambda i: rank[str(texts[i])])
        parts = np.array_split(np.array(inside, np.int64), min(LEVELS, max(len(inside), 1)))
        held = [tuple(str(texts[i]) for i in part) for part in parts]
        for cell, part in enumerate(parts):
            place[part] = cell
        ranged = True
    else:
        inside = [i for i in present if sizes[i] >= least][:LEVELS]
        held = [(str(texts[i]),) for i in inside]
        place[inside] = np.arange(len(inside))
        ranged = False
    others = place[:-1] < 0
    beyond = bool((others & (sizes > 0)).any())
    place[:-1][others] = len(held)
    missing = bool((codes < 0).any())
    place[-1] = len(held) + beyond
    sort: Sort = "ordered" if ranged else "levels"
    return _built(name, sort, place[codes], len(held), missing, ranged=ranged, levels=tuple(held), beyond=beyond)


def _built(
    name: str,
    sort: Sort,
    codes: NDArray[np.int64],
    held: int,
    missing: bool,
    ranged: bool,
    edges: tuple[float, ...] = (),
    levels: tuple[tuple[str, ...], ...] = (),
    beyond: bool = False,
) -> Cells | None:
    """``held``: cells with a place of their own, before the one of all others and the one of what is missing."""
    count = held + beyond + missing
    gone = held + beyond if missing else -1
    if not beyond and not missing and held < 2:
        return None
    spans = [(i, j) for i in range(held) for j in (range(i, held) if ranged else (i,))]
    runs = [one for one in spans if not (one == (0, held - 1) and (ranged or count == held))]
    ends = [1 if one[0] == 0 or one[1] == held - 1 else 2 for one in runs]
    if missing:
        runs.append((gone, gone))
        ends.append(1)
    if not ranged:
        ends = [1] * len(runs)
    if not runs:
        return None
    return Cells(
        name,
        sort,
        codes.astype(np.uint8),
        count,
        np.array(runs, np.int64).reshape(-1, 2),
        np.array(ends, np.int64),
        edges,
        levels,
        gone,
    )
