"""Which rows belong to which group: levels, bins, missing, intersections, overlapping memberships and segments."""

from __future__ import annotations

import itertools
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import segments, words
from zerotilt.core.meaning import Kind, Spec
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table

MISSING = "(missing)"
OTHER = "(other)"
JOIN = words.CROSSED
SEGMENTS = "(segments)"
"""The grouping whose groups are the audit's segments."""
MOST_LEVELS = 30
DISTINCT_NUMBERS = 12
BINS = 4


@dataclass(frozen=True)
class Grouping:
    """The groups of one attribute over some rows.

    Either every row is in one group (``codes``, shape (n,)), or groups overlap
    (``masks``, shape (groups, n)) and each is compared with the rows outside it.
    """

    columns: tuple[str, ...]
    labels: tuple[str, ...]
    codes: NDArray[np.int64] | None = None
    masks: NDArray[np.bool_] | None = None
    crossed: tuple[tuple[str, ...], ...] = ()
    """Of each group of a crossing the level of each column, as it is called in that column alone."""

    @property
    def levels(self) -> tuple[tuple[str, ...], ...]:
        """Of each group the level of each column; they are not to be had from a label, which may hold the sign that joins."""
        return self.crossed or tuple((label,) for label in self.labels)

    @property
    def attribute(self) -> str:
        return attribute(self.columns)

    @property
    def overlapping(self) -> bool:
        return self.codes is None

    def among(self, rows: NDArray[np.bool_]) -> Grouping:
        """The same groups of some of the rows only; ``rows`` of shape (n,)."""
        codes, masks = self.codes, self.masks
        return replace(
            self,
            codes=None if codes is None else codes[rows],
            masks=None if masks is None else masks[:, rows],
        )

    def mask(self, place: int) -> NDArray[np.bool_]:
        return self.apart[place] if self.codes is None else self.codes == place

    @property
    def apart(self) -> NDArray[np.bool_]:
        """The masks of groups that overlap."""
        if self.masks is None:
            raise ValueError("these groups do not overlap")
        return self.masks

    @property
    def exclusive(self) -> NDArray[np.int64]:
        """Of each row its one group."""
        if self.codes is None:
            raise ValueError("these groups overlap")
        return self.codes

    def place(self, label: str) -> int:
        """Which group has this label.

        Raises
        ------
        Refused : none has.
        """
        if label not in self.labels:
            raise Refused(
                f"“{label}” has no rows here; the groups of {words.title(self.attribute)} are "
                f"{words.listing(list(self.labels[:8]))}.",
                todo="Choose one of these groups, or other rows.",
            )
        return self.labels.index(label)


def attribute(columns: tuple[str, ...]) -> str:
    return JOIN.join(columns)


def columns_of(spec: Spec, name: str) -> tuple[str, ...]:
    """The columns of an attribute: one, an intersection of up to three, or the segments.

    Raises
    ------
    Refused : a column is not there, or there are more than three.
    """
    columns = columns_named(spec, name)
    if columns == (SEGMENTS,):
        if not spec.segments:
            raise Refused("The audit has no segments.", todo="Save some rows as a segment first.")
        return columns
    if len(columns) > 3 or len(set(columns)) < len(columns):
        raise Refused(f"“{name}” crosses more than three columns, or one with itself.", todo="Cross up to three.")
    for column in columns:
        spec.column(column)
    return columns


def columns_named(spec: Spec, name: str) -> tuple[str, ...]:
    """The same, of an attribute that was read; whether it can be read now is not asked."""
    names = {column.name for column in spec.columns}
    return (name,) if name in names else _told_apart(name.split(JOIN), names)


def _told_apart(parts: list[str], names: set[str]) -> tuple[str, ...]:
    """The columns that were joined, where a column's own name may hold the sign that joins them."""
    for size in range(1, len(parts) + 1):
        first = JOIN.join(parts[:size])
        if first in names:
            if size == len(parts):
                return (first,)
            rest = _told_apart(parts[size:], names)
            if all(one in names for one in rest):
                return (first, *rest)
    return tuple(parts)


def all_groupings(spec: Spec) -> list[tuple[str, ...]]:
    """Every way an audit groups its rows: single columns, intersections, segments."""
    return [*spec.groupings, *([(SEGMENTS,)] if spec.segments else [])]


@dataclass(frozen=True)
class Groupings:
    """Groupings of the same rows, each column looked at once; plain arrays, so that it can be sent elsewhere."""

    spec: Spec
    columns: dict[str, tuple[list[str], NDArray[np.int64]]]
    overlapping: dict[tuple[str, ...], Grouping]

    @classmethod
    def of(cls, spec: Spec, table: Table, rows: NDArray[np.int64], wanted: list[tuple[str, ...]]) -> Groupings:
        """What is needed for the groupings wanted.

        Raises
        ------
        Refused : there is no such column.
        """
        apart = {
            columns: found for columns in wanted if (found := _overlapping(spec, table, rows, columns)) is not None
        }
        names = dict.fromkeys(name for columns in wanted if columns not in apart for name in columns)
        return cls(spec, {name: _single(spec, table, rows, name) for name in names}, apart)

    def grouping(self, columns: tuple[str, ...]) -> Grouping:
        """One of the groupings wanted, or a crossing of their columns.

        Levels keep a declared order, else go by size; beyond 30 they are joined as
        "(other)". Missing cells are a group of their own, last.

        Raises
        ------
        Refused : the crossing has more groups than can be read.
        """
        found = self.overlapping.get(columns)
        return found or _crossed(self.spec, columns, [self.columns[name] for name in columns])


def grouping(spec: Spec, table: Table, rows: NDArray[np.int64], columns: tuple[str, ...]) -> Grouping:
    """The groups of some rows by one column, by an intersection, or by the audit's segments."""
    return Groupings.of(spec, table, rows, [columns]).grouping(columns)


def _crossed(spec: Spec, columns: tuple[str, ...], parts: list[tuple[list[str], NDArray[np.int64]]]) -> Grouping:
    if len(parts) == 1:
        return Grouping(columns, tuple(parts[0][0]), codes=parts[0][1])
    codes = np.zeros(len(parts[0][1]), dtype=np.int64)
    for levels, code in parts:
        codes = codes * len(levels) + code
    sizes = np.bincount(codes, minlength=int(np.prod([len(levels) for levels, _ in parts])))
    present = np.flatnonzero(sizes)
    if len(present) > 4 * MOST_LEVELS:
        raise Refused(
            f"The intersection of {words.listing(list(columns))} has {len(present)} groups; "
            f"{4 * MOST_LEVELS} can be read.",
            todo="Cross columns with fewer levels.",
        )
    place = np.zeros(len(sizes), dtype=np.int64)
    place[present] = np.arange(len(present))
    shape = [len(levels) for levels, _ in parts]
    crossed = tuple(
        tuple(levels[at] for (levels, _), at in zip(parts, np.unravel_index(code, shape), strict=True))
        for code in present
    )
    labels = tuple(
        JOIN.join(_naming(spec, name, level) for name, level in zip(columns, each, strict=True)) for each in crossed
    )
    return Grouping(columns, labels, codes=place[codes], crossed=crossed)


def _naming(spec: Spec, name: str, level: str) -> str:
    """A level inside an intersection: a number says nothing without its column."""
    return f"{words.title(name)} {level}" if spec.column(name).kind is Kind.numeric else level


def _overlapping(spec: Spec, table: Table, rows: NDArray[np.int64], columns: tuple[str, ...]) -> Grouping | None:
    """Segments, or cells that hold several levels: a row is in the group of each. None where groups do not overlap."""
    if columns == (SEGMENTS,):
        fitting = [one for one in spec.segments if segments.unfit(one, table) is None]
        if not fitting:
            raise Refused("No segment of the audit fits this table.", todo="Change their conditions in Data.")
        masks = np.array([segments.members(one, spec, table, rows) for one in fitting])
        return Grouping(columns, tuple(one.name for one in fitting), masks=masks)
    name = columns[0]
    if len(columns) > 1 or not spec.column(name).separator:
        return None
    cells, codes = table.coded(name)
    codes = codes[rows]
    held = [{part.strip() for part in str(cell).split(spec.column(name).separator) if part.strip()} for cell in cells]
    sizes = np.bincount(codes[codes >= 0], minlength=len(cells))
    totals: dict[str, int] = {}
    for parts, size in zip(held, sizes, strict=True):
        for part in parts:
            totals[part] = totals.get(part, 0) + int(size)
    levels = [part for part in sorted(totals, key=lambda part: (-totals[part], part)) if totals[part]][:MOST_LEVELS]
    masks = [np.append(np.array([level in parts for parts in held], bool), False)[codes] for level in levels]
    labels = [written(level) for level in levels]
    nothing = (codes < 0) | np.append(np.array([not parts for parts in held], bool), False)[codes]
    if nothing.any():
        labels, masks = [*labels, MISSING], [*masks, nothing]
    return Grouping((name,), tuple(labels), masks=np.array(masks).reshape(len(labels), len(rows)))


def _single(spec: Spec, table: Table, rows: NDArray[np.int64], name: str) -> tuple[list[str], NDArray[np.int64]]:
    column = spec.column(name)
    edges = edges_of(spec, table, rows, name)
    if edges is not None:
        return _bins(table.numbers(name)[rows], edges)
    found, codes = table.coded(name)
    codes = codes[rows]
    sizes = np.bincount(codes[codes >= 0], minlength=len(found))
    by_name = np.argsort(found.astype(str), kind="stable") if len(found) else np.array([], np.int64)
    ordered = [str(found[i]) for i in by_name[np.argsort(-sizes[by_name], kind="stable")] if sizes[i]]
    joined = len(ordered) > MOST_LEVELS
    if joined:  # the rarest, over the whole table, so that a group is the same whichever rows are read
        whole = np.bincount(table.coded(name)[1][table.coded(name)[1] >= 0], minlength=len(found))
        sizes_of = dict(zip(found.astype(str).tolist(), whole.tolist(), strict=True))
        largest = set(sorted(ordered, key=lambda level: (-sizes_of[level], level))[: MOST_LEVELS - 1])
        ordered = [level for level in ordered if level in largest]
    kept = [level for level in column.order if level in set(ordered)] if column.order else []
    ordered = kept + [level for level in ordered if level not in set(kept)]
    if column.kind is Kind.numeric:
        ordered.sort(key=float)
    place = {level: i for i, level in enumerate(ordered)}
    labels = [written(level) for level in ordered] + ([OTHER] if joined else [])
    return _with_missing(
        labels, np.array([place.get(str(level), len(ordered)) for level in found] + [-1], dtype=np.int64)[codes]
    )


def edges_of(spec: Spec, table: Table, rows: NDArray[np.int64], name: str) -> list[float] | None:
    """Borders between the bins that a number is read in; None where its levels are the groups."""
    column = spec.column(name)
    if column.kind is not Kind.numeric or not table.is_number(name):
        return None
    if column.cuts:
        return sorted(set(column.cuts))
    values = table.numbers(name)[rows]
    return borders(table, name) if len(np.unique(values[np.isfinite(values)])) > DISTINCT_NUMBERS else None


def written(level: str) -> str:
    """A level as a group's label: in quotes where it reads like a word of ours, so that no two groups have one name."""
    return f"“{level}”" if level in (MISSING, OTHER, SEGMENTS) or JOIN in level else level


def borders(table: Table, name: str) -> list[float]:
    """Borders between bins of a number, from all rows of the table, so that a bin is the same whichever rows are read.

    Quarters of the rows, rounded to as many digits as tell them apart: what a label says is what the border is.
    """
    values = table.numbers(name)
    known = values[np.isfinite(values)]
    exact = np.unique(np.quantile(known, np.arange(1, BINS) / BINS, method="inverted_cdf"))
    exact = exact[exact < known.max()] if (exact < known.max()).any() else exact
    for digits in range(4, 18):
        rounded = [float(f"{edge:.{digits}g}") for edge in exact]
        parts = np.bincount(np.searchsorted(rounded, known, side="left"), minlength=len(rounded) + 1)
        apart = len(set(rounded)) == len(rounded) and (parts > 0).all()
        if apart and np.abs(
            parts - np.bincount(np.searchsorted(exact, known, side="left"), minlength=len(parts))
        ).max() <= max(0.01 * len(known), 1):
            return rounded
    return [float(edge) for edge in exact]


def _bins(values: NDArray[np.float64], edges: list[float]) -> tuple[list[str], NDArray[np.int64]]:
    codes = np.where(np.isfinite(values), np.searchsorted(edges, values, side="left"), -1)
    labels = _labels(edges)
    present = [i for i in range(len(labels)) if (codes == i).any()]  # a bin without rows is no group
    place = np.full(len(labels) + 1, -1)
    place[present] = np.arange(len(present))
    return _with_missing([labels[i] for i in present], place[codes])


def _labels(edges: list[float]) -> list[str]:
    texts = [words.value_text(float(edge)) for edge in edges]
    between = [f"over {low} to {high}" for low, high in itertools.pairwise(texts)]
    return [f"up to {texts[0]}", *between, f"over {texts[-1]}"]


def ends_of(edges: list[float], label: str) -> tuple[float | None, float | None]:
    """What the rows of a bin lie over, and up to: its label read back."""
    ends = [None, *edges, None]
    place = _labels(edges).index(label)
    return ends[place], ends[place + 1]


def _with_missing(labels: list[str], codes: NDArray[np.int64]) -> tuple[list[str], NDArray[np.int64]]:
    if not (codes < 0).any():
        return labels, codes
    return [*labels, MISSING], np.where(codes < 0, len(labels), codes)
