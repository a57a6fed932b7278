"""What a case holds, feature by feature, and what other cases hold there: all that is needed to write other values."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.counterfactuals.nearest import cell
from zerotilt.core.frozen import Frozen, RowNumber
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.stats.distinct import distinct
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

MOST_LEVELS = 200
SHARES = (0.05, 0.25, 0.5, 0.75, 0.95)

Holds = Literal["number", "date", "level"]


class ValuesSettings(Frozen):
    row: RowNumber


class LevelOf(Frozen):
    level: str
    rows: int


class HeldValue(Frozen):
    """One feature: the case's value as it would be typed, and what the rows of the context hold."""

    feature: str
    holds: Holds
    value: str = Field(description="Empty where it is missing")
    missing: int = Field(description="Rows of the context in which it is missing")
    whole: bool = Field(description="Whether all known numbers are whole")
    typical: tuple[str, ...] = Field(description="5th, 25th, 50th, 75th and 95th percentile; empty for levels")
    low: str = Field(description="Least value of the rows; empty for levels")
    high: str
    levels: tuple[LevelOf, ...] = Field(description="In their order, or largest first; empty for numbers")
    more_levels: int = Field(description="Levels that are not listed because there are too many")
    frozen: bool = Field(description="Whether the audit says that it stays as it is")


class ValuesResult(Frozen):
    row: int
    name: str
    held: tuple[HeldValue, ...] = Field(description="In the order of the model's inputs")
    rows: int


def held_by(subject: Subject, settings: ValuesSettings, seed: int, work: Work) -> ValuesResult:
    """Every input of the model for one row, and its quantiles or levels in the rows of the context.

    Raises
    ------
    Refused : there is no such row.
    """
    case = subject.editor.case(settings.row)
    frozen = {one.feature for one in subject.spec.limits if one.change == "none"}
    held = []
    for name in case.names:
        values = subject.frame[name]
        number = values.dtype.kind == "f"
        known = values[np.isfinite(values)] if number else values[values != ""]
        typical, low, high = (), "", ""
        levels: list[LevelOf] = []
        more = 0
        if number and len(known):
            at = np.quantile(known, [0, *SHARES, 1], method="nearest")
            low, *middle, high = (_typed(subject, name, float(one)) for one in at)
            typical = tuple(middle)
        elif not number:
            found, _, sizes = distinct(known)
            by_size = dict(zip(found.tolist(), sizes.tolist(), strict=True))
            order = [level for level in subject.spec.column(name).order if level in by_size]
            rest = sorted(set(by_size) - set(order), key=lambda level: (-by_size[level], level))
            shown = [*order, *rest][:MOST_LEVELS]
            levels = [LevelOf(level=level, rows=by_size[level]) for level in shown]
            more = len(by_size) - len(shown)
        own = cell(subject, case, name)
        absent = np.isnan(case[name][0]) if number else case[name][0] == ""
        held.append(
            HeldValue(
                feature=name,
                holds="date" if subject.editor.is_date(name) else "number" if number else "level",
                value="" if absent else own,
                missing=int(len(values) - len(known)),
                whole=bool(number and len(known) and (known % 1 == 0).all()),
                typical=typical,
                low=low,
                high=high,
                levels=tuple(levels),
                more_levels=more,
                frozen=name in frozen,
            )
        )
    return ValuesResult(row=settings.row, name=subject.editor.name_of(settings.row), held=tuple(held), rows=subject.n)


def _typed(subject: Subject, name: str, value: float) -> str:
    """A number as it would be typed."""
    if subject.editor.is_date(name):
        return subject.editor.label(name, value)
    return np.format_float_positional(value, trim="-") if value == 0 or 1e-6 <= abs(value) < 1e15 else repr(value)


def say(result: ValuesResult, wording: Wording, settings: ValuesSettings) -> Reading:
    absent = sum(one.value == "" for one in result.held)
    missing = f", of which {absent} {'is' if absent == 1 else 'are'} missing" if absent else ""
    return plain(
        f"{words.opening(wording.case_named(result.name))} is described by {words.plural(len(result.held), 'feature')}{missing}.",
        f"Beside each stands what {words.count(result.rows)} {wording.rows} hold.",
    )


METHOD = Method(
    name="values",
    weighs=False,
    area="cases",
    title="Values of a case",
    settings=ValuesSettings,
    result=ValuesResult,
    compute=held_by,
    say=say,
    note="What the model takes of a case, and the quantiles or levels of the same columns among the rows of the context.",
    main="held",
    part="tries",
    depends=frozenset({"spec", "changeable"}),
    unasked=lambda spec: None,
)
