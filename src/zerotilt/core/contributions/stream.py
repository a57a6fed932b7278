"""Contributions of tables too large to hold: read, explained and written in pieces."""

from __future__ import annotations

from collections.abc import Sequence
from typing import BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions import exact
from zerotilt.core.contributions.explain import MethodChoice, adding_up, explain
from zerotilt.core.contributions.sums_met import exact_explainer
from zerotilt.core.frozen import Frozen
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work

PIECE_ROWS = 32_768
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
    explainer, why = exact_explainer(subject, seed, work) if method in ("auto", "trees", "linear") else (None, "")
    schema = pa.schema(
        [file.schema_arrow.field(name) for name in named]
        + [(name, pa.float64()) for name in (*features, BASELINE, OUTPUT)]
    )
    found: dict = {}
    apart = 0
    quiet = Work(executor=work.executor)
    with pq.ParquetWriter(sink, schema, compression="zstd") as writer:
        work.begin(file.metadata.num_rows, "rows explained")
        for batch in file.iter_batches(PIECE_ROWS, columns=[*features, *named]):
            part = Table(pa.Table.from_batches([batch]))
            frame = subject.model.frame(part, np.arange(part.rows))
            if explainer is not None:
                values, output = exact.explain_rows(explainer, frame, quiet)
                values = values[:, : len(features)]
                astray = np.flatnonzero(~adding_up(subject, explainer, frame, values, output))
                if len(astray):
                    one = explain(subject, frame.take(astray), seed, quiet, method)
                    values[astray], output[astray] = one.values, one.output
                    apart += len(astray)
                found = {"baseline": explainer.baseline, "background": explainer.rows}
                found |= {"method": explainer.kind, "why": why}
            else:
                one = explain(subject, frame, seed, quiet, method)
                values, output = one.values, one.output
                found = {"baseline": one.baseline, "background": one.background, "method": one.method, "why": one.why}
            kept = [batch.column(batch.schema.names.index(name)) for name in named]
            baseline = np.full(part.rows, found["baseline"])
            writer.write_batch(pa.record_batch([*kept, *values.T, baseline, output], schema=schema))
            work.advance(part.rows)
    return Streamed(rows=file.metadata.num_rows, sampled=apart, **found)


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
