"""A segment while it is being made: which rows it holds, what they are like, and what it overlaps with."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership, segments, words
from zerotilt.core import rows as row_sets
from zerotilt.core.drawing import Picture
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.metrics import metric_named
from zerotilt.core.groups.metrics import phrase as metric_phrase
from zerotilt.core.logic import All, Any, Node, Not, blocks_of, picks
from zerotilt.core.meaning import MOST_ALTERNATIVES, MOST_PICKED, Block, Condition, Segment, Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.segmenting import sizes
from zerotilt.core.segmenting.sizes import Overlap, Sides
from zerotilt.core.subject import Subject
from zerotilt.core.typed_conditions import expression, written
from zerotilt.core.work import Work

SPLITS = ("hold-out", "training", "all")
MADE_OF = "the segment that is being made"


class SegmentSettings(Frozen):
    conditions: str = Field(
        default="",
        max_length=20_000,
        description='Conditions joined by and, or, not; segment "NAME" stands for a saved one',
    )
    blocks: tuple[Block, ...] = Field(
        default=(), max_length=MOST_ALTERNATIVES, description="Lists of conditions instead, as a segment holds them"
    )
    picked: tuple[str, ...] = Field(default=(), max_length=MOST_PICKED, description="Identifiers of rows instead")
    group: str = Field(
        default="", max_length=1_000, description="A grouping, as Tilt names it: one group of it instead"
    )
    member: str = Field(default="", max_length=1_000, description="The group")
    name: str = Field(default="", max_length=120, description="Of the saved segment that is being changed")


class SplitRows(Frozen):
    which: Literal["hold-out", "training", "all"]
    rows: int
    of: int


class SegmentResult(Frozen):
    segment: Segment | None = Field(description="What can be saved; null where nothing is said yet")
    typed: str = Field(description="Its conditions as they would be typed")
    described: str = Field(description="In words")
    rows: int = Field(description="Of the context's split")
    of: int
    splits: tuple[SplitRows, ...]
    sides: tuple[Sides, ...]
    overlaps: tuple[Overlap, ...]
    notes: tuple[str, ...] = Field(description="What must be known about it")
    rows_named: str


def draft(subject: Subject, settings: SegmentSettings, seed: int, work: Work) -> SegmentResult:
    """What a segment would hold, of the rows of the context's split.

    Raises
    ------
    Refused : its conditions cannot be read, contradict each other, or ask a column for what it does not hold.
    """
    subject = sizes.whole(subject)
    work.begin(1, "rows told apart")
    segment = _asked(subject, settings)
    if segment is None:
        return SegmentResult(
            segment=None, typed="", described="", rows=subject.n, of=subject.n, splits=_splits(subject, None), sides=(),
            overlaps=(), notes=(), rows_named=subject.context.rows,
        )  # fmt: skip
    mask = sizes.members(segment, subject)
    splits = _splits(subject, segment)
    return SegmentResult(
        segment=segment,
        typed=written(segment.blocks),
        described=segments.described(segment),
        rows=int(mask.sum()),
        of=subject.n,
        splits=splits,
        sides=sizes.sides(subject, mask, seed),
        overlaps=sizes.overlaps(subject, mask, settings.name),
        notes=tuple(_notes(subject, segment, mask)),
        rows_named=subject.context.rows,
    )


def _asked(subject: Subject, settings: SegmentSettings) -> Segment | None:
    """The segment that the settings speak of; None where they say nothing."""
    if settings.group:
        return of_group(subject, settings.group, settings.member)
    if settings.blocks:
        if not all(settings.blocks):
            raise Refused("blocks: one of them has no condition.", todo="Take it out.")
        segment = Segment(name=MADE_OF, conditions=settings.blocks[0], alternatives=settings.blocks[1:])
    elif settings.picked:
        segment = Segment(name=MADE_OF, picked=settings.picked)
    elif settings.conditions.strip():
        node = expression(settings.conditions, subject.table.names, subject.spec.segments)
        if picks(node):
            return _picked(subject, node, settings.conditions)
        first, *rest = blocks_of(node)
        segment = Segment(name=MADE_OF, conditions=first, alternatives=tuple(rest))
    else:
        return None
    if (lacking := segments.unfit(segment, subject.table)) is not None:
        raise lacking
    return segment


def _picked(subject: Subject, node: Node, text: str) -> Segment:
    """Rows of the whole table, where picked rows have a part in it; conditions alone could not say them."""
    every = np.arange(subject.table.rows)
    found = np.flatnonzero(_meeting(subject, node, every))
    if not len(found):
        raise Refused("No row of the table is meant by this.", todo="Join other segments.")
    if len(found) > MOST_PICKED:
        raise Refused(
            f"Rows that were picked one by one have a part in it, and {words.count(len(found))} rows are meant; "
            f"{words.count(MOST_PICKED)} can be picked.",
            todo="Join segments that are made by conditions, or fewer rows.",
        )
    names = tuple(row_sets.names_of(subject.spec, subject.table, found))
    return Segment(name=MADE_OF, picked=names, source=f"as {text} held in this table"[:400])


def _meeting(subject: Subject, node: Node, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    if isinstance(node, Not):
        return ~_meeting(subject, node.part, rows)
    if isinstance(node, All):
        return np.logical_and.reduce([_meeting(subject, one, rows) for one in node.parts])
    if isinstance(node, Any):
        return np.logical_or.reduce([_meeting(subject, one, rows) for one in node.parts])
    segment = node if isinstance(node, Segment) else Segment(name=MADE_OF, conditions=(node,))
    return segments.members(segment, subject.spec, subject.table, rows)


def of_group(subject: Subject, group: str, member: str) -> Segment:
    """One group of a column, or of a crossing, by conditions that hold it exactly; a saved segment as it is.

    Raises
    ------
    Refused : there is no such group among the rows.
    """
    columns = membership.columns_of(subject.spec, group)
    if columns == (membership.SEGMENTS,):
        return next((one for one in subject.spec.segments if one.name == member), None) or _no_group(group, member)
    grouping = membership.grouping(subject.spec, subject.table, subject.rows.numbers, columns)
    mask = grouping.mask(grouping.place(member))
    conditions = tuple(_holding(subject, name, mask) for name in columns)
    return Segment(name=MADE_OF, conditions=conditions)


def _no_group(group: str, member: str) -> Segment:
    raise Refused(f"“{member}” is none of the groups of {words.title(group)}.", todo="Choose one of them.")


def _holding(subject: Subject, name: str, mask: NDArray[np.bool_]) -> Condition:
    """What the rows of a group have in one of its columns: the label that each has, turned into a condition."""
    single = membership.grouping(subject.spec, subject.table, subject.rows.numbers, (name,))
    place = next(
        i for i in range(len(single.labels)) if (single.mask(i) & mask).any() and (mask <= single.mask(i)).all()
    )
    label = single.labels[place]
    table, column = subject.table, subject.spec.column(name)
    if label == membership.MISSING:
        return Condition(column=name, missing=True)
    if column.separator:
        cells, _ = table.coded(name)
        wanted = [
            cell
            for cell in map(str, cells)
            if label in {membership.written(part.strip()) for part in cell.split(column.separator)}
        ]
        return Condition(column=name, levels=tuple(wanted))
    edges = membership.edges_of(subject.spec, table, subject.rows.numbers, name)
    if edges is not None:
        low, high = membership.ends_of(edges, label)
        return Condition(column=name, over=low, up_to=high)
    if label == membership.OTHER:
        kept = tuple(_level(one) for one in single.labels if one not in (membership.OTHER, membership.MISSING))
        return Condition(column=name, levels=kept, missing=True, negated=True)
    return Condition(column=name, levels=(_level(label),))


def _level(label: str) -> str:
    """A group's label as it stands in the cells."""
    bare = label[1:-1]
    return bare if label != bare and membership.written(bare) == label else label


def _splits(subject: Subject, segment: Segment | None) -> tuple[SplitRows, ...]:
    """Rows in every split, those with an unknown outcome left out."""
    known = row_sets.known(subject.spec, subject.table)
    found = []
    for which in SPLITS:
        chosen = known if which == "all" else known & row_sets.held_out(subject.spec, subject.table, which)
        rows = np.flatnonzero(chosen)
        inside = (
            len(rows) if segment is None else int(segments.members(segment, subject.spec, subject.table, rows).sum())
        )
        found.append(SplitRows(which=which, rows=inside, of=len(rows)))
    return tuple(found)


def _notes(subject: Subject, segment: Segment, mask: NDArray[np.bool_]) -> list[str]:
    found = []
    table, least = subject.table, subject.spec.policy.minimum_rows
    inside = int(mask.sum())
    if not inside:
        found.append("No row is in it: nothing can be read of it here.")
    elif inside == subject.n:
        found.append("It holds all rows: there is nothing left to compare it with.")
    elif inside < least:
        found.append(
            f"With {words.plural(inside, 'row')} it is smaller than the {least} from which groups are compared."
        )
    for one in dict.fromkeys(one for block in segment.blocks for one in block):
        there = {str(level) for level in table.coded(one.column)[0]} if one.levels else set()
        absent = [f"“{level}”" for level in one.levels if level not in there]
        if absent:
            found.append(f"No row of the table has {words.listing(absent[:5], 'or')} as its {words.title(one.column)}.")
        if one.missing and not one.negated and not (table.coded(one.column)[1] < 0).any():
            found.append(f"{words.opening(words.title(one.column))} is missing in no row of the table.")
    if segment.picked:
        unknown = len(set(segment.picked)) - int(
            segments.members(segment, subject.spec, table, np.arange(table.rows)).sum()
        )
        if unknown > 0:
            found.append(
                f"{words.opening(words.plural(unknown, 'picked identifier'))} {'names' if unknown == 1 else 'name'} no row of the table."
            )
        found.append("It holds rows by their identifiers: new rows will never belong to it.")
    return found


def say(result: SegmentResult, wording: Wording, settings: SegmentSettings) -> Reading:
    if result.segment is None:
        return plain(
            "Say which rows belong together: put conditions together, or type them.",
            f"There are {row_sets.counted(result.of, result.rows_named, wording.rows)} to choose from.",
        )
    rows = row_sets.counted(result.of, result.rows_named, wording.row if result.of == 1 else wording.rows)
    share = f", {words.percent(result.rows / result.of)}" if result.rows >= 5 and result.of else ""
    verb = "belongs" if result.rows == 1 else "belong"
    headline = f"{words.opening(words.count(result.rows))} of {rows} {verb} to it{share}."
    first = next((one for one in result.sides if metric_named(one.metric).name in ("accuracy", "mae")), None)
    first = first or (result.sides[0] if result.sides else None)
    if first is not None and first.inside.value is not None and first.outside.value is not None:
        show = sizes.written_as(first.metric, wording)
        headline += (
            f" {words.opening(metric_phrase(first.metric))} {show(first.inside.value)} "
            f"({show(first.inside.low)} to {show(first.inside.high)}) against {show(first.outside.value)} in the others."
            if first.inside.low is not None and first.inside.high is not None
            else f" {words.opening(metric_phrase(first.metric))} {show(first.inside.value)} against {show(first.outside.value)}."
        )
    return plain(headline, " ".join(result.notes))


def picture(result: SegmentResult, spec: Spec) -> Picture | None:
    """How much of each split it holds."""
    if result.segment is None:
        return None
    splits = [one for one in result.splits if one.of]
    return Picture(
        names=tuple(f"{row_sets.NAMES[one.which]} {spec.wording.rows}" for one in splits),
        values=tuple(one.rows / one.of for one in splits),
        label=f"share of the {spec.wording.rows} that belong to it",
    )


METHOD = Method(
    name="segment",
    weighs=False,
    area="data",
    title="Segment",
    settings=SegmentSettings,
    result=SegmentResult,
    compute=draft,
    say=say,
    note=(
        "A segment is a named set of rows. By **conditions**: a column's levels, a range of numbers or days, or a missing "
        "cell, joined by and, or, not; they hold for new rows as well. What is *not* so includes rows whose cell is empty. By "
        "**identifiers**: exactly these rows, and no others ever.\n\nIts figures stand beside those of all other rows of "
        "the same split, with the intervals of Performance. Choosing rows because their figures looked odd makes them look "
        "odder than they are: read a segment on rows it was not found on."
    ),
    main="splits",
    picture=picture,
    part="making",
    needs=frozenset(),
    depends=frozenset({"spec", "comparisons", "policy"}),
)
