"""A question in SQL over the rows, with what is predicted, decided and off as columns."""

from __future__ import annotations

import math
from decimal import Decimal
from functools import partial
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute
import pyarrow.parquet as pq
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.attached import Attached
from zerotilt.core.cases_asked import EXPLAINED
from zerotilt.core.drawing import MOST_BARS, Picture
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import MOST_PICKED, Role, Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.segmenting import sizes, sql
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

pc: Any = pyarrow.compute  # its functions are made when it is imported; no checker knows them

SHOWN = 500
ROW = "row"


class QuerySettings(Frozen):
    sql: str = Field(
        default="",
        max_length=20_000,
        description=f"One question over the table {sql.TABLE}; its columns only when empty",
    )
    contributions: bool = Field(
        default=False, description="Contributions of the features as columns; every row is explained for it"
    )


class AskedColumn(Frozen):
    name: str
    kind: Literal["number", "text", "day", "yes or no", "other"]
    what: str = Field(description="Empty for a column of the table; else what it holds")


class QueryResult(Frozen):
    known: tuple[AskedColumn, ...] = Field(description="Columns that a question can name")
    columns: tuple[AskedColumn, ...] = Field(description="Of the answer")
    cells: tuple[tuple[str | float | bool | None, ...], ...] = Field(description="The first rows of the answer")
    answer: Attached | None = Field(description="All of it, as a Parquet file; null where nothing was asked")
    matching: int = Field(description="Rows of the answer")
    whole: bool = Field(description="Whether the answer has no more rows than these")
    picked: tuple[str, ...] = Field(
        description="Identifiers of the rows in it, where it holds them and they are few enough to be kept"
    )
    names_rows: int = Field(description="Different rows that it names")
    rows: int
    rows_named: str


def answer(subject: Subject, settings: QuerySettings, seed: int, work: Work) -> QueryResult:
    """Ask a question of the rows of the context.

    Raises
    ------
    Refused : it is no single SELECT over the table, names what is not there, or takes more than it may.
    """
    offered = _offered(subject, settings.contributions)
    known = tuple(AskedColumn(name=name, kind=_kind(kind), what=what) for name, (kind, what, _) in offered.items())
    if not settings.sql.strip():
        return QueryResult(
            known=known, columns=(), cells=(), answer=None, matching=0, whole=True, picked=(), names_rows=0, rows=subject.n,
            rows_named=subject.context.rows,
        )  # fmt: skip
    work.begin(2, "parts of the question answered")

    def table(wanted: set[str]) -> pa.Table:
        # the engine counts rows by some column, so that one is always there
        chosen = [name for name in offered if "*" in wanted or name.lower() in wanted or name == next(iter(offered))]
        made = pa.table({name: offered[name][2]() for name in chosen})
        work.advance(1)
        return made

    found = sql.ask(settings.sql, table)
    plain_table = pa.table([_plain(column) for column in found.table.columns], names=_apart(found.table.column_names))
    names = _named_rows(subject, plain_table)
    work.advance(1)
    return QueryResult(
        known=known,
        columns=tuple(
            AskedColumn(
                name=field.name, kind=_kind(field.type), what=offered[field.name][1] if field.name in offered else ""
            )
            for field in plain_table.schema
        ),
        cells=_cells(plain_table.slice(0, SHOWN)),
        answer=Attached.of(plain_table),
        matching=plain_table.num_rows,
        whole=found.whole,
        picked=tuple(names) if 0 < len(names) <= MOST_PICKED else (),
        names_rows=len(names),
        rows=subject.n,
        rows_named=subject.context.rows,
    )


def _offered(subject: Subject, contributions: bool) -> dict[str, tuple[pa.DataType, str, Any]]:
    """Every column that can be named: its type, what it holds where it is ours, and how it is had."""
    table, numbers = subject.table, subject.rows.numbers
    every = len(numbers) == table.rows
    found: dict[str, tuple[pa.DataType, str, Any]] = {}

    def put(name: str, kind: pa.DataType, what: str, made: Any) -> None:
        taken = {one.lower() for one in found}
        own = name
        while own.lower() in taken:
            own += "_"
        found[own] = (kind, what, made)

    # the engine takes capitals for small letters: what differs by them alone is told by its number, and asked by no name
    # that could be another's
    alike: dict[str, list[str]] = {}
    for name in table.names:
        alike.setdefault(name.lower(), []).append(name)
    for name in table.names:
        if not table.holds_bytes(name):
            same = alike[name.lower()]
            own, what = (name, "") if len(same) == 1 else (f"{name}_{same.index(name) + 1}", f"the column “{name}”")
            put(own, table.stored(name), what, partial(_taken, table, name, None if every else numbers))
    put(ROW, pa.int64(), "number of the row in the table, from 1", lambda: pa.array(numbers + 1))
    if sizes.predicts(subject):
        _add_predicted(subject, put)
    if contributions and EXPLAINED in subject.given:
        file = pq.ParquetFile(pa.BufferReader(subject.given[EXPLAINED]))
        inputs = subject.model.inputs
        held = file.schema_arrow.names
        for place, name in enumerate(inputs):
            own = held[len(held) - 2 - len(inputs) + place]
            put(
                f"contribution_{name}",
                pa.float64(),
                f"what {words.title(name)} did to the output",
                partial(_read_one, file, own),
            )
    return found


def _read_one(file: pq.ParquetFile, name: str) -> pa.ChunkedArray:
    return file.read(columns=[name]).column(0)


def _taken(table, name: str, numbers: NDArray[np.int64] | None) -> pa.ChunkedArray:
    column = table.column(name)
    column = column if numbers is None else column.take(pa.array(numbers))
    if pa.types.is_floating(column.type):
        # to the engine what is no number is larger than all numbers; here it is missing
        return pc.if_else(pc.is_nan(column), pa.scalar(None, column.type), column)
    return column


def _add_predicted(subject: Subject, put: Any) -> None:
    output = subject.predictor is not None or subject.kind.recorded(subject.predictions) is not None
    decides, y = subject.kind.decides, subject.spec.knows_outcome
    if output:
        what = "the prediction" if not subject.kind.decides else f"the output that is read: {subject.what}"
        put("prediction", pa.float64(), what, lambda: pa.array(subject.read_output))
    if decides:
        taken = lambda: subject.decisions.taken  # noqa: E731
        put("decision", pa.string(), "what was decided", lambda: _decisions(subject, taken()))
        put(
            "favoured",
            pa.bool_(),
            "whether the decision was the favourable one",
            lambda: pa.array(subject.decisions.favoured),
        )
        if y:
            put(
                "correct",
                pa.bool_(),
                "whether it was decided as it happened",
                lambda: pa.array(subject.rows.outcome.astype(np.int64) == taken()),
            )
    if y and subject.kind.missed(subject.rows.outcome, subject.predictions) is not None:
        what = "probability withheld from what happened" if decides else "prediction less what happened"
        put(
            "error",
            pa.float64(),
            what,
            lambda: pa.array(subject.kind.missed(subject.rows.outcome, subject.predictions)),
        )


def _decisions(subject: Subject, taken: NDArray[np.int64]) -> pa.Array:
    present, place = np.unique(taken, return_inverse=True)
    return pa.array([subject.decisions.named(int(one)) for one in present]).take(pa.array(place))


def _kind(kind: pa.DataType) -> Literal["number", "text", "day", "yes or no", "other"]:
    if pa.types.is_boolean(kind):
        return "yes or no"
    if pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        return "number"
    if pa.types.is_string(kind) or pa.types.is_large_string(kind):
        return "text"
    return "day" if pa.types.is_date(kind) else "other"


def _plain(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """A column of the answer in types that every reader of files knows; what is nested as its text."""
    kind = column.type
    if pa.types.is_decimal(kind):
        return column.cast(pa.float64(), safe=False)
    if pa.types.is_dictionary(kind):
        return column.cast(pa.string())
    if pa.types.is_null(kind):
        return column.cast(pa.string())
    if _kind(kind) == "other":
        return pa.chunked_array(
            [pa.array([None if one is None else str(one) for one in column.to_pylist()], pa.string())]
        )
    return column


def _apart(names: list[str]) -> list[str]:
    """Names of the answer's columns, no two alike."""
    found: list[str] = []
    for name in names:
        while name in found:
            name += "_"
        found.append(name)
    return found


def _cells(table: pa.Table) -> tuple[tuple[str | float | bool | None, ...], ...]:
    columns = [[_cell(one) for one in column.to_pylist()] for column in table.columns]
    return tuple(zip(*columns, strict=True)) if columns else ()


def _cell(value: Any) -> str | float | bool | None:
    if value is None or isinstance(value, str | bool):
        return value
    if isinstance(value, float | Decimal):
        number = float(value)
        return number if math.isfinite(number) else None if math.isnan(number) else str(number)
    if isinstance(value, int):
        return float(value) if abs(value) < 2**53 else str(value)
    return str(value)


def _named_rows(subject: Subject, table: pa.Table) -> list[str]:
    """Identifiers of the rows that the answer names, each once: by the table's identifier, or by their numbers."""
    identifiers = subject.spec.with_role(Role.identifier)
    own = identifiers[0].name if identifiers else ROW
    if own not in table.column_names:
        return []
    found = table.column(own).unique().to_pylist()
    texts = [words.value_text(one) for one in found if one is not None]
    there = subject.rows.numbers + 1 if not identifiers else None
    known = set(there.astype(str)) if there is not None else set(subject.table.texts_of(own, subject.rows.numbers))
    return [one for one in texts if one in known]


def say(result: QueryResult, wording: Wording, settings: QuerySettings) -> Reading:
    rows = row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)
    if result.answer is None:
        return plain(
            f"Ask {rows} a question in SQL.",
            f"The table is called {sql.TABLE}; it has {words.plural(len(result.known), 'column')}, what is predicted and "
            f"decided among them. A question can only read, and ends after {sql.SECONDS:g} seconds.",
        )
    many = words.plural(result.matching, "row")
    size = f"the first {many} of more" if not result.whole else many
    named = ""
    if result.names_rows:
        them = wording.row if result.names_rows == 1 else wording.rows
        named = f" It names {words.count(result.names_rows)} {them}."
        if not result.picked:
            named += f" Up to {words.count(MOST_PICKED)} can be kept as a segment."
    shown = f" The first {words.count(SHOWN)} are shown." if result.matching > SHOWN else ""
    return plain(
        f"The answer has {size} and {words.plural(len(result.columns), 'column')}.", f"Asked of {rows}.{named}{shown}"
    )


def picture(result: QueryResult, spec: Spec) -> Picture | None:
    """The first number of the answer by its first text, where it has both."""
    kinds = [one.kind for one in result.columns]
    if "text" not in kinds or "number" not in kinds:
        return None
    name, value = kinds.index("text"), kinds.index("number")
    shown = [row for row in result.cells if isinstance(row[value], float)][:MOST_BARS]
    if not shown:
        return None
    return Picture(
        tuple(str(row[name]) for row in shown),
        tuple(float(row[value] or 0) for row in shown),
        result.columns[value].name,
    )


METHOD = Method(
    name="query",
    weighs=False,
    area="data",
    title="Question in SQL",
    depends=frozenset({"spec", "wording"}),
    settings=QuerySettings,
    result=QueryResult,
    compute=answer,
    say=say,
    note=(
        f"The rows of the context stand in memory as one table, **{sql.TABLE}**, with what is predicted, what was decided and "
        "how far off it was as further columns; a name that the table has already gets a line behind it. The engine is "
        f"DuckDB, shut off from files, network and its own settings, with {sql.MEMORY} of memory and {sql.SECONDS:g} seconds. "
        "An answer is the answer to its question: nothing in it is tested, and what was looked for until it was found is "
        "larger than it is elsewhere."
    ),
    main="cells",
    arrays=lambda result: {
        "cells": [dict(zip((one.name for one in result.columns), row, strict=True)) for row in result.cells]
    },
    part="sql",
    picture=picture,
    needs=frozenset(),
    reads=lambda settings: EXPLAINED if settings.contributions else "",
)
