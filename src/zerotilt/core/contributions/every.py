"""Every row of the context explained: a table of contributions to sort by and to take away."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Literal, NamedTuple

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.attached import Attached
from zerotilt.core.contributions import exact
from zerotilt.core.contributions.explain import MethodChoice, adding_up, explain
from zerotilt.core.contributions.sums_met import exact_explainer
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Role, Wording
from zerotilt.core.method import Method
from zerotilt.core.predictors import Frame
from zerotilt.core.reading import Reading, plain
from zerotilt.core.stats import weighing
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

PIECE_ROWS, SAMPLED_ROWS = 32_768, 512
"""Rows explained at a time: exactly, and by walks, which take long enough to be seen to go on."""
MOST_PAIRS = 512


class Piece(NamedTuple):
    """Some rows explained. ``values`` (rows, p) and ``output`` (rows,); a row's values and the baseline add up to it."""

    values: NDArray[np.float64]
    output: NDArray[np.float64]
    error: float
    """Largest standard error; 0 where all are exact."""
    baseline: float
    background: int
    method: str
    why: str
    apart: int
    """Rows that were sampled, since the sum read of the model is not its own output there."""


def in_pieces(
    subject: Subject,
    frames: Callable[[int], Iterable[Frame]],
    seed: int,
    work: Work,
    method: MethodChoice = "auto",
    most_pairs: int = 1_024,
) -> Iterator[Piece]:
    """Contributions of any number of rows, in pieces of bounded size; the model meets the context's rows once.

    Parameters
    ----------
    frames : the rows in pieces, given how many rows a piece should have.
    """
    explainer, why = exact_explainer(subject, seed, work) if method in ("auto", "trees", "linear") else (None, "")
    quiet = Work(executor=work.executor)
    for frame in frames(SAMPLED_ROWS if explainer is None else PIECE_ROWS):
        if explainer is None:
            one = explain(subject, frame, seed, quiet, method, most_pairs=most_pairs)
            error = 0.0 if one.errors is None else float(one.errors.max(initial=0.0))
            yield Piece(one.values, one.output, error, one.baseline, one.background, one.method, one.why, 0)
            continue
        values, output = exact.explain_rows(explainer, frame, quiet)
        values, error = values[:, : len(frame.names)], 0.0
        astray = np.flatnonzero(~adding_up(subject, explainer, frame, values, output))
        if len(astray):
            one = explain(subject, frame.take(astray), seed, quiet, method, most_pairs=most_pairs)
            values[astray], output[astray] = one.values, one.output
            error = 0.0 if one.errors is None else float(one.errors.max(initial=0.0))
        yield Piece(values, output, error, explainer.baseline, explainer.rows, explainer.kind, why, len(astray))


class ExplainedSettings(Frozen):
    method: MethodChoice = "auto"
    walks: int = Field(
        default=MOST_PAIRS, ge=2, le=10_000, description="Most pairs of walks a row, where they are sampled"
    )


class Moved(Frozen):
    """What one feature did to the outputs of all rows."""

    feature: str
    mean_absolute: float
    mean: float
    raised: float = Field(description="Largest contribution")
    raised_row: int
    raised_name: str
    lowered: float = Field(description="Smallest contribution")
    lowered_row: int
    lowered_name: str


class ExplainedResult(Frozen):
    moved: tuple[Moved, ...] = Field(description="Largest mean absolute contribution first")
    features: tuple[str, ...] = Field(description="In the order of the table's columns of contributions")
    identifiers: tuple[str, ...]
    table: Attached = Field(
        description="A row of the context each: its row number in the table from 1, its identifiers, a contribution for "
        "each feature, the baseline, and the output they add up to"
    )
    rows: int
    rows_named: str
    baseline: float
    background: int
    method: str
    why: str
    error: float = Field(description="Largest standard error; 0 where all are exact")
    sampled: int = Field(description="Rows that were sampled where the others are exact")
    output: Literal["probability", "log-odds", "value"]
    event: str


def explain_every(subject: Subject, settings: ExplainedSettings, seed: int, work: Work) -> ExplainedResult:
    """Explain all rows of the context against themselves."""
    frame, n = subject.frame, subject.n
    work.begin(n, "rows explained")
    features: tuple[str, ...] = frame.names

    def frames(rows: int) -> Iterator[Frame]:
        for first in range(0, n, rows):
            yield frame.take(np.arange(first, min(first + rows, n)))

    parts: list[Piece] = []
    for part in in_pieces(subject, frames, seed, work, settings.method, settings.walks):
        parts.append(part)
        work.advance(len(part.output))
    values, output = np.concatenate([one.values for one in parts]), np.concatenate([one.output for one in parts])
    named = [one.name for one in subject.spec.with_role(Role.identifier)]
    numbers = subject.rows.numbers
    heads = ["row", *named, *features, "baseline", "output"]
    columns = [
        pa.array(numbers + 1),
        *(pa.array(subject.table.texts(name)[numbers], pa.string()) for name in named),
        *(pa.array(values[:, j]) for j in range(len(features))),
        pa.array(np.concatenate([np.full(len(one.output), one.baseline) for one in parts])),
        pa.array(output),
    ]
    mass = subject.rows.mass
    sizes, means = weighing.mean(np.abs(values), mass), weighing.mean(values, mass)
    low, high = values.argmin(axis=0), values.argmax(axis=0)

    def named_row(place: int) -> str:
        return subject.editor.name_of(int(numbers[place]))

    return ExplainedResult(
        moved=tuple(
            Moved(
                feature=features[j],
                mean_absolute=float(sizes[j]),
                mean=float(means[j]),
                raised=float(values[high[j], j]),
                raised_row=int(numbers[high[j]]),
                raised_name=named_row(high[j]),
                lowered=float(values[low[j], j]),
                lowered_row=int(numbers[low[j]]),
                lowered_name=named_row(low[j]),
            )
            for j in np.argsort(-sizes, kind="stable")
        ),
        features=features,
        identifiers=tuple(named),
        table=Attached.of(pa.table(columns, names=_apart(heads))),
        rows=n,
        rows_named=subject.context.rows,
        baseline=parts[0].baseline,
        background=parts[0].background,
        method=parts[0].method,
        why=max(parts, key=lambda one: one.error).why,
        error=max(one.error for one in parts),
        sampled=sum(one.apart for one in parts),
        output=subject.scale,
        event=subject.what,
    )


def _apart(names: list[str]) -> list[str]:
    """Each name once: a feature may be called like an identifier, or like one of the columns written besides."""
    found: list[str] = []
    for name in names:
        while name in found:
            name += " (2)"
        found.append(name)
    return found


def say(result: ExplainedResult, wording: Wording, settings: ExplainedSettings) -> Reading:
    rows = row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)
    headline = (
        f"{words.opening(rows)} explained, a contribution for each of {words.plural(len(result.features), 'feature')}"
    )
    if result.moved:
        first = result.moved[0]
        by = words.difference(first.mean_absolute, result.output, wording.unit)
        headline += f"; {words.title(first.feature)} moved them most, by {by} on average"
    detail = f"{result.why} "
    if result.error:
        detail += f"The largest standard error is {words.difference(result.error, result.output, wording.unit)}. "
    if result.sampled:
        detail += f"{words.opening(words.plural(result.sampled, wording.row, wording.rows))} had to be sampled. "
    detail += f"Against {words.count(result.background)} of these {wording.rows}; a contribution is no cause."
    return plain(f"{headline}.", detail)


METHOD = Method(
    name="explained",
    area="cases",
    title="Every row explained",
    settings=ExplainedSettings,
    result=ExplainedResult,
    compute=explain_every,
    say=say,
    note=(
        "Contributions of every row that is read, as the ladder has them for one: exact where the model is a sum on the "
        "scale that is read, else sampled until the largest standard error is under 1% of the output's standard "
        "deviation or 512 pairs of walks are done. In pieces, so that memory does not grow with the walks; the table "
        "is kept as a Parquet file with the result."
    ),
    main="moved",
    part="rows",
    unasked=lambda spec: None,
)
