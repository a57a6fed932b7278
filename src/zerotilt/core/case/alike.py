"""Cases like this one: how they were decided, and what happened."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.case.told import Told
from zerotilt.core.counterfactuals.nearest import Difference, differences
from zerotilt.core.distance import distances, space
from zerotilt.core.frozen import Frozen, RowNumber
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class AlikeSettings(Frozen):
    row: RowNumber
    neighbours: int = Field(default=20, ge=1, le=500)


class Like(Frozen):
    """A row of the context near the case."""

    row: int
    name: str
    distance: float = Field(description="Gower distance, 0 to 1")
    decision: str = Field(description="A number's prediction in its unit")
    output: float | None
    outcome: str | None = Field(description="What happened, as it stands in the table")
    same_decision: bool | None = Field(description="Null where nothing is decided")
    differences: tuple[Difference, ...] = Field(description="Columns in which it differs")


class AlikeResult(Frozen):
    row: int
    name: str
    decision: str
    output: float | None
    outcome: str | None
    likes: tuple[Like, ...] = Field(description="Nearest first, without the case itself")
    decided_alike: float | None = Field(description="Share of them decided as the case; null where nothing is decided")
    happened_alike: float | None = Field(
        description="Share of them with the case's own outcome; null where that is a number or not known"
    )
    low: float | None = Field(description="Least output among them")
    high: float | None
    scale: Literal["probability", "log-odds", "value"]
    rows: int


def cases_like(subject: Subject, settings: AlikeSettings, seed: int, work: Work) -> AlikeResult:
    """The nearest rows of the context by Gower distance (Gower 1971), whatever was decided.

    Raises
    ------
    Refused : there is no such row, or no other row to compare it with.
    """
    subject.editor.require(settings.row)
    work.begin(1, "rows compared")
    told, rows = Told(subject), subject.predictions.features
    case = subject.predictions.features_of(np.array([settings.row]))
    away = distances(space(rows), rows, case)
    away[subject.rows.numbers == settings.row] = np.inf
    order = np.argsort(away, kind="stable")
    order = order[np.isfinite(away[order])][: settings.neighbours]
    if not len(order):
        raise Refused("There is no other row to compare the case with.", todo="Choose more rows.")
    own = told.of(settings.row)
    likes = []
    for place in order:
        one = told.of(int(subject.rows.numbers[place]))
        parts = differences(subject, case, rows.take(np.array([place])))
        likes.append(
            Like(
                row=one.row,
                name=one.name,
                distance=float(away[place]),
                decision=one.decision,
                output=one.output,
                outcome=one.outcome,
                same_decision=one.decision == own.decision if subject.kind.decides else None,
                differences=tuple(part for part in parts if not part.same),
            )
        )
    work.advance(1)
    read = [one.output for one in likes if one.output is not None]
    counted = subject.kind.decides and own.outcome is not None
    return AlikeResult(
        row=settings.row,
        name=own.name,
        decision=own.decision,
        output=own.output,
        outcome=own.outcome,
        likes=tuple(likes),
        decided_alike=float(np.mean([one.same_decision for one in likes])) if subject.kind.decides else None,
        happened_alike=float(np.mean([one.outcome == own.outcome for one in likes])) if counted else None,
        low=min(read, default=None),
        high=max(read, default=None),
        scale=subject.scale,
        rows=subject.n,
    )


def say(result: AlikeResult, wording: Wording, settings: AlikeSettings) -> Reading:
    name, many = wording.case_named(result.name), len(result.likes)
    likes = (
        f"the {words.count(many)} {wording.rows} most like {name}"
        if many > 1
        else f"the {wording.row} most like {name}"
    )
    if result.decided_alike is not None:
        same = round(result.decided_alike * many)
        headline = (
            f"Of {likes}, {words.count(same)} {'was' if same == 1 else 'were'} decided alike ({result.decision})."
        )
        if result.decided_alike < 0.5:
            headline += " Most were decided otherwise."
    elif result.low is not None and result.high is not None:
        ends = f"{words.quantity(result.low)} to {words.quantity(result.high, wording.unit)}"
        headline = f"For {likes} the model gives {ends}; for this one {result.decision}."
    else:
        headline = f"{words.opening(likes)} are listed."
    detail = ""
    if result.happened_alike is not None:
        happened = round(result.happened_alike * many)
        detail = f"What happened to {name} ({result.outcome}) happened to {words.count(happened)} of them. "
    first = result.likes[0]
    parts = [
        f"{words.title(one.feature)} {words.brief(one.there)} instead of {words.brief(one.here)}"
        for one in first.differences[:3]
    ]
    more = f" and {len(first.differences) - 3} more" if len(first.differences) > 3 else ""
    held = f"differs in {words.listing(parts)}{more}" if parts else "has the same values"
    detail += (
        f"The nearest, {first.name}, {held}. Compared with {words.count(result.rows)} {wording.rows} by Gower distance."
    )
    return plain(headline, detail)


METHOD = Method(
    name="alike",
    weighs=False,
    area="cases",
    title="Cases like this one",
    settings=AlikeSettings,
    result=AlikeResult,
    compute=cases_like,
    say=say,
    note=(
        "The nearest rows of the context by **Gower distance** (Gower 1971) over the model's inputs, or over the columns "
        "marked as features where predictions were recorded; numbers by the range of their 1–99% band. The case itself is "
        "left out."
    ),
    main="likes",
    part="alike",
    needs=frozenset({"predictions"}),
    unasked=lambda spec: None,
)
