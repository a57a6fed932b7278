"""The nearest real case that was decided otherwise, or as is wanted."""

from __future__ import annotations

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.counterfactuals.wanted import Target, wanted_of
from zerotilt.core.distance import distances, space
from zerotilt.core.frozen import Frozen, RowNumber
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.predictors import Frame
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class NearestSettings(Target):
    row: RowNumber
    neighbours: int = Field(default=5, ge=1, le=100)


class Difference(Frozen):
    """One column of the case and of the other; ``same`` columns are given too, so that the pair can be read whole."""

    feature: str
    here: str
    there: str
    same: bool


class Neighbour(Frozen):
    row: int
    name: str
    distance: float = Field(description="Gower distance, 0 to 1")
    decision: str
    output: float
    outcome: str | None = Field(description="What happened, as it stands in the table")
    differences: tuple[Difference, ...]
    groups: tuple[str, ...] = Field(description="Columns that make groups, and in which it differs from the case")


class NearestResult(Frozen):
    row: int
    name: str
    decision: str
    output: float
    neighbours: tuple[Neighbour, ...] = Field(description="Nearest first, in the order of the table where they tie")
    ties: int = Field(description="Rows exactly as near as the nearest one")
    others: int = Field(description="Rows of the context that have what is wanted")
    aim: str = Field(description="What was wanted: otherwise, as a class, a range")
    scale: str


def find_nearest(subject: Subject, settings: NearestSettings, seed: int, work: Work) -> NearestResult:
    """Rows of the context that were decided otherwise, or have what is wanted, nearest first (Gower 1971).

    Raises
    ------
    Refused : there is none.
    """
    case = subject.editor.case(settings.row)
    aim = wanted_of(subject, settings.row, case, settings)
    cuts = subject.decisions.cuts if subject.kind.cut else None
    other = np.flatnonzero(aim.met(subject.predictions.outputs, cuts))
    if not len(other):
        every = (
            f"All {words.count(subject.n)} rows are decided alike"
            if not settings.wanted and subject.kind.decides
            else f"None of the {words.count(subject.n)} rows is decided {aim.said}"
        )
        every = (
            every if subject.kind.decides else f"The model gives none of the {words.count(subject.n)} rows {aim.said}"
        )
        raise Refused(
            f"{every}; there is none to hold the case against.",
            todo="Read other rows, or look at the smallest change instead.",
        )
    work.begin(1, "rows compared")
    rows = subject.frame.take(other)
    away = distances(space(subject.frame), rows, case)
    order = np.argsort(away, kind="stable")[: settings.neighbours]
    work.advance(1)
    numbers = subject.rows.numbers[other[order]]
    happened = (
        subject.table.texts_of(subject.spec.outcome.name, numbers)
        if subject.spec.knows_outcome
        else [None] * len(numbers)
    )
    found = []
    for i, number, outcome in zip(order, numbers, happened, strict=True):
        parts = differences(subject, case, rows.take(np.array([i])))
        found.append(
            Neighbour(
                row=int(number),
                name=subject.editor.name_of(int(number)),
                distance=float(away[i]),
                decision=aim.named(subject.predictions.outputs[other[i]][None, :])
                if cuts is None
                else subject.decisions.named(int(subject.decisions.taken[other[i]])),
                output=float(subject.own_output[other[i]]),
                outcome=outcome,
                differences=parts,
                groups=_groups_apart(subject, settings.row, int(number)),
            )
        )
    return NearestResult(
        row=settings.row,
        name=subject.editor.name_of(settings.row),
        decision=aim.own,
        output=float(subject.output(case)[0]),
        neighbours=tuple(found),
        ties=int((away <= away.min() + 1e-12).sum()),
        others=len(other),
        aim=aim.said,
        scale=subject.scale,
    )


def _groups_apart(subject: Subject, one: int, other: int) -> tuple[str, ...]:
    """Columns that make groups in which two rows of the table differ, whether or not the model takes them."""
    both = np.array([one, other])
    apart = []
    for column in subject.spec.columns:
        if column.makes_groups:
            here, there = subject.table.texts_of(column.name, both)
            if here != there:
                apart.append(column.name)
    return tuple(apart)


def differences(subject: Subject, one: Frame, other: Frame) -> tuple[Difference, ...]:
    """Two rows column by column."""
    found = []
    for name in one.names:
        here, there = cell(subject, one, name), cell(subject, other, name)
        found.append(Difference(feature=name, here=here, there=there, same=here == there))
    return tuple(found)


def cell(subject: Subject, frame: Frame, name: str) -> str:
    """The first row's value; numbers with all digits it takes to be typed in again as the same number."""
    value = frame[name][0]
    if frame[name].dtype.kind != "f" or np.isnan(value) or subject.table.is_date(name):
        return subject.editor.label(name, value)
    plainly = value == 0 or 1e-6 <= abs(value) < 1e15
    return np.format_float_positional(value, trim="-") if plainly else repr(float(value))


def say(result: NearestResult, wording: Wording, settings: NearestSettings) -> Reading:
    first = result.neighbours[0]
    changed = [one for one in first.differences if not one.same]
    parts = [
        f"{words.title(one.feature)} {words.brief(one.there)} instead of {words.brief(one.here)}" for one in changed[:4]
    ]
    more = f" and {words.plural(len(changed) - 4, 'more column')}" if len(changed) > 4 else ""
    number = result.scale == "value"
    what = f"that comes to {result.aim}" if number else f"decided {result.aim}"
    own = f"{result.name} ({result.decision})"
    sought = (
        f"Of {wording.rows} {what.replace('that comes', 'that come')}, the one nearest to {own}"
        if number or settings.wanted
        else f"The nearest {wording.row} {what} than {own}"
    )
    headline = (
        f"{sought} is {first.name} ({first.decision}): "
        f"{words.listing(parts) if parts else 'it has the same values'}{more}."
    )
    if first.groups:
        headline += f" It is of another group by {words.listing([words.title(name) for name in first.groups])}."
    detail = f"Nearest of {words.count(result.others)} {wording.rows} {what.replace('that comes', 'that come')}, at a distance of {first.distance:.3f}."
    if result.ties > 1:
        detail += f" {words.count(result.ties)} are exactly as near."
    return plain(headline, detail)


METHOD = Method(
    name="nearest",
    weighs=False,
    area="cases",
    title="Nearest case decided otherwise",
    settings=NearestSettings,
    result=NearestResult,
    compute=find_nearest,
    say=say,
    note=(
        "The nearest real row with the other decision, by **Gower distance**, numbers by the range of their 1–99% "
        "band; ties are counted."
    ),
    main="neighbours",
    part="otherwise",
    depends=frozenset({"spec"}),
    unasked=lambda spec: None,
    version=3,
)
