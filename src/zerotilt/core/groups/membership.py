"""Which rows belong to which group: levels, bins, missing, intersections, overlapping memberships and segments."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import segments, words
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Kind, Spec
from zerotilt.core.table import Table

MISSING = "(missing)"
OTHER = "(other)"
JOIN = " · "
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

    @property
    def attribute(self) -> str:
        return attribute(self.columns)

    @property
    def overlapping(self) -> bool:
        return self.codes is None

    def mask(self, place: int) -> NDArray[np.bool_]:
        return self.masks[place] if self.codes is None else self.codes == place

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
    if any(column.name == name for column in spec.columns):
        return (name,)
    columns = tuple(name.split(JOIN))
    if columns == (SEGMENTS,):
        if not spec.segments:
            raise Refused("The audit has no segments.", todo="Save some rows as a segment first.")
        return columns
    if len(columns) > 3 or len(set(columns)) < len(columns):
        raise Refused(f"“{name}” crosses more than three columns, or one with itself.", todo="Cross up to three.")
    for column in columns:
        spec.column(column)
    return columns


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
    labels = tuple(
        JOIN.join(
            _naming(spec, name, levels[at])
            for name, (levels, _), at in zip(columns, parts, np.unravel_index(code, shape), strict=True)
        )
        for code in present
    )
    return Grouping(columns, labels, codes=place[codes])


def _naming(spec: Spec, name: str, level: str) -> str:
    """A level inside an intersection: a number says nothing without its column."""
    return f"{words.title(name)} {level}" if spec.column(name).kind is Kind.numeric else level


def _overlapping(spec: Spec, table: Table, rows: NDArray[np.int64], columns: tuple[str, ...]) -> Grouping | None:
    """Segments, or cells that hold several levels: a row is in the group of each. None where groups do not overlap."""
    if columns == (SEGMENTS,):
        masks = np.array([segments.members(one, table, rows) for one in spec.segments])
        return Grouping(columns, tuple(one.name for one in spec.segments), masks=masks)
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
    labels = [part for part in sorted(totals, key=lambda part: (-totals[part], part)) if totals[part]][:MOST_LEVELS]
    masks = [np.append(np.array([label in parts for parts in held], bool), False)[codes] for label in labels]
    nothing = (codes < 0) | np.append(np.array([not parts for parts in held], bool), False)[codes]
    if nothing.any():
        labels, masks = [*labels, MISSING], [*masks, nothing]
    return Grouping((name,), tuple(labels), masks=np.array(masks).reshape(len(labels), len(rows)))


def _single(spec: Spec, table: Table, rows: NDArray[np.int64], name: str) -> tuple[list[str], NDArray[np.int64]]:
    column = spec.column(name)
    if column.kind is Kind.numeric and table.is_number(name):
        values = table.numbers(name)[rows]
        known = values[np.isfinite(values)]
        distinct = np.unique(known)
        if column.cuts or len(distinct) > DISTINCT_NUMBERS:
            return _bins(values, column.cuts or tuple(np.unique(np.quantile(known, np.arange(1, BINS) / BINS))))
    found, codes = table.coded(name)
    codes = codes[rows]
    sizes = np.bincount(codes[codes >= 0], minlength=len(found))
    by_name = np.argsort(found.astype(str), kind="stable") if len(found) else np.array([], np.int64)
    ordered = [str(found[i]) for i in by_name[np.argsort(-sizes[by_name], kind="stable")] if sizes[i]]
    kept = [level for level in column.order if level in set(ordered)] if column.order else []
    ordered = kept + [level for level in ordered if level not in set(kept)]
    if column.kind is Kind.numeric:
        ordered.sort(key=float)
    if len(ordered) > MOST_LEVELS:
        ordered = [*ordered[: MOST_LEVELS - 1], OTHER]
    place = {level: i for i, level in enumerate(ordered)}
    other = place.get(OTHER, 0)
    return _with_missing(
        ordered, np.array([place.get(str(level), other) for level in found] + [-1], dtype=np.int64)[codes]
    )


def _bins(values: NDArray[np.float64], cuts: tuple[float, ...]) -> tuple[list[str], NDArray[np.int64]]:
    edges = sorted(cuts)
    codes = np.where(np.isfinite(values), np.searchsorted(edges, values, side="left"), -1)
    texts = [words.value_text(float(f"{edge:.4g}")) for edge in edges]
    labels = [f"up to {texts[0]}"]
    labels += [f"over {low} to {high}" for low, high in itertools.pairwise(texts)]
    return _with_missing([*labels, f"over {texts[-1]}"], codes)


def _with_missing(labels: list[str], codes: NDArray[np.int64]) -> tuple[list[str], NDArray[np.int64]]:
    if not (codes < 0).any():
        return labels, codes
    return [*labels, MISSING], np.where(codes < 0, len(labels), codes)
