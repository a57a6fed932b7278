"""Which rows of the context are asked for, and in which order."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership, segments, typed_conditions, words
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Role, Segment
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject

Which = Literal[
    "all", "right", "wrong", "true positive", "true negative", "false positive", "false negative", "too high", "too low"
]
Order = Literal["row", "score", "nearest the threshold", "error", "outcome", "decision", "column", "contribution"]


EXPLAINED = "explained"
"""The method that explains every row."""


class CasesQuery(Frozen):
    which: Which = "all"
    decided: str = Field(default="", max_length=500, description="Only rows with this decision, in the audit's words")
    happened: str = Field(default="", max_length=500, description="Only rows with this value of the outcome")
    least: float | None = Field(default=None, description="Least output, on the scale that is read")
    most: float | None = Field(default=None, description="Greatest output, on the scale that is read")
    where: tuple[str, ...] = Field(
        default=(),
        max_length=40,
        description="Conditions that a row must meet, as they are typed: channel=telephone|app, parcel_weight>10, channel=",
    )
    order: Order = "row"
    by: str = Field(
        default="", max_length=500, description="The column, or the feature whose contribution, that orders them"
    )
    descending: bool = False
    find: str = Field(default="", max_length=200, description="Text within the identifier")
    group: str = Field(default="", description="A grouping, as the tilt sheet names it")
    member: str = Field(default="", description="One group of that grouping")
    columns: tuple[str, ...] = Field(
        default=(),
        max_length=500,
        description="Columns shown, in this order; groups and inputs of the model when empty",
    )
    contributions: tuple[str, ...] = Field(
        default=(), max_length=500, description="Features whose contributions are shown; every row is explained for it"
    )
    offset: int = Field(default=0, ge=0)
    limit: int = Field(default=50, ge=1, le=500)


def chosen_of(subject: Subject, group: str, member: str) -> NDArray[np.bool_] | None:
    """The rows of one group or segment, shape (n,); None where none is asked for.

    Raises
    ------
    Refused : it is none of the audit's.
    """
    if not group:
        return None
    columns = membership.columns_of(subject.spec, group)
    grouping = membership.grouping(subject.spec, subject.table, subject.rows.numbers, columns)
    return grouping.mask(grouping.place(member))


def went_right(subject: Subject) -> NDArray[np.bool_]:
    """Whether each row was decided as it happened.

    Raises
    ------
    Refused : the outcome is not known, or nothing is decided.
    """
    if not subject.kind.decides:
        raise Refused(
            "A number is not right or wrong; it is too high or too low.", todo="Ask for these, or order by error."
        )
    return subject.rows.outcome.astype(np.int64) == subject.decisions.taken


def _of_kind(subject: Subject, which: Which) -> NDArray[np.bool_]:
    """The rows that went right or wrong in one way, shape (n,)."""
    if which in ("right", "wrong"):
        return went_right(subject) == (which == "right")
    if which in ("too high", "too low"):
        off = subject.kind.missed(subject.rows.outcome, subject.predictions)
        if subject.kind.decides or off is None:
            raise Refused("Only a number is too high or too low.", todo="Ask for right or wrong.")
        return off > 0 if which == "too high" else off < 0
    y, d = subject.rows.outcome, subject.decisions.predicted
    return {
        "true positive": d & y,
        "true negative": ~d & ~y,
        "false positive": d & ~y,
        "false negative": ~d & y,
    }[which]


def matching(subject: Subject, query: CasesQuery) -> NDArray[np.int64]:
    """Places in the context's rows that a query selects, in its order; what is missing comes last.

    Raises
    ------
    Refused : the query asks for what these rows have not.
    """
    wanted = np.ones(subject.n, bool) if query.which == "all" else _of_kind(subject, query.which)
    members = chosen_of(subject, query.group, query.member)
    if members is not None:
        wanted &= members
    if query.where:
        conditions = tuple(typed_conditions.parsed(one, subject.table.names) for one in query.where)
        wanted &= segments.members(
            Segment(name="asked", conditions=conditions), subject.spec, subject.table, subject.rows.numbers
        )
    if query.decided:
        wanted &= _decided_as(subject, query.decided)
    if query.happened:
        wanted &= subject.table.texts(subject.spec.outcome.name)[subject.rows.numbers] == query.happened
    if query.least is not None or query.most is not None:
        output = subject.read_output
        if output is None:
            raise Refused("Only decisions were recorded; there is no output to ask about.", todo="Ask for a decision.")
        wanted &= output >= (-np.inf if query.least is None else query.least)
        wanted &= output <= (np.inf if query.most is None else query.most)
    found = np.flatnonzero(wanted)
    if query.find:
        identifiers = subject.spec.with_role(Role.identifier)
        if identifiers:
            names = subject.table.texts(identifiers[0].name)[subject.rows.numbers[found]]
        else:
            names = (subject.rows.numbers[found] + 1).astype(str)
        wanted_text = query.find.strip().lower()
        found = found[[wanted_text in str(name).lower() for name in names]]
    keys = _keys(subject, query)
    if keys is None:
        return found[::-1] if query.descending else found
    mine = keys[found]
    order = np.argsort(-mine if query.descending else mine, kind="stable")  # NaN is last either way
    return found[order]


def _decided_as(subject: Subject, decision: str) -> NDArray[np.bool_]:
    taken = subject.decisions.taken
    present = np.unique(taken)
    names = [subject.decisions.named(int(one)) for one in present]
    if decision not in names:
        raise Refused(
            f"decided: none of these rows is decided “{decision}”; there are {words.listing(names)}.",
            todo="Choose one of these decisions.",
        )
    return taken == present[names.index(decision)]


def _keys(subject: Subject, query: CasesQuery) -> NDArray[np.float64] | None:
    """What orders the rows, shape (n,), NaN for what is missing; None for the order of the table."""
    if query.order == "row":
        return None
    if query.order == "column":
        return _ranks(subject, query.by)
    if query.order == "contribution":
        return contribution_of(subject, query.by)
    if query.order == "outcome":
        return _ranks(subject, subject.spec.outcome.name)
    if query.order == "decision":
        return subject.decisions.taken.astype(float)
    if query.order == "error":
        missed = subject.kind.missed(subject.rows.outcome, subject.predictions)
        if missed is None:
            raise Refused(
                "Only decisions were recorded; how far off they are is not known.", todo="Order by something else."
            )
        return missed
    output = subject.read_output
    if output is None:
        return None
    if query.order == "score" or not subject.kind.cut:
        return output
    scores = subject.predictions.required_scores
    return np.abs(scores - subject.decisions.cuts)


def _ranks(subject: Subject, name: str) -> NDArray[np.float64]:
    """A column of the rows as numbers that lie in its order: of numbers and dates, of ordered levels, of texts.

    Raises
    ------
    Refused : there is no such column.
    """
    column = subject.spec.column(name)
    if subject.table.is_number(name) or subject.table.is_date(name):
        return subject.table.numbers(name)[subject.rows.numbers]
    levels, codes = subject.table.coded(name)
    texts = levels.astype(str)
    first = {level: i for i, level in enumerate(column.order)}
    by = sorted(range(len(texts)), key=lambda i: (first.get(texts[i], len(first)), texts[i]))
    rank = np.full(len(texts) + 1, np.nan)
    rank[by] = np.arange(len(texts))
    return rank[codes[subject.rows.numbers]]


def contribution_of(subject: Subject, feature: str) -> NDArray[np.float64]:
    """What one feature did to the output of every row, shape (n,).

    Raises
    ------
    Refused : it is no feature of the model, or not every row was explained.
    """
    if not subject.predictor or feature not in subject.model.inputs:
        has = words.listing(list(subject.predictor.inputs)) if subject.predictor else "no model"
        raise Refused(f"by: “{feature}” is not a feature of the model; there is {has}.", todo="Name one of these.")
    if EXPLAINED not in subject.given:
        raise Refused("Not every row was explained yet.", todo="Explain every row first.")
    file = pq.ParquetFile(pa.BufferReader(subject.given[EXPLAINED]))
    # features stand before baseline and output, in the model's order, whatever they are called
    place = len(file.schema_arrow.names) - 2 - len(subject.model.inputs) + subject.model.inputs.index(feature)
    return file.read(columns=[file.schema_arrow.names[place]]).column(0).to_numpy()
