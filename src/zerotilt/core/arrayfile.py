"""A flat table as bytes of an open format."""

from __future__ import annotations

import io
import json
from collections.abc import Iterator
from typing import BinaryIO, Literal

import pyarrow as pa
import pyarrow.csv as pacsv
import pyarrow.parquet as pq

MEDIA = {"csv": "text/csv; charset=utf-8", "parquet": "application/vnd.apache.parquet", "json": "application/json"}
PIECE_ROWS = 16_384
RISKY = ("=", "+", "-", "@", "\t", "\r")


def written(table: pa.Table, kind: Literal["csv", "parquet", "json"]) -> tuple[bytes, str]:
    """The table in one of the formats, and its media type. JSON is a list of records.

    In CSV, lists are written as JSON and a text that a spreadsheet would take for
    a formula begins with an apostrophe.
    """
    if kind == "json":
        return json.dumps(table.to_pylist(), ensure_ascii=False).encode(), MEDIA[kind]
    sink = io.BytesIO()
    if kind == "parquet":
        pq.write_table(table, sink, compression="zstd")
    else:
        pacsv.write_csv(_plain(table), sink)
    return sink.getvalue(), MEDIA[kind]


def csv_pieces(source: BinaryIO) -> Iterator[bytes]:
    """A Parquet file as CSV, piece by piece; the file is closed at the end."""
    with source:
        for place, batch in enumerate(pq.ParquetFile(source).iter_batches(PIECE_ROWS)):
            sink = io.BytesIO()
            options = pacsv.WriteOptions(include_header=place == 0)
            pacsv.write_csv(_plain(pa.Table.from_batches([batch])), sink, options)
            yield sink.getvalue()


def _plain(table: pa.Table) -> pa.Table:
    columns = {}
    for name, column in zip(table.column_names, table.columns, strict=True):
        if pa.types.is_list(column.type):
            column = pa.array([None if one is None else json.dumps(one) for one in column.to_pylist()])
        elif pa.types.is_string(column.type):
            column = pa.array([_safe(one) for one in column.to_pylist()], pa.string())
        elif pa.types.is_null(column.type):
            column = column.cast(pa.string())
        columns[_safe(name)] = column
    return pa.table(columns)


def _safe(text: str | None) -> str | None:
    return f"'{text}" if text and text.startswith(RISKY) else text
