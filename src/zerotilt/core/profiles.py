"""The condition of every column of a table: what is missing, how many values, which, and from where to where."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute
from pydantic import Field

from zerotilt.core import csvfile, words
from zerotilt.core.csvdialect import Dialect
from zerotilt.core.frozen import Frozen
from zerotilt.core.table import Table
from zerotilt.core.work import Work

pc: Any = pyarrow.compute  # its functions are made when it is imported; no checker knows them

TOP_LEVELS = 60
LONGEST_LEVEL = 200
"""Characters from which a value is a text that is read, not a level that is compared."""


class LevelCount(Frozen):
    level: str
    rows: int


class ColumnProfile(Frozen):
    """Condition of one column over all rows."""

    name: str
    stored: str
    missing: int
    distinct: int
    low: float | None = None
    high: float | None = None
    median: float | None = None
    longest: int = Field(default=0, description="Characters of the longest text, or bytes of the longest value")
    levels: tuple[LevelCount, ...] = ()
    guessed: str = Field(default="", description="The role that was guessed, a colon, and why")
    examples: tuple[str, ...] = ()
    as_outcome: dict[str, Any] | None = Field(
        default=None,
        description="What would be guessed of the problem if it were the outcome; null of earlier versions",
    )
    as_split: dict[str, tuple[str, ...]] | None = Field(
        default=None,
        description="What would be guessed of its values if it were the split; null of earlier versions",
    )


class TableProfile(Frozen):
    rows: int
    columns: tuple[ColumnProfile, ...]
    dialect: Dialect | None = None
    marks: tuple[LevelCount, ...] = Field(
        default=(), description="Of a CSV: what stands for no value, or may, and in how many cells it stands"
    )
    notes: tuple[str, ...] = ()


def profile(
    table: Table, work: Work | None = None, dialect: Dialect | None = None, marks: Mapping[str, int] | None = None
) -> TableProfile:
    """Missing cells, distinct values, range and most frequent levels of every column.

    Parameters
    ----------
    marks : cells of the file that hold each mark that stands for no value, or may.
    """
    work = work or Work()
    work.begin(len(table.names), "columns profiled")
    found = []
    notes: list[str] = []
    for name in table.names:
        if table.holds_bytes(name):
            found.append(_profile_of_bytes(table, name))
            work.advance(1)
            continue
        column = table.column(name)
        kind = column.type
        counts = pc.value_counts(column.drop_null())
        sizes = counts.field("counts").to_numpy(zero_copy_only=False)
        top = np.argsort(-sizes, kind="stable")[:TOP_LEVELS]
        levels = tuple(
            LevelCount(level=words.value_text(counts.field("values")[int(i)].as_py()), rows=int(sizes[i])) for i in top
        )
        longest = int(pc.max(pc.utf8_length(column)).as_py() or 0) if pa.types.is_string(kind) else 0
        long = longest > LONGEST_LEVEL
        if alike := _alike([level.level for level in levels]):
            notes.append(f"In “{name}” levels look alike and are written otherwise: {alike}.")
        extra: dict = {}
        if pa.types.is_integer(kind) or pa.types.is_floating(kind):
            values = table.uncached_numbers(name)  # not kept: a wide table would fill the memory
            values = values[np.isfinite(values)]
            if len(values):
                extra = {
                    "low": float(values.min()),
                    "high": float(values.max()),
                    "median": float(np.median(values)),
                }
        absent = column.null_count
        if pa.types.is_floating(kind):
            absent += int(pc.sum(pc.is_nan(column)).as_py() or 0)
        examples = tuple(dict.fromkeys(level.level[:LONGEST_LEVEL] for level in levels))[:4]
        found.append(
            ColumnProfile(
                name=name,
                stored=str(kind),
                missing=absent,
                distinct=len(counts),
                longest=longest,
                levels=levels if len(counts) <= TOP_LEVELS and not long else (),
                examples=examples,
                **extra,
            )
        )
        work.advance(1)
    found_marks = tuple(
        LevelCount(level=mark, rows=rows) for mark, rows in sorted((marks or {}).items(), key=lambda one: -one[1])
    )
    return TableProfile(rows=table.rows, columns=tuple(found), dialect=dialect, marks=found_marks, notes=tuple(notes))


def _profile_of_bytes(table: Table, name: str) -> ColumnProfile:
    """Counted piece by piece: a column of pictures would fill the memory."""
    missing = longest = 0
    for piece in table.pieces(name):
        missing += piece.null_count
        longest = max(longest, int(pc.max(pc.binary_length(piece)).as_py() or 0))
    return ColumnProfile(name=name, stored="binary", missing=missing, distinct=0, longest=longest)


def _alike(levels: list[str]) -> str:
    """Two levels that cannot be told apart by eye, written out; empty where there are none."""
    looks: dict[str, str] = {}
    for level in levels:
        other = looks.setdefault(csvfile.seen_as(level), level)
        if other != level:
            return f"{csvfile.written_out(other)[:80]} and {csvfile.written_out(level)[:80]}"
    return ""
