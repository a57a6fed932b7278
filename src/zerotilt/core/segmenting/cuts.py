"""A column cut into segments by itself: by equal width or counts, given borders, levels, or where the error changes."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import segments, words
from zerotilt.core.drawing import Picture
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.metrics import metric_named
from zerotilt.core.meaning import Block, Condition, Segment, Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.segmenting import borders, sizes
from zerotilt.core.segmenting.sizes import Sides
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

How = Literal["equal counts", "equal width", "borders", "levels", "where the error changes"]
FEWEST, SHARE = 30, 0.02
MOST_LEVELS = 60


class CutsSettings(Frozen):
    column: str = Field(default="", max_length=500, description="The first feature that can be cut when empty")
    how: How = Field(default="equal counts", description="Levels, where the column holds no numbers")
    parts: int = Field(default=4, ge=2, le=20)
    borders: tuple[float, ...] = Field(
        default=(), max_length=40, description="For given borders: rows up to each belong below it"
    )


class CutPart(Frozen):
    segment: Segment
    described: str
    rows: int
    share: float = Field(description="Of the rows")
    sides: tuple[Sides, ...]


class CutsResult(Frozen):
    column: str
    how: How
    columns: tuple[str, ...] = Field(description="Those that can be cut")
    numeric: bool = Field(description="Whether the column holds numbers, so that it can have borders")
    borders: tuple[float, ...]
    parts: tuple[CutPart, ...]
    learnt: int = Field(
        description="Rows in which borders were looked for, when they follow the error; figures are of the others"
    )
    rows: int
    rows_named: str
    notes: tuple[str, ...]


def cut(subject: Subject, settings: CutsSettings, seed: int, work: Work) -> CutsResult:
    """The parts of one column as segments that could be kept, each with its figures.

    Raises
    ------
    Refused : the column cannot be cut in that way, or all its rows are in one part.
    """
    subject = sizes.whole(subject)
    columns = _columns(subject)
    name = settings.column or columns[0]
    if name not in columns:
        raise Refused(
            f"“{name}” cannot be cut; there are {words.listing(list(columns[:8]))}.", todo="Choose one of these."
        )
    numeric = subject.table.is_number(name)
    how = settings.how if numeric or settings.how == "where the error changes" else "levels"
    work.begin(1, "rows told apart")
    told, judged, learnt = np.ones(subject.n, bool), np.ones(subject.n, bool), 0
    error = None
    if how == "where the error changes":
        error = _error(subject)
        told = np.random.default_rng(seed).permutation(subject.n) < subject.n // 2
        judged, learnt = ~told, int(told.sum())
    source = ""
    if numeric and how != "levels":
        edges = _edges(subject, settings, name, how, told, error)
        found = [(Condition(column=name, over=low, up_to=high),) for low, high in _between(edges)]
        source = _source(subject, how, learnt)
    else:
        edges = []
        found = _by_levels(subject, name, settings.parts, told, error)
        source = _source(subject, how, learnt) if error is not None else ""
    if (subject.table.coded(name)[1][subject.rows.numbers] < 0).any():
        found.append((Condition(column=name, missing=True),))
    if len(found) < 2:
        nowhere = f"Nowhere along {words.title(name)} does the error change by more than chance."
        one_part = f"Cut by {how}, all rows are in one part of {words.title(name)}."
        raise Refused(nowhere if error is not None else one_part, todo="Cut it in another way, or another column.")
    return CutsResult(
        column=name,
        how=how,
        columns=columns,
        numeric=numeric,
        borders=tuple(edges),
        parts=tuple(_parts(subject, found, judged, source, seed)),
        learnt=learnt,
        rows=int(judged.sum()),
        rows_named=subject.context.rows,
        notes=tuple(_notes(subject, name, how, edges, settings)),
    )


def _columns(subject: Subject) -> tuple[str, ...]:
    """Columns that can be cut, what the model reads first."""
    found = [name for name in subject.partable if not subject.table.is_date(name)]
    inputs = set(subject.predictor.inputs) if subject.predictor else set()
    if not found:
        raise Refused("No column can be cut into parts.", todo="Give a column another role or kind in Intake.")
    return tuple(sorted(found, key=lambda one: one not in inputs))


def _error(subject: Subject) -> NDArray[np.float64]:
    """How far off each row is, shape (n,): what the borders follow."""
    if not (sizes.predicts(subject) and subject.spec.knows_outcome):
        raise Refused(
            "Where the error changes is not known: that needs predictions and what really happened.",
            todo="Cut it in another way.",
        )
    missed = subject.kind.missed(subject.rows.outcome, subject.predictions)
    if missed is None:
        return (subject.rows.outcome.astype(np.int64) != subject.decisions.taken).astype(float)
    return np.abs(missed)


def _edges(subject: Subject, settings: CutsSettings, name: str, how: How, told, error) -> list[float]:
    values = subject.table.numbers(name)[subject.rows.numbers]
    if how == "borders":
        if not settings.borders:
            raise Refused("borders: none is given.", todo="Write numbers, such as 5, 10, 20.")
        return sorted(set(settings.borders))
    if how == "equal width":
        return borders.equal_width(values, settings.parts)
    if how == "equal counts":
        return borders.equal_counts(values, settings.parts, subject.rows.mass)
    least = max(FEWEST, int(SHARE * told.sum()))
    return borders.where_it_changes(values[told], error[told], subject.rows.mass[told], settings.parts, least)


def _between(edges: Sequence[float]) -> list[tuple[float | None, float | None]]:
    if not edges:
        return []
    ends = [None, *edges, None]
    return list(itertools.pairwise(ends))


def _by_levels(subject: Subject, name: str, parts: int, told, error) -> list[Block]:
    """Each level by itself, the rarest together; or levels put together by how far off their rows are."""
    levels, codes = subject.table.coded(name)
    codes = codes[subject.rows.numbers]
    sizes_of = np.bincount(codes[codes >= 0], minlength=len(levels))
    present = [i for i in np.argsort(-sizes_of, kind="stable") if sizes_of[i]]
    if error is None:
        order = subject.spec.column(name).order
        rank = {level: i for i, level in enumerate(order)}
        shown = sorted(present[:MOST_LEVELS], key=lambda i: rank.get(str(levels[i]), len(rank)))
        found: list[Block] = [(Condition(column=name, levels=(str(levels[i]),)),) for i in shown]
        if len(present) > MOST_LEVELS:
            kept = tuple(str(levels[i]) for i in shown)
            found.append((Condition(column=name, levels=kept, missing=True, negated=True),))
        return found
    mass = subject.rows.mass
    means = {i: _mean(error[told & (codes == i)], mass[told & (codes == i)]) for i in present[:MOST_LEVELS]}
    known = sorted((i for i in means if np.isfinite(means[i])), key=lambda i: means[i])
    if not known:
        return []
    place = np.full(len(levels) + 1, -1)
    place[known] = np.arange(len(known))
    of_row = place[codes].astype(float)
    of_row[of_row < 0] = np.nan
    least = max(FEWEST, int(SHARE * told.sum()))
    cuts = borders.where_it_changes(of_row[told], error[told], mass[told], parts, least)
    found = []
    for low, high in _between(cuts):
        inside = [i for at, i in enumerate(known) if (low is None or at > low) and (high is None or at <= high)]
        if inside:
            found.append((Condition(column=name, levels=tuple(str(levels[i]) for i in inside)),))
    return found


def _mean(values: NDArray[np.float64], mass: NDArray[np.float64]) -> float:
    return float((values * mass).sum() / mass.sum()) if mass.sum() > 0 else np.nan


def _parts(subject: Subject, blocks: Sequence[Block], judged: NDArray[np.bool_], source: str, seed: int):
    found = []
    for block in blocks:
        name = segments.said(block[0])
        segment = Segment(name=name if len(name) <= 120 else f"{name[:119]}…", conditions=block, source=source)
        found.append((segment, sizes.members(segment, subject)))
    metrics = sizes.told(subject) if sizes.predicts(subject) else ()
    if metrics:
        # rows in which borders were looked for count neither inside nor outside
        own, outside = sizes.both_sides(
            subject, [mask for _, mask in found], [one.name for one, _ in found], metrics, seed, judged
        )
    for i, (segment, mask) in enumerate(found):
        rows = int((mask & judged).sum())
        yield CutPart(
            segment=segment,
            described=segments.described(segment),
            rows=rows,
            share=rows / max(int(judged.sum()), 1),
            sides=tuple(Sides(metric=key, inside=one.at(i), outside=outside[key].at(i)) for key, one in own.items())
            if metrics
            else (),
        )


def _source(subject: Subject, how: How, learnt: int) -> str:
    if how == "borders":
        return ""
    rows = f"{row_sets.NAMES[subject.context.rows]} {subject.spec.wording.rows}"
    if how == "where the error changes":
        return f"cut where the error changes most, learnt from half of the {rows}: {words.count(learnt)} of them"
    return f"cut by {how} of the {rows}"


def _notes(subject: Subject, name: str, how: How, edges: Sequence[float], settings: CutsSettings) -> list[str]:
    found = []
    if how in ("equal counts", "equal width") and len(edges) + 1 < settings.parts:
        found.append(f"{settings.parts} parts were asked for; values that tie leave {len(edges) + 1}.")
    if how == "where the error changes":
        found.append("Borders were looked for in one half of the rows; the figures are those of the other half.")
        if edges and len(edges) + 1 < settings.parts:
            found.append(f"{settings.parts} parts were asked for; more than {len(edges) + 1} follow chance.")
    if settings.how != how and settings.how != "levels":
        found.append(f"{words.opening(words.title(name))} holds no numbers; it is cut by its levels.")
    there = {str(level) for level in subject.table.coded(name)[0]}
    if how == "levels" and len(there) > MOST_LEVELS:
        found.append(
            f"Of {words.count(len(there))} levels the {MOST_LEVELS} most frequent stand by themselves, all others together."
        )
    return found


def _short(text: str) -> str:
    """A part of many levels by its first ones."""
    return text if len(text) <= 60 else f"{text[:59].rsplit(' ', 1)[0]} …"


def say(result: CutsResult, wording: Wording, settings: CutsSettings) -> Reading:
    parts, rows = (
        result.parts,
        row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows),
    )
    column = words.title(result.column)
    headline = f"{words.opening(column)} cut into {len(parts)} parts of {rows}, by {result.how}."
    if result.how == "where the error changes":
        headline = f"{words.opening(column)} cut into {len(parts)} parts, where the error changes most; read of the {rows} it was not learnt from."
    told = [
        (one, side)
        for one in parts
        if one.rows >= FEWEST  # no percentages of a handful of rows
        for side in one.sides
        if metric_named(side.metric).name in ("accuracy", "mae", "mean_prediction", "selection_rate")
        and side.inside.value is not None
    ]
    if told:
        first = next(
            (
                key
                for key in ("accuracy", "mae", "selection_rate", "mean_prediction")
                if any(side.metric == key for _, side in told)
            ),
            "",
        )
        of_it = [(one, side.inside.value or 0.0) for one, side in told if side.metric == first]
        if len(of_it) > 1:
            low, high = min(of_it, key=lambda one: one[1]), max(of_it, key=lambda one: one[1])
            show = sizes.written_as(first, wording)
            headline += (
                f" {words.opening(metric_named(first).phrase)} goes from {show(low[1])} ({_short(low[0].described)}, {words.plural(low[0].rows, wording.row, wording.rows)}) "
                f"to {show(high[1])} ({_short(high[0].described)}, {words.plural(high[0].rows, wording.row, wording.rows)})."
            )
    return plain(headline, " ".join(result.notes))


def picture(result: CutsResult, spec: Spec) -> Picture:
    """How many rows each part holds."""
    return Picture(
        names=tuple(one.described for one in result.parts),
        values=tuple(one.share for one in result.parts),
        label=f"share of the {spec.wording.rows}",
    )


METHOD = Method(
    name="cuts",
    area="data",
    title="Column cut into segments",
    settings=CutsSettings,
    result=CutsResult,
    compute=cut,
    say=say,
    note=(
        "**Equal counts** puts as many rows (weight) into each part as ties allow; **equal width** makes stretches of one "
        "length; **levels** takes each by itself. **Where the error changes** weighs every choice of borders among up to 200 "
        "places for the one that leaves least spread of the error within parts (Fisher 1958), and takes fewer parts where one "
        "more gains less than Schwarz' criterion asks (Yao 1988). It looks in a seeded half of the rows and is read of the other half: borders that "
        "were looked for make a difference larger than it is where they were found. Levels are put in the order of their mean "
        "error in the first half.\n\nRows up to a border belong below it; rows whose cell is empty are a part of their own."
    ),
    main="parts",
    picture=picture,
    part="making",
    needs=frozenset(),
)
