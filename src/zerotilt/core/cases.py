"""The table of all cases: prediction, outcome, right or wrong, any column; and which of them make good examples."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import typed_conditions, words
from zerotilt.core.cases_asked import EXPLAINED, CasesQuery, contribution_of, matching, went_right
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Role, Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

SHOWN_FIRST = 12


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
    modelled: bool = Field(default=True, description="Whether a model can be asked about them")


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
    moved = [contribution_of(subject, name)[shown] for name in query.contributions]
    return CasesPage(
        total=subject.n,
        matching=len(found),
        columns=tuple(columns),
        every=every,
        contributions=query.contributions,
        cases=tuple(_cases(subject, shown, numbers, values, moved)),
        scale=subject.scale,
        event=subject.what,
        modelled=subject.predictor is not None,
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
    right = went_right(subject) if y is not None and decides else None
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
    next_step = (
        "Choose one to see which features carry it to its prediction."
        if result.modelled
        else "Choose one to see it beside those most like it. What carried it to its prediction nobody can tell: there is "
        "no model to ask."
    )
    if not (chosen or who or more):
        return plain(f"{words.count(result.total)} {rows}.", next_step)
    return plain(
        f"{words.count(result.matching)} of {words.count(result.total)} {rows}{who}{chosen}{more}.",
        next_step,
    )


METHOD = Method(
    name="cases",
    weighs=False,
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
    # a decision is asked for in the audit's words
    depends=frozenset({"spec", "comparisons", "wording"}),
    address={"descending": "down", "offset": "offset", "decided": "decided", "happened": "happened"},
    reads=lambda query: EXPLAINED if query.contributions or query.order == "contribution" else "",
    version=4,
)
