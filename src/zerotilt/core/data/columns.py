"""Every column at a glance: what it holds, what is missing, and how it is told apart by something else."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Kind, Role, Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.response.parts import Parts, parts_of
from zerotilt.core.stats import apart
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

BINS, LEVELS, WORDS = 20, 12, 12
MOST_LISTED = 30
"""Levels up to which they are listed even where most stand in one row."""
MOST_TEXTS = 20_000
"""Texts whose words are counted."""
SPLIT, DECISION = "(split)", "(decision)"
BLANK = "(blank)"
AT = (0.0, 0.05, 0.25, 0.5, 0.75, 0.95, 1.0)


class ColumnsSettings(Frozen):
    by: str = Field(
        default="",
        max_length=500,
        description="What the rows are told apart by: a column, (split) for training and hold-out, (decision); none when empty",
    )


class ColumnSeen(Frozen):
    """One column. Rows are counted, not weighed."""

    name: str
    role: str
    shape: Literal["numbers", "days", "levels", "texts", "bytes"]
    missing: int
    endless: int = Field(
        default=0, description="Cells that hold a number without end: in the end bins, in no quantile and no mean"
    )
    distinct: int
    quantiles: tuple[float, ...] = Field(
        description="Of numbers and days (counted from 1970): least, 5%, 25%, median, 75%, 95%, greatest"
    )
    mean: float | None
    edges: tuple[float, ...] = Field(
        description="Ends of the bins, one more than these; the first and the last bin hold what lies beyond"
    )
    levels: tuple[str, ...] = Field(description="The most frequent levels, or words of texts")
    counts: tuple[int, ...] = Field(description="Rows in each bin, or of each level")
    others: int = Field(description="Levels that are not listed")
    other_rows: int
    by_part: tuple[tuple[int, ...], ...] = Field(
        description="The same counts in each part; empty where none are told apart"
    )
    missing_by_part: tuple[int, ...]
    distance: float | None = Field(
        description="Largest distance of a part from the other rows, 0 to 1: of distribution functions (numbers), or total "
        "variation (levels); null where none are told apart"
    )
    farthest: str = Field(description="That part")


class ColumnsResult(Frozen):
    columns: tuple[ColumnSeen, ...] = Field(
        description="In the order of the table; farthest apart first where they are told apart"
    )
    by: str
    parts: tuple[str, ...]
    part_rows: tuple[int, ...]
    choices: tuple[str, ...] = Field(description="What rows can be told apart by")
    missing: int = Field(description="Cells in which nothing stands")
    rows: int
    rows_named: str


class _Seen(NamedTuple):
    """Bins or levels of a column, and of each row which one it is in, shape (n,); −1 is missing."""

    codes: NDArray[np.int64]
    found: dict


def see_columns(subject: Subject, settings: ColumnsSettings, seed: int, work: Work) -> ColumnsResult:
    """One pass over the columns, one at a time, so that memory does not grow with how many there are.

    Raises
    ------
    Refused : the rows cannot be told apart by what was asked for.
    """
    if settings.by == SPLIT:
        subject = replace(subject, context=subject.context.model_copy(update={"rows": "all", "segment": None}))
    parts = _parts(subject, settings.by)
    sizes = () if parts is None else tuple(np.bincount(parts.codes, minlength=len(parts.labels)).tolist())
    work.begin(len(subject.table.names), "columns read")
    seen = []
    for name in subject.table.names:
        seen.append(_column(subject, name, parts))
        work.advance(1)
    if parts is not None:
        seen.sort(key=lambda one: -(one.distance or 0.0))
    predicted = subject.predictor or any(subject.spec.with_role(role) for role in (Role.score, Role.decision))
    decides = subject.kind.decides and bool(predicted)
    return ColumnsResult(
        columns=tuple(seen),
        by=settings.by,
        parts=() if parts is None else tuple(parts.labels),
        part_rows=sizes,
        choices=(SPLIT, *((DECISION,) if decides else ()), *subject.partable),
        missing=sum(one.missing for one in seen),
        rows=subject.n,
        rows_named=subject.context.rows,
    )


def _parts(subject: Subject, by: str) -> Parts | None:
    if not by:
        return None
    if by == SPLIT:
        held = row_sets.held_out(subject.spec, subject.table, "hold-out")[subject.rows.numbers]
        trained = row_sets.held_out(subject.spec, subject.table, "training")[subject.rows.numbers]
        codes = np.where(held, 1, np.where(trained, 0, 2))
        labels = ["training", "hold-out", "neither"][: 3 if (codes == 2).any() else 2]
        return Parts(labels, codes)
    if by == DECISION:
        taken = subject.decisions.taken
        present = np.unique(taken)
        return Parts([subject.decisions.named(int(one)) for one in present], np.searchsorted(present, taken))
    if by not in subject.partable:
        raise Refused(
            f"by: rows cannot be told apart by “{by}”; there are {words.listing(list(subject.partable[:8]))} and more.",
            todo="Choose one of these.",
        )
    found = parts_of(subject, by)
    return Parts([label or BLANK for label in found.labels], found.codes)


def _column(subject: Subject, name: str, parts: Parts | None) -> ColumnSeen:
    table, column, numbers = subject.table, subject.spec.column(name), subject.rows.numbers
    role = column.role.value
    if table.holds_bytes(name):
        return _seen(name, role, "bytes", _Seen(np.zeros(len(numbers), np.int64), {}), parts, 0, ())
    if table.is_number(name) or table.is_date(name):
        values = table.uncached_numbers(name)[numbers]
        shape: Literal["numbers", "days"] = "days" if table.is_date(name) else "numbers"
        found = _binned(values)
        telling = None if column.role is Role.identifier else parts
        return _seen(name, role, shape, found, parts, found.found.pop("distinct"), _numbers_apart(values, telling))
    if column.kind is Kind.text:
        return _texts(name, role, table.texts(name)[numbers], parts)
    levels, codes = table.coded(name)
    codes = codes[numbers]
    counts = np.bincount(codes[codes >= 0], minlength=len(levels))
    order = np.argsort(-counts, kind="stable")
    listed = [int(one) for one in order[:LEVELS] if counts[one]]
    place = np.full(len(levels) + 1, len(listed))
    place[listed] = np.arange(len(listed))
    place[-1] = -1
    distinct = int((counts > 0).sum())
    if distinct > MOST_LISTED and 2 * distinct > len(numbers):
        return _seen(name, role, "levels", _Seen(np.where(codes < 0, -1, 0), {"others": distinct, "other_rows": int(counts.sum())}), parts, distinct, ())  # fmt: skip
    found = _Seen(
        place[codes],
        {
            "levels": tuple(str(levels[one]) or BLANK for one in listed),
            "others": distinct - len(listed),
            "other_rows": int(counts.sum() - counts[listed].sum()),
        },
    )
    # levels of one row each are in one part only, whatever the parts are
    telling = parts if column.role is not Role.identifier and 2 * distinct <= len(numbers) else None
    return _seen(name, role, "levels", found, parts, distinct, _levels_apart(codes, len(levels), telling))


def _binned(values: NDArray[np.float64]) -> _Seen:
    """Bins of equal width over the middle 98%, or the values themselves where there are few; ends hold what lies beyond."""
    known = np.sort(values[np.isfinite(values)])
    endless = int(np.isinf(values).sum())
    if not len(known):
        return _Seen(np.full(len(values), -1), {"distinct": 0, "endless": endless})
    rises = np.concatenate([[True], known[1:] != known[:-1]])
    distinct = int(rises.sum())
    if distinct <= BINS:
        places = known[rises]
        edges = (places[1:] + places[:-1]) / 2
        ends = (places[0], *edges.tolist(), places[-1])
    else:
        low, high = known[[int(0.01 * (len(known) - 1)), int(np.ceil(0.99 * (len(known) - 1)))]]
        low, high = (low, high) if high > low else (known[0], known[-1])
        ends = tuple(np.linspace(low, high, BINS + 1).tolist())
        edges = np.array(ends[1:-1])
    codes = np.where(np.isnan(values), -1, np.searchsorted(edges, values, "right"))
    at = np.quantile(known, AT)  # between two values where the rows have no middle (Hyndman & Fan 1996, definition 7)
    return _Seen(
        codes,
        {
            "distinct": distinct,
            "endless": endless,
            "quantiles": tuple(at.tolist()),
            "mean": float(known.mean()),
            "edges": tuple(map(float, ends)),
        },
    )


def _texts(name: str, role: str, texts: NDArray[np.object_], parts: Parts | None) -> ColumnSeen:
    """Texts by their lengths; the commonest words of the first of them."""
    missing = np.array([one is None for one in texts])
    lengths = np.array([np.nan if one is None else len(one) for one in texts], float)
    counted: Counter[str] = Counter()
    for one in texts[~missing][:MOST_TEXTS]:
        counted.update({word for word in one.lower().split() if len(word) > 2})
    found = _binned(lengths)
    distinct = len(set(texts[~missing].tolist()))
    found.found.pop("distinct")
    found.found["levels"] = tuple(word for word, _ in counted.most_common(WORDS))
    return _seen(name, role, "texts", found, parts, distinct, _numbers_apart(lengths, parts))


Distances = tuple[float, ...]


def _numbers_apart(values: NDArray[np.float64], parts: Parts | None) -> Distances:
    if parts is None:
        return ()
    found = (
        apart.numbers(values[parts.codes == k], values[parts.codes != k]).distance for k in range(len(parts.labels))
    )
    return tuple(0.0 if one != one else one for one in found)


def _levels_apart(codes: NDArray[np.int64], many: int, parts: Parts | None) -> Distances:
    """Missing is a level here."""
    if parts is None:
        return ()
    held = np.where(codes < 0, many, codes)
    both = np.zeros((len(parts.labels), many + 1))
    np.add.at(both, (parts.codes, held), 1)
    whole = both.sum(axis=0)
    out = []
    for own in both:
        rest = whole - own
        sizes = own.sum(), rest.sum()
        out.append(float(np.abs(own / sizes[0] - rest / sizes[1]).sum() / 2) if all(sizes) else 0.0)
    return tuple(out)


def _seen(name, role, shape, seen: _Seen, parts: Parts | None, distinct: int, distances: Distances) -> ColumnSeen:
    found = dict(seen.found)
    many = max(len(found.get("edges", ())) - 1, 0) or len(found.get("levels", ()))
    if shape == "levels":
        many = len(found.get("levels", ()))

    def counted(codes: NDArray[np.int64]) -> tuple[int, ...]:
        return tuple(np.bincount(codes[(codes >= 0) & (codes < many)], minlength=many)[:many].tolist()) if many else ()

    endless = found.get("endless", 0)
    missing = int((seen.codes < 0).sum())
    apart_by = None if parts is None else [seen.codes[parts.codes == k] for k in range(len(parts.labels))]
    return ColumnSeen(
        name=name,
        role=role,
        shape=shape,
        missing=missing if many else missing - endless,
        endless=endless,
        distinct=distinct,
        quantiles=found.get("quantiles", ()),
        mean=found.get("mean"),
        edges=found.get("edges", ()),
        levels=found.get("levels", ()),
        counts=counted(seen.codes),
        others=found.get("others", 0),
        other_rows=found.get("other_rows", 0),
        by_part=() if apart_by is None else tuple(counted(one) for one in apart_by),
        missing_by_part=() if apart_by is None else tuple(int((one < 0).sum()) for one in apart_by),
        distance=max(distances) if distances else None,
        farthest=parts.labels[int(np.argmax(distances))] if parts is not None and distances else "",
    )


def by_words(by: str) -> str:
    """What rows are told apart by, as it stands in a sentence."""
    return {SPLIT: "training and hold-out", DECISION: "decision"}.get(by, words.title(by))


def _endless(result: ColumnsResult) -> str:
    found = [f"{words.title(one.name)} ({words.count(one.endless)})" for one in result.columns if one.endless]
    if not found:
        return ""
    return f" Numbers without end stand in {words.listing(found)}; no mean and no quantile counts them."


def say(result: ColumnsResult, wording: Wording, settings: ColumnsSettings) -> Reading:
    rows = row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)
    shown = words.plural(len(result.columns), "column")
    if not result.by:
        with_gaps = [one for one in result.columns if one.missing]
        headline = f"{words.opening(rows)} in {shown}"
        if with_gaps:
            most = max(with_gaps, key=lambda one: one.missing)
            headline += (
                f"; something is missing in {len(with_gaps)} of them, most in {words.title(most.name)} "
                f"({words.percent(most.missing / result.rows)})"
            )
        else:
            headline += "; nothing is missing"
        return plain(f"{headline}.", f"Rows are counted, whatever they weigh.{_endless(result)}")
    own = {result.by, *(one.name for one in result.columns if one.role == "split" and result.by == SPLIT)}
    told = [one for one in result.columns if one.distance is not None and one.name not in own]
    headline = f"{words.opening(rows)} told apart by {by_words(result.by)} in {words.plural(len(result.parts), 'part')}"
    if told and told[0].distance:
        first = told[0]
        headline += f"; {words.title(first.name)} differs most, {first.farthest} from the others by {words.decimal(first.distance or 0, 2)}"
    small = min(result.part_rows, default=0)
    return plain(
        f"{headline}.",
        f"A distance is 0 where a part is distributed as the other rows are, and 1 where they have nothing in common; the smallest part has {words.plural(small, 'row')}. It is not tested here.",
    )


METHOD = Method(
    name="columns",
    area="data",
    title="Every column",
    settings=ColumnsSettings,
    result=ColumnsResult,
    compute=see_columns,
    say=say,
    note=(
        "Numbers and days are counted in bins of equal width over their middle 98%, in which the first and the last hold "
        "what lies beyond, or value by value up to 20 values; levels by rows, the twelve most frequent; texts by their "
        "length. Told apart, each part is held against all other rows: the largest distance of their **distribution "
        "functions** (Kolmogorov–Smirnov) for numbers, the **total variation** for levels, missing being a level."
    ),
    main="columns",
    part="columns",
    needs=frozenset(),
    arrays=lambda result: {"columns": [_flat(one) for one in result.columns]},
    version=2,
)


def _flat(one: ColumnSeen) -> dict:
    names = ("least", "p05", "p25", "median", "p75", "p95", "greatest")
    told = dict(zip(names, one.quantiles, strict=False)) if one.quantiles else dict.fromkeys(names)
    return {
        "column": one.name, "role": one.role, "shape": one.shape, "missing": one.missing, "endless": one.endless, "distinct": one.distinct,
        **told, "mean": one.mean, "distance": one.distance, "farthest": one.farthest,
    }  # fmt: skip
