"""The nearest real case with the other decision."""

from __future__ import annotations

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.distance import distances, space
from zerotilt.core.frozen import Frozen, RowNumber
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.predictors import Frame
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class NearestSettings(Frozen):
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
    differences: tuple[Difference, ...]


class NearestResult(Frozen):
    row: int
    name: str
    decision: str
    output: float
    neighbours: tuple[Neighbour, ...] = Field(description="Nearest first, in the order of the table where they tie")
    ties: int = Field(description="Rows exactly as near as the nearest one")
    others: int = Field(description="Rows of the context with another decision")
    scale: str


def find_nearest(subject: Subject, settings: NearestSettings, seed: int, work: Work) -> NearestResult:
    """Rows of the context that were decided otherwise, nearest first (Gower 1971).

    Raises
    ------
    Refused : all rows are decided alike.
    """
    case = subject.editor.case(settings.row)
    own = int(subject.decisions.of(subject.model.outputs(case), subject.decisions.cut_at(settings.row))[0])
    decisions = subject.decisions.of(subject.predictions.outputs, subject.decisions.cuts)
    other = np.flatnonzero(decisions != own)
    if not len(other):
        raise Refused(
            f"All {words.count(subject.n)} rows are decided alike; there is none with another decision.",
            todo="Read other rows, or look at the smallest change instead.",
        )
    work.begin(1, "rows compared")
    rows = subject.frame.take(other)
    away = distances(space(subject.frame), rows, case)
    order = np.argsort(away, kind="stable")[: settings.neighbours]
    work.advance(1)
    return NearestResult(
        row=settings.row,
        name=subject.editor.name_of(settings.row),
        decision=subject.decisions.named(own),
        output=float(subject.output(case)[0]),
        neighbours=tuple(
            Neighbour(
                row=int(subject.rows.numbers[other[i]]),
                name=subject.editor.name_of(int(subject.rows.numbers[other[i]])),
                distance=float(away[i]),
                decision=subject.decisions.named(int(decisions[other[i]])),
                output=float(subject.own_output[other[i]]),
                differences=differences(subject, case, rows.take(np.array([i]))),
            )
            for i in order
        ),
        ties=int((away <= away.min() + 1e-12).sum()),
        others=len(other),
        scale=subject.scale,
    )


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
    parts = [f"{words.title(one.feature)} {one.there} instead of {one.here}" for one in changed[:4]]
    more = f" and {words.plural(len(changed) - 4, 'more column')}" if len(changed) > 4 else ""
    headline = (
        f"The nearest {wording.row} with another decision than {result.name} ({result.decision}) is {first.name} ({first.decision}): "
        f"{words.listing(parts) if parts else 'it has the same values'}{more}."
    )
    detail = f"Nearest of {words.count(result.others)} {wording.rows} decided otherwise, at a distance of {first.distance:.3f}."
    if result.ties > 1:
        detail += f" {words.count(result.ties)} are exactly as near."
    return plain(headline, detail)


METHOD = Method(
    name="nearest",
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
    version=2,
)
