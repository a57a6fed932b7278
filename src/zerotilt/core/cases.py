"""The list of cases: prediction, outcome, right or wrong; and which of them make good examples."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Role, Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

Which = Literal["all", "right", "wrong", "true positive", "true negative", "false positive", "false negative"]
Order = Literal["row", "score", "nearest the threshold"]


class CasesQuery(Frozen):
    which: Which = "all"
    order: Order = "row"
    descending: bool = False
    find: str = Field(default="", max_length=200, description="Text within the identifier")
    group: str = Field(default="", description="A grouping, as the tilt sheet names it")
    member: str = Field(default="", description="One group of that grouping")
    offset: int = Field(default=0, ge=0)
    limit: int = Field(default=50, ge=1, le=500)


class Case(Frozen):
    row: int
    name: str
    score: float | None
    predicted: bool
    favoured: bool
    outcome: bool | None = Field(description="Whether the event happened; null where that is not known")
    right: bool | None
    values: tuple[str | None, ...]


class CasesPage(Frozen):
    """One page of the list, in the query's order."""

    total: int
    matching: int
    columns: tuple[str, ...]
    cases: tuple[Case, ...]


def matching(subject: Subject, query: CasesQuery, members: NDArray[np.bool_] | None = None) -> NDArray[np.int64]:
    """Places in the context's rows that a query selects, in its order."""
    wanted = np.ones(subject.n, bool)
    if query.which != "all":
        y, d = subject.rows.outcome, subject.decisions.predicted
        wanted = {
            "right": y == d,
            "wrong": y != d,
            "true positive": d & y,
            "true negative": ~d & ~y,
            "false positive": d & ~y,
            "false negative": ~d & y,
        }[query.which]
    if members is not None:
        wanted = wanted & members
    found = np.flatnonzero(wanted)
    identifiers = subject.spec.with_role(Role.identifier)
    if query.find:
        if identifiers:
            names = subject.table.texts(identifiers[0].name)[subject.rows.numbers[found]]
        else:
            names = (subject.rows.numbers[found] + 1).astype(str)
        wanted_text = query.find.strip().lower()
        found = found[[wanted_text in str(name).lower() for name in names]]
    if query.order != "row" and subject.predictions.scores is not None:
        scores = subject.predictions.scores[found]
        by = scores if query.order == "score" else np.abs(scores - subject.decisions.cuts[found])
        found = found[np.argsort(by, kind="stable")]
    return found[::-1] if query.descending else found


def page(subject: Subject, query: CasesQuery, seed: int, work: Work) -> CasesPage:
    """One page of cases with the group columns and the model's inputs.

    Raises
    ------
    Refused : the group asked for is none of the audit's.
    """
    members = None
    if query.group:
        columns = membership.columns_of(subject.spec, query.group)
        grouping = membership.grouping(subject.spec, subject.table, subject.rows.numbers, columns)
        members = grouping.mask(grouping.place(query.member))
    found = matching(subject, query, members)
    inputs = subject.predictor.inputs if subject.predictor else ()
    grouped = [column.name for column in subject.spec.columns if column.makes_groups]
    features = inputs or [column.name for column in subject.spec.with_role(Role.feature)]
    columns = tuple(dict.fromkeys([*grouped, *features]))[:12]
    shown = found[query.offset : query.offset + query.limit]
    values = [subject.table.texts_of(name, subject.rows.numbers[shown]) for name in columns]
    scores, y = subject.predictions.scores, subject.rows.outcome_if_known
    return CasesPage(
        total=subject.n,
        matching=len(found),
        columns=columns,
        cases=tuple(
            Case(
                row=int(subject.rows.numbers[at]),
                name=subject.editor.name_of(int(subject.rows.numbers[at])),
                score=None if scores is None else float(scores[at]),
                predicted=bool(subject.decisions.predicted[at]),
                favoured=bool(subject.decisions.favoured[at]),
                outcome=None if y is None else bool(y[at]),
                right=None if y is None else bool(y[at] == subject.decisions.predicted[at]),
                values=tuple(None if column[i] is None else str(column[i]) for column in values),
            )
            for i, at in enumerate(shown)
        ),
    )


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
    }[settings.which]
    who = f" in {settings.member}" if settings.member else ""
    headline = f"{words.count(result.matching)} of {words.count(result.total)} {wording.rows}{who}{chosen}."
    detail = "Choose one to see which features carry it to its prediction."
    return plain(headline if chosen or who else f"{words.count(result.total)} {wording.rows}.", detail)


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
    address={"descending": "down", "offset": "offset"},
    version=2,
)
