"""Contributions of tables too large to hold: read, explained and written in pieces."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.every import PIECE_ROWS, in_pieces
from zerotilt.core.contributions.explain import MethodChoice
from zerotilt.core.frozen import Frozen
from zerotilt.core.predictors import Frame
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work

BASELINE, OUTPUT = "baseline", "output"
"""The last two columns that are written: a row's contributions and its baseline add up to its output."""


class Streamed(Frozen):
    """What was written: one row for each row read, a column for each feature, the baseline, and the output they add up to."""

    rows: int
    baseline: float
    background: int
    method: str
    why: str
    sampled: int = Field(description="Rows sampled since the sum read of the model is not its own output there")


def sample(source: BinaryIO, rows: int, seed: int) -> Table:
    """A seeded sample of a Parquet file's rows, in their order, read in pieces."""
    file = pq.ParquetFile(source)
    total = file.metadata.num_rows
    chosen = np.arange(total)
    if total > rows:
        chosen = np.sort(np.random.default_rng(seed).choice(total, rows, replace=False))
    parts, first = [], 0
    for batch in file.iter_batches(PIECE_ROWS):
        mine = chosen[(chosen >= first) & (chosen < first + batch.num_rows)] - first
        parts.append(batch.take(pa.array(mine)))
        first += batch.num_rows
    return Table(pa.Table.from_batches(parts, schema=file.schema_arrow))


def explain_stream(
    subject: Subject,
    source: BinaryIO,
    sink: BinaryIO,
    seed: int,
    work: Work,
    method: MethodChoice = "auto",
    identifiers: Sequence[str] = (),
) -> Streamed:
    """Explain every row of a Parquet file against the rows of a subject; write Parquet to ``sink``.

    Memory does not grow with the file. Rows are those of the file, in its order. Columns: the identifiers as they stand
    in the file, a contribution for each feature, ``baseline`` and ``output``.

    Raises
    ------
    Refused : the file lacks columns of the model, or a column is called like one that is written besides.
    """
    features = subject.model.inputs
    named = [name for name in identifiers if name not in features]
    for name in (BASELINE, OUTPUT):
        if name in features or name in named:
            raise Refused(
                f"The table has a column called “{name}”, which is the name of one of the last two columns written.",
                where=f"column “{name}”",
                todo="Rename it.",
            )
    file = pq.ParquetFile(source)
    require_columns((*features, *named), file.schema_arrow.names, "file")
    schema = pa.schema(
        [file.schema_arrow.field(name) for name in named]
        + [(name, pa.float64()) for name in (*features, BASELINE, OUTPUT)]
    )
    held: list[pa.RecordBatch] = []

    def frames(rows: int) -> Iterator[Frame]:
        for batch in file.iter_batches(rows, columns=[*features, *named]):
            held.append(batch)
            part = Table(pa.Table.from_batches([batch]))
            yield subject.model.frame(part, np.arange(part.rows))

    found, apart = None, 0
    with pq.ParquetWriter(sink, schema, compression="zstd") as writer:
        work.begin(file.metadata.num_rows, "rows explained")
        for found in in_pieces(subject, frames, seed, work, method):
            batch, apart = held.pop(), apart + found.apart
            kept = [batch.column(batch.schema.names.index(name)) for name in named]
            baseline = np.full(batch.num_rows, found.baseline)
            writer.write_batch(pa.record_batch([*kept, *found.values.T, baseline, found.output], schema=schema))
            work.advance(batch.num_rows)
    if found is None:
        raise Refused("The file has no rows.", todo="Give a file with rows to explain.")
    return Streamed(
        rows=file.metadata.num_rows,
        sampled=apart,
        baseline=found.baseline,
        background=found.background,
        method=found.method,
        why=found.why,
    )


def require_columns(wanted: Sequence[str], there: Sequence[str], where: str) -> None:
    """Refuse a table that lacks columns, naming all of them."""
    if not (missing := [name for name in wanted if name not in there]):
        return
    listed = words.listing([f"“{name}”" for name in missing[:12]]) + (
        f" and {len(missing) - 12} more" if len(missing) > 12 else ""
    )
    has = "column" if len(missing) == 1 else "columns"
    raise Refused(
        f"The {where} has no {has} {listed}.", where=f"column “{missing[0]}”", todo="Give all of the model's columns."
    )
