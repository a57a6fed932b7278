"""Contributions of tables too large to hold: read, explained and written in pieces."""

from __future__ import annotations

from collections.abc import Iterator
from typing import BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from pydantic import Field

from zerotilt.core.contributions import exact
from zerotilt.core.contributions.explain import MethodChoice, adding_up, exact_explainer, explain
from zerotilt.core.frozen import Frozen
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work

PIECE_ROWS = 32_768
OUTPUT = "output"


class Streamed(Frozen):
    """What was written: one row for each row read, a column for each feature, and the output they add up to."""

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
    subject: Subject, source: BinaryIO, sink: BinaryIO, seed: int, work: Work, method: MethodChoice = "auto"
) -> Streamed:
    """Explain every row of a Parquet file against the rows of a subject; write Parquet to ``sink``.

    Memory does not grow with the file. Rows are those of the file, in its order;
    ``output`` is the last column.

    Raises
    ------
    Refused : the file lacks a column of the model, or a feature is called like the output.
    """
    features = subject.model.inputs
    if OUTPUT in features:
        raise Refused(f"The model has a feature called “{OUTPUT}”, which is the name of the last column written.")
    file = pq.ParquetFile(source)
    for name in features:
        if name not in file.schema_arrow.names:
            raise Refused(
                f"The file has no column “{name}”.", where=f"column “{name}”", todo="Give all of the model's columns."
            )
    explainer, why = exact_explainer(subject, seed, work) if method in ("auto", "trees", "linear") else (None, "")
    schema = pa.schema([(name, pa.float64()) for name in (*features, OUTPUT)])
    found: dict = {}
    apart = 0
    quiet = Work(executor=work.executor)
    with pq.ParquetWriter(sink, schema, compression="zstd") as writer:
        work.begin(file.metadata.num_rows, "rows explained")
        for batch in _pieces(file, features):
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
            writer.write_batch(pa.record_batch([*values.T, output], schema=schema))
            work.advance(part.rows)
    return Streamed(rows=file.metadata.num_rows, sampled=apart, **found)


def _pieces(file: pq.ParquetFile, features: tuple[str, ...]) -> Iterator[pa.RecordBatch]:
    yield from file.iter_batches(PIECE_ROWS, columns=list(features))
