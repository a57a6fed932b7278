"""What makes the difference between two cases: one ladder from the one to the other."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.explain import ShapleyMethod, explain
from zerotilt.core.contributions.game import background
from zerotilt.core.contributions.ladder import value_of
from zerotilt.core.frozen import Frozen, RowNumber
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class DifferenceSettings(Frozen):
    row: RowNumber
    other: RowNumber


class StepBetween(Frozen):
    """One feature's share of the gap, from the other case to this one."""

    feature: str
    here: str
    there: str
    contribution: float
    error: float | None


class DifferenceResult(Frozen):
    row: int
    name: str
    other: int
    other_name: str
    output_here: float
    output_there: float
    threshold: float | None = Field(description="Of this case, on the scale of the output; null where theirs differ")
    steps: tuple[StepBetween, ...] = Field(description="Largest first; columns in which they are the same are left out")
    same: int = Field(description="Columns in which they are the same")
    method: ShapleyMethod
    why: str
    output: Literal["probability", "log-odds", "value"]
    event: str


def differ(subject: Subject, settings: DifferenceSettings, seed: int, work: Work) -> DifferenceResult:
    """Shapley values of one case against the other alone; they add up to the gap between their outputs.

    Raises
    ------
    Refused : there is no such row, or the two are one.
    """
    if settings.row == settings.other:
        raise Refused("Both are the same case.", todo="Choose another case to hold it against.")
    here, there = subject.editor.case(settings.row), subject.editor.case(settings.other)
    reference = background(there)
    found = explain(subject, here, seed, work, most_pairs=4_096, reference=reference)
    order = np.argsort(-np.abs(found.values[0]), kind="stable")
    cuts = {subject.decisions.cut_at(row) for row in (settings.row, settings.other)} if subject.kind.cut else set()
    steps = []
    for j in order:
        name = found.features[j]
        a, b = here[name][0], there[name][0]
        if a == b or (a != a and b != b):
            continue
        steps.append(
            StepBetween(
                feature=name,
                here=value_of(subject, name, settings.row),
                there=value_of(subject, name, settings.other),
                contribution=float(found.values[0, j]),
                error=None if found.errors is None else float(found.errors[0, j]),
            )
        )
    return DifferenceResult(
        row=settings.row,
        name=subject.editor.name_of(settings.row),
        other=settings.other,
        other_name=subject.editor.name_of(settings.other),
        output_here=float(found.output[0]),
        output_there=found.baseline,
        threshold=subject.on_scale(next(iter(cuts))) if len(cuts) == 1 else None,
        steps=tuple(steps),
        same=len(order) - len(steps),
        method=found.method,
        why=found.why,
        output=subject.scale,
        event=subject.what,
    )


def say(result: DifferenceResult, wording: Wording, settings: DifferenceSettings) -> Reading:
    here, there, unit = wording.case_named(result.name), wording.case_named(result.other_name), wording.unit
    gap = result.output_here - result.output_there
    what = (
        result.event
        if result.output == "value"
        else f"{'chance' if result.output == 'probability' else 'log-odds'} that {result.event}"
    )
    if not result.steps:
        return plain(
            f"{words.opening(here)} and {there} hold the same values, and the same is said of both.", result.why
        )
    if gap == 0:
        headline = (
            f"The {what} is the same for {here} and {there}: {words.on_scale(result.output_here, result.output, unit)}."
        )
    else:
        headline = (
            f"The {what} is {words.difference(gap, result.output, unit)} {'higher' if gap > 0 else 'lower'} for {here} "
            f"({words.on_scale(result.output_here, result.output, unit)}) than for {there} "
            f"({words.on_scale(result.output_there, result.output, unit)})."
        )
    parts = []
    for one in result.steps[:2]:
        verb = "adds" if one.contribution > 0 else "takes"
        parts.append(
            f"{words.title(one.feature)} ({one.here} instead of {one.there}) {verb} {words.difference(one.contribution, result.output, unit)}"
        )
    headline += f" {words.opening(words.listing(parts))}."
    same = f"In {words.plural(result.same, 'other feature')} they are the same. " if result.same else ""
    return plain(headline, f"{same}The steps add up to the gap. {result.why}")


METHOD = Method(
    name="difference",
    weighs=False,
    area="cases",
    title="Two cases",
    settings=DifferenceSettings,
    result=DifferenceResult,
    compute=differ,
    say=say,
    note=(
        "**Shapley values** (Shapley 1953) of one case with the other in place of the rows of the context: v(S) is the output "
        "with the features in S from the one and the rest from the other. What they have in common has no step, and the "
        "steps add up to the gap between the two outputs."
    ),
    main="steps",
    part="alike",
    unasked=lambda spec: None,
)
