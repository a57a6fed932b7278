"""The table of all cases: prediction, outcome, right or wrong, any column; and which of them make good examples."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership, segments, typed_conditions, words
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Role, Segment, Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

Which = Literal[
    "all", "right", "wrong", "true positive", "true negative", "false positive", "false negative", "too high", "too low"
]
Order = Literal["row", "score", "nearest the threshold", "error", "outcome", "decision", "column", "contribution"]
SHOWN_FIRST = 12
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


class Case(Frozen):
    row: int
    name: str
    output: float | None = Field(description="On the scale that is read; null where only decisions were recorded")
    decision: str = Field(description="In the audit's words, or the class; empty for a number")
    favoured: bool | None = Field(description="Null for a number")
    outcome: str | None = Field(description="What happened, as it stands in the table; null where that is not known")
    right: bool | None
    error: float | None = Field(
        description="Probability withheld from what happened; of a number the prediction less what happened"
    )
    from_threshold: float | None = Field(description="Output less the row's own threshold, in probability")
    values: tuple[str | None, ...]
    contributions: tuple[float, ...] = Field(description="On the scale that is read, of the features asked for")


class CasesPage(Frozen):
    """One page of the table, in the query's order."""

    total: int
    matching: int
    columns: tuple[str, ...] = Field(description="Of the values of a case")
    every: tuple[str, ...] = Field(description="Columns that can be shown")
    contributions: tuple[str, ...] = Field(description="Features, of the contributions of a case")
    cases: tuple[Case, ...]
    scale: Literal["probability", "log-odds", "value"]
    event: str


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


def _right(subject: Subject) -> NDArray[np.bool_]:
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
        return _right(subject) == (which == "right")
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
        return _contribution(subject, query.by)
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


def _contribution(subject: Subject, feature: str) -> NDArray[np.float64]:
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


def page(subject: Subject, query: CasesQuery, seed: int, work: Work) -> CasesPage:
    """One page of cases with some of their columns.

    Raises
    ------
    Refused : the query asks for what these rows have not.
    """
    found = matching(subject, query)
    every = tuple(one.name for one in subject.spec.columns if not subject.table.holds_bytes(one.name))
    if unknown := [name for name in query.columns if name not in every]:
        raise Refused(f"columns: the table has no column “{unknown[0]}” that can be shown.", todo="Choose others.")
    inputs = subject.predictor.inputs if subject.predictor else ()
    grouped = [column.name for column in subject.spec.columns if column.makes_groups]
    features = inputs or [column.name for column in subject.spec.with_role(Role.feature)]
    columns = query.columns or tuple(dict.fromkeys([*grouped, *features]))[:SHOWN_FIRST]
    shown = found[query.offset : query.offset + query.limit]
    numbers = subject.rows.numbers[shown]
    values = [subject.table.texts_of(name, numbers) for name in columns]
    moved = [_contribution(subject, name)[shown] for name in query.contributions]
    return CasesPage(
        total=subject.n,
        matching=len(found),
        columns=tuple(columns),
        every=every,
        contributions=query.contributions,
        cases=tuple(_cases(subject, shown, numbers, values, moved)),
        scale=subject.scale,
        event=subject.what,
    )


def _cases(
    subject: Subject,
    shown: NDArray[np.int64],
    numbers: NDArray[np.int64],
    values: list[NDArray],
    moved: list[NDArray[np.float64]],
) -> list[Case]:
    output, y = subject.read_output, subject.rows.outcome_if_known
    decides = subject.kind.decides
    happened = [None] * len(shown) if y is None else subject.table.texts_of(subject.spec.outcome.name, numbers)
    missed = None if y is None else subject.kind.missed(y, subject.predictions)
    right = _right(subject) if y is not None and decides else None
    scores = subject.predictions.scores if subject.kind.cut else None
    return [
        Case(
            row=int(numbers[i]),
            name=subject.editor.name_of(int(numbers[i])),
            output=None if output is None else float(output[at]),
            decision=subject.decisions.named(int(subject.decisions.taken[at])) if decides else "",
            favoured=bool(subject.decisions.favoured[at]) if decides else None,
            outcome=happened[i],
            right=None if right is None else bool(right[at]),
            error=None if missed is None else float(missed[at]),
            from_threshold=None if scores is None else float(scores[at] - subject.decisions.cuts[at]),
            values=tuple(None if column[i] is None else str(column[i]) for column in values),
            contributions=tuple(float(column[i]) for column in moved),
        )
        for i, at in enumerate(shown)
    ]


def examples(subject: Subject) -> list[tuple[int, str]]:
    """Rows worth showing in a report, with the reason: the surest error of each kind, and the closest decision."""
    chosen: dict[int, str] = {}
    if not subject.kind.cut:
        for place, reason in subject.kind.telling(subject.rows.outcome_if_known, subject.predictions.outputs):
            chosen.setdefault(int(subject.rows.numbers[place]), reason)
        return list(chosen.items())
    if subject.predictions.scores is None or not subject.spec.knows_outcome:
        return []
    kinds = (
        ("false negative", "score", False, "the surest wrong prediction that the event would not happen"),
        ("false positive", "score", True, "the surest wrong prediction that the event would happen"),
        ("all", "nearest the threshold", False, "the prediction closest to the threshold"),
    )
    for which, order, descending, reason in kinds:
        found = matching(subject, CasesQuery(which=which, order=order, descending=descending))
        if len(found):
            chosen.setdefault(int(subject.rows.numbers[found[0]]), reason)
    return list(chosen.items())


def say(result: CasesPage, wording: Wording, settings: CasesQuery) -> Reading:
    chosen = {
        "all": "",
        "right": " decided rightly",
        "wrong": " decided wrongly",
        "true positive": " predicted to have the event that had it",
        "true negative": " predicted not to have the event that had it not",
        "false positive": " predicted to have the event that did not have it",
        "false negative": " predicted not to have the event that had it",
        "too high": " predicted too high",
        "too low": " predicted too low",
    }[settings.which]
    who = f" in {settings.member}" if settings.member else ""
    narrowed = [f"decided {settings.decided}"] if settings.decided else []
    narrowed += [f"that turned out {settings.happened}"] if settings.happened else []
    narrowed += [f"with {typed_conditions.read_aloud(one)}" for one in settings.where[:3]]
    narrowed += [f"{len(settings.where) - 3} more conditions"] if len(settings.where) > 3 else []
    narrowed += ["within a range of outputs"] if settings.least is not None or settings.most is not None else []
    narrowed += [f"named like “{settings.find}”"] if settings.find else []
    more = f", {words.listing(narrowed)}" if narrowed else ""
    rows = wording.row if result.total == 1 else wording.rows
    if not (chosen or who or more):
        return plain(
            f"{words.count(result.total)} {rows}.", "Choose one to see which features carry it to its prediction."
        )
    return plain(
        f"{words.count(result.matching)} of {words.count(result.total)} {rows}{who}{chosen}{more}.",
        "Choose one to see which features carry it to its prediction.",
    )


METHOD = Method(
    name="cases",
    area="cases",
    title="Cases",
    settings=CasesQuery,
    result=CasesPage,
    compute=page,
    say=say,
    note=(
        "The rows of the context with prediction, outcome, and whether they agree, in the order asked for. The report "
        "shows the surest error of each kind, and the prediction closest to the threshold."
    ),
    main="cases",
    needs=frozenset({"predictions"}),
    depends=frozenset({"spec", "comparisons"}),
    address={"descending": "down", "offset": "offset", "decided": "decided", "happened": "happened"},
    reads=lambda query: EXPLAINED if query.contributions or query.order == "contribution" else "",
    version=4,
)
