"""A case with some values written over: what the model says then, and whether there are cases like it."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.ladder import value_of
from zerotilt.core.frozen import Frozen, RowNumber
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.predictors import Frame
from zerotilt.core.reading import Reading, plain
from zerotilt.core.response.support import nearest_in, support_in
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class TriedSettings(Frozen):
    row: RowNumber
    edits: dict[str, str] = Field(
        default_factory=dict,
        description="Values of the case to write over, as they would stand in the table; empty is missing",
    )


class Edited(Frozen):
    """One value written over."""

    feature: str
    was: str
    now: str
    alone: float = Field(description="The output with this value alone written over")
    warning: str = Field(description="Why few or no rows are like it; empty where there are some")


class Said(Frozen):
    """What the model says of a case. ``decision`` is empty where nothing is decided."""

    output: float
    probability: float | None
    decision: str
    favoured: bool | None


class TriedResult(Frozen):
    row: int
    name: str
    before: Said
    after: Said
    threshold: float | None = Field(description="Of this case, on the scale of the output")
    edited: tuple[Edited, ...]
    from_real: float = Field(description="Gower distance from the nearest real row of the context, 0 to 1")
    usual: float = Field(description="99% of real rows have a neighbour nearer than this")
    far: bool = Field(description="Whether it lies farther from every real row than that")
    real: int = Field(description="The nearest real row, other than the case itself")
    real_name: str
    output: Literal["probability", "log-odds", "value"]
    event: str


def try_values(subject: Subject, settings: TriedSettings, seed: int, work: Work) -> TriedResult:
    """Ask the model about one row as it is and with values written over; no outcome is known of such a case.

    Raises
    ------
    Refused : there is no such row or no other, a value does not fit its column, or the model takes none such.
    """
    case = subject.editor.case(settings.row)
    now = subject.editor.case(settings.row, settings.edits)
    changed = [name for name in case.names if not _same(case[name][0], now[name][0])]
    singles = [case.replace(name, now[name]) for name in changed]
    asked = Frame({name: np.concatenate([one[name] for one in (case, now, *singles)]) for name in case.names})
    outputs, read = subject.model.outputs(asked), subject.output(asked)
    cut = subject.decisions.cut_at(settings.row)
    support = support_in(subject)
    near, place = nearest_in(subject, now, settings.row)
    real = int(subject.rows.numbers[place])

    def said(place: int) -> Said:
        decided = int(subject.decisions.of(outputs[[place]], cut)[0]) if subject.kind.decides else None
        return Said(
            output=float(read[place]),
            probability=float(outputs[place, subject.column]) if subject.kind.scaled else None,
            decision="" if decided is None else subject.decisions.named(decided),
            favoured=None if decided is None else decided in subject.decisions.favourable,
        )

    return TriedResult(
        row=settings.row,
        name=subject.editor.name_of(settings.row),
        before=said(0),
        after=said(1),
        threshold=subject.on_scale(cut) if subject.kind.cut else None,
        edited=tuple(
            Edited(
                feature=name,
                was=value_of(subject, name, settings.row),
                now=value_of(subject, name, settings.row, settings.edits),
                alone=float(read[2 + i]),
                warning=_unusual(subject, name, now),
            )
            for i, name in enumerate(changed)
        ),
        from_real=near,
        usual=support.limit,
        far=near > support.limit,
        real=real,
        real_name=subject.editor.name_of(real),
        output=subject.scale,
        event=subject.what,
    )


def _same(one, other) -> bool:
    return one == other or (one != one and other != other)


def _unusual(subject: Subject, name: str, now: Frame) -> str:
    """Why few or no rows of the context hold such a value."""
    values, own = subject.frame[name], now[name][0]
    rows = f"{words.count(len(values))} {subject.spec.wording.rows}"
    if values.dtype.kind != "f":
        alike = int((values == own).sum())
        if alike:
            return ""
        return f"none of the {rows} {'misses it' if own == '' else 'holds this level'}; the model was perhaps never shown it"
    if np.isnan(own):
        return "" if np.isnan(values).any() else f"it is missing in none of the {rows}"
    known = values[np.isfinite(values)]
    if not len(known):
        return f"it is missing in all of the {rows}"
    low, high = float(known.min()), float(known.max())
    if low <= own <= high:
        return ""
    ends = f"{subject.editor.label(name, low)} to {subject.editor.label(name, high)}"
    return f"{'under' if own < low else 'over'} all of the {rows}, which reach from {ends}"


def say(result: TriedResult, wording: Wording, settings: TriedSettings) -> Reading:
    name, unit = wording.case_named(result.name), wording.unit
    what = (
        f"the {result.event}"
        if result.output == "value"
        else f"the {'log-odds' if result.output == 'log-odds' else 'chance'} that {result.event}"
    )

    def on(value: float) -> str:
        return words.on_scale(value, result.output, unit)

    if not result.edited:
        said = f" ({result.before.decision})" if result.before.decision else ""
        return plain(
            f"{words.opening(name)} as it is: {what} is {on(result.before.output)}{said}.",
            "Write another value, and see what the model would say.",
        )
    moved = result.after.output - result.before.output
    way = "raises" if moved > 0 else "lowers"
    parts = [f"{words.title(one.feature)} {one.now}" for one in result.edited[:3]]
    more = f" and {words.plural(len(result.edited) - 3, 'more value')}" if len(result.edited) > 3 else ""
    if moved == 0:
        headline = f"With {words.listing(parts)}{more}, {what} stays at {on(result.after.output)} for {name}."
    else:
        headline = (
            f"With {words.listing(parts)}{more}, {what} {way.replace('raises', 'rises').replace('lowers', 'falls')} from "
            f"{on(result.before.output)} to {on(result.after.output)} for {name}."
        )
    if result.after.decision != result.before.decision:
        headline += f" The decision turns from {result.before.decision} to {result.after.decision}."
    elif result.after.decision:
        headline += f" The decision stays: {result.after.decision}."
    detail = "It lies among the rows: "
    if result.far:
        detail = "Few or no rows are like it: "
    detail += (
        f"the nearest real {wording.row} is {result.real_name}, at a distance of {result.from_real:.3f} "
        f"(99% of {wording.rows} have another nearer than {result.usual:.3f}). "
        "This is what the model would say, not what would happen in the world."
    )
    return plain(headline, detail)


METHOD = Method(
    name="tried",
    weighs=False,
    area="cases",
    title="Case with other values",
    settings=TriedSettings,
    result=TriedResult,
    compute=try_values,
    say=say,
    note=(
        "The model is asked about the case as it is, with all values written over, and with each of them alone. How far "
        "the written case lies from real rows is its **Gower distance** from the nearest other one, held against the distance "
        "within which 99% of real rows have a neighbour."
    ),
    main="edited",
    part="tries",
    also=lambda settings: [("ladder", {"row": settings.row, "edits": settings.edits})],
    unasked=lambda spec: None,
)
