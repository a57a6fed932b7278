"""One case explained: from the baseline, one rung a feature, to the prediction."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, Literal

import numpy as np
from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.cases import examples
from zerotilt.core.contributions.explain import MethodChoice, ShapleyMethod, explain
from zerotilt.core.frozen import Frozen, RowNumber
from zerotilt.core.meaning import Kind, Wording
from zerotilt.core.method import Asked, Method, Place
from zerotilt.core.output import settled
from zerotilt.core.reading import Reading, plain
from zerotilt.core.subject import Subject
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work


class LadderSettings(Frozen):
    row: RowNumber
    method: MethodChoice = "auto"
    groups: tuple[tuple[str, ...], ...] = Field(
        default=(), description="Features that belong together, for the hierarchy; associated columns when empty"
    )
    edits: dict[str, str] = Field(
        default_factory=dict,
        description="Values of the case to write over, as they would stand in the table; empty is missing",
    )


class Rung(Frozen):
    """One feature's step. ``error`` is the standard error of a sampled value."""

    feature: str
    value: str
    standing: str
    contribution: float
    error: float | None


class LadderResult(Frozen):
    """``probability``, ``threshold``, ``predicted`` and ``favoured`` are of an event; ``chosen`` of several classes."""

    row: int
    name: str
    baseline: float
    prediction: float
    probability: float | None
    output: Literal["probability", "log-odds", "value"]
    threshold: float | None = Field(description="On the scale of the output")
    predicted: bool | None
    favoured: bool | None
    chosen: str | None = Field(description="Class of the largest probability, where there are several")
    runner_up: str | None = Field(description="Class of the second largest probability, where there are several")
    lead: float | None = Field(description="How much larger the largest probability is")
    higher_than: float | None = Field(
        description="Share of the rows of the context with a lower output, half of those with the same"
    )
    among: bool = Field(description="Whether it is one of the rows of the context")
    outcome: bool | None = Field(description="Whether the event, or the class that is read, happened")
    actual: str | None = Field(description="What happened, as it stands in the table")
    event: str
    rungs: tuple[Rung, ...] = Field(description="Largest first")
    background: int
    background_rows: str
    method: ShapleyMethod
    why: str
    gap: float = Field(description="How far baseline and steps together are from the model's output")
    evaluations: int


def ladder_of(subject: Subject, settings: LadderSettings, seed: int, work: Work) -> LadderResult:
    """Contributions of every feature to the prediction of one row of the table."""
    case = subject.editor.case(settings.row, settings.edits)
    found = explain(subject, case, seed, work, settings.method, most_pairs=4_096, groups=settings.groups)
    outputs = subject.model.outputs(case)[0]
    spec, cut = subject.spec, subject.decisions.cut_at(settings.row)
    # what happened to the case did not happen to an edited one
    happened_at = settings.row if spec.knows_outcome and not settings.edits else None
    actual = None if happened_at is None else subject.table.texts_of(spec.outcome.name, np.array([happened_at]))[0]
    event = subject.kind.cut
    predicted = bool(outputs[0] >= cut) if event else None
    happened = spec.event if event else subject.read_class or None
    order = np.argsort(-np.abs(found.values[0]), kind="stable")
    second = np.argsort(-outputs, kind="stable")[:2] if len(subject.classes) > 1 else None
    among, mass, own = subject.own_output, subject.rows.mass, float(found.output[0])
    same = np.abs(among - own) <= 1e-9 * max(abs(own), 1.0)
    return LadderResult(
        row=settings.row,
        name=f"{subject.editor.name_of(settings.row)}{', edited' if settings.edits else ''}",
        baseline=found.baseline,
        prediction=float(found.output[0]),
        probability=float(outputs[subject.column]) if subject.kind.scaled else None,
        output=subject.scale,
        threshold=subject.on_scale(cut) if event else None,
        predicted=predicted,
        favoured=predicted == (spec.favourable == "event") if event else None,
        chosen=subject.classes[int(outputs.argmax())] if subject.classes else None,
        runner_up=None if second is None else subject.classes[int(second[1])],
        lead=None if second is None else float(outputs[second[0]] - outputs[second[1]]),
        higher_than=float(((among < own) & ~same) @ mass + same @ mass / 2) / float(mass.sum()),
        among=bool((subject.rows.numbers == settings.row).any()),
        outcome=None if actual is None or happened is None else actual == happened,
        actual=actual,
        event=subject.what,
        rungs=tuple(
            Rung(
                feature=found.features[j],
                value=value_of(subject, found.features[j], settings.row, settings.edits),
                standing=_standing(subject, found.features[j], settings.row, settings.edits),
                contribution=float(found.values[0, j]),
                error=None if found.errors is None else float(found.errors[0, j]),
            )
            for j in order
        ),
        background=found.background,
        background_rows=subject.context.rows,
        method=found.method,
        why=found.why,
        gap=found.gap,
        evaluations=found.evaluations,
    )


def value_of(subject: Subject, feature: str, row: int, edits: Mapping[str, str] | None = None) -> str:
    """A feature's value in one case, as people read it."""
    value = edits[feature] if edits and feature in edits else subject.table.texts_of(feature, np.array([row]))[0]
    if not value:
        return "missing"
    if subject.table.is_number(feature) and "." in value:
        return words.quantity(float(value))
    return words.with_minus(value)


def _standing(subject: Subject, feature: str, row: int, edits: Mapping[str, str]) -> str:
    """Where the value stands among the rows of the context: its percentile, or how common it is."""
    mine = edits[feature] if feature in edits else subject.table.texts_of(feature, np.array([row]))[0]
    mine = mine or None
    if subject.table.is_number(feature):
        numbers = subject.table.numbers(feature)[subject.rows.numbers]
        alike = np.isnan(numbers) if mine is None else numbers == float(mine)
    else:
        levels, codes = subject.table.coded(feature)
        held = np.flatnonzero(levels == mine)  # a column without any level holds none of them
        alike = codes[subject.rows.numbers] == (-1 if mine is None else held[0] if len(held) else -2)
    share = float(np.mean(alike))
    numeric = subject.table.is_number(feature) and subject.spec.column(feature).kind is Kind.numeric
    if not numeric or mine is None or share >= 0.2:
        return f"{'under 1%' if share < 0.01 else f'{share:.0%}'} of {subject.spec.wording.rows}"
    among = subject.table.numbers(feature)[subject.rows.numbers]
    among = among[np.isfinite(among)]
    if not len(among):
        return f"missing in all {subject.spec.wording.rows}"
    at = float(mine)
    rank = int(np.clip(round(100 * float(np.mean(among < at) + np.mean(among == at) / 2)), 1, 99))
    ending = {1: "st", 2: "nd", 3: "rd"}.get(rank % 10 if rank % 100 not in (11, 12, 13) else 0, "th")
    return f"{rank}{ending} percentile"


def say(result: LadderResult, wording: Wording, settings: LadderSettings) -> Reading:
    if result.output == "value":
        headline = f"For {wording.case_named(result.name)} the model gives {words.quantity(result.prediction, wording.unit)} as the {result.event}. "
    else:
        headline = f"For {wording.case_named(result.name)} the model puts the chance that {result.event} at {words.percent(result.probability)}. "
    thing = {"probability": "it", "value": "it", "log-odds": "the log-odds"}[result.output]
    for place, rung in enumerate(result.rungs[:2]):
        verb = "raises" if rung.contribution > 0 else "lowers"
        name = words.title(rung.feature)
        headline += (
            f"{'; ' if place else ''}{name if place else words.opening(name)} ({rung.value}) {verb} "
            f"{'it' if place else thing} by {words.difference(rung.contribution, result.output, wording.unit)}"
        )
    detail = ""
    if result.favoured is not None:
        detail += f"Decision: {wording.favourable if result.favoured else wording.unfavourable}. "
    if result.chosen is not None:
        detail += f"The largest probability is of {result.chosen}. "
    if result.actual is not None and result.predicted is None:
        number = _number(result.actual)
        happened = result.actual if number is None else words.quantity(number, wording.unit)
        detail += f"What happened: {happened}. "
    elif result.outcome is not None:
        right = result.outcome == result.predicted
        phrase = result.event if result.outcome else f"not so that {result.event}"
        detail += f"What happened: {phrase}; the prediction was {'right' if right else 'wrong'}. "
    if not result.among:
        detail += f"It is not one of the {wording.rows} that are read. "
    detail += f"Against {row_sets.counted(result.background, result.background_rows, wording.rows)}; the steps add up to the prediction. {result.why}"
    return plain(headline + ".", detail, list(summary(result, wording)))


DRAWN = 9
"""Steps that are drawn one by one; the rest are folded into one."""


def summary(result: LadderResult, wording: Wording) -> Iterator[str]:
    """The case in plain sentences: how it is decided and how near to being decided otherwise, what raised and what
    lowered it, how it lies among all, and what its steps are and are not."""
    unit, scale = wording.unit, result.output
    what = {"probability": f"chance that {result.event}", "log-odds": f"log-odds that {result.event}"}.get(
        scale, result.event
    )

    def by(value: float) -> str:
        return words.difference(value, scale, unit)

    here = words.on_scale(result.prediction, scale, unit)
    if result.threshold is not None and result.favoured is not None:
        gap = result.prediction - result.threshold
        side = "exactly on" if gap == 0 else f"{by(gap)} {'over' if gap > 0 else 'under'}"
        decision = wording.favourable if result.favoured else wording.unfavourable
        yield f"Decision: {decision}. Its {what} of {here} lies {side} the threshold of {words.on_scale(result.threshold, scale, unit)}."
    elif result.chosen is not None and result.lead is not None:
        yield f"Decision: {result.chosen}, {words.points(result.lead)} ahead of {result.runner_up}. The {what} is {here}."
    elif result.actual is not None and _number(result.actual) is not None:
        off = result.prediction - float(result.actual)
        miss = (
            "exactly what happened"
            if off == 0
            else f"{by(off)} {'more' if off > 0 else 'less'} than what happened ({words.quantity(float(result.actual), unit)})"
        )
        yield f"The model gives {here}, {miss}."
    if result.higher_than is not None:
        low = result.higher_than < 0.5
        share = 1 - result.higher_than if low else result.higher_than
        yield (
            f"The {what} is {'lower' if low else 'higher'} than for {words.percent(share)} of "
            f"{row_sets.counted(result.background, result.background_rows, wording.rows)}."
        )
    size = max((abs(one.contribution) for one in result.rungs), default=0.0)
    for sign, verb in ((1, "Raised"), (-1, "Lowered")):
        steps = [one for one in result.rungs if sign * settled(one.contribution, size) > 0][:3]
        if steps:
            parts = [
                f"{words.title(one.feature)} {one.value}{_standing_said(one.standing)} by {by(one.contribution)}"
                for one in steps
            ]
            yield f"{verb} most by {words.listing(parts)}."
        else:
            yield f"No feature {'raised' if sign > 0 else 'lowered'} it."
    rest = result.rungs[DRAWN:]
    if rest:
        total = sum(one.contribution for one in rest)
        way = "change nothing" if total == 0 else f"{'raise' if total > 0 else 'lower'} it by {by(total)}"
        yield f"{words.opening(words.plural(len(rest), 'smaller step'))} together {way if len(rest) > 1 else way.replace('raise', 'raises').replace('lower', 'lowers').replace('change', 'changes')}."
    errors = [one.error for one in result.rungs if one.error is not None]
    sure = f"the largest standard error of a step is {by(max(errors))}" if errors else "the steps are exact"
    yield (
        f"The baseline of {words.on_scale(result.baseline, scale, unit)} is the mean over "
        f"{row_sets.counted(result.background, result.background_rows, wording.rows)}; {sure}, and {words.added_up(result.gap)}."
    )
    yield (
        "A step says what moved this model's output for this case against these rows. It is no cause: in the world, "
        f"another value need not bring another {'decision' if result.predicted is not None or result.chosen is not None else 'result'}."
    )


def _standing_said(standing: str) -> str:
    return f" ({standing})" if standing else ""


def _number(text: str) -> float | None:
    try:
        return float(text)
    except ValueError:
        return None


def of_examples(subject: Subject, so_far: Mapping[str, list[Any]], fewer: int | None) -> list[Asked]:
    """Rows worth showing, each with the reason."""
    return [
        ({"row": row}, f"{words.opening(subject.spec.wording.case_named(subject.editor.name_of(row)))}: {reason}")
        for row, reason in examples(subject)
    ]


METHOD = Method(
    name="ladder",
    area="cases",
    title="Ladder",
    settings=LadderSettings,
    result=LadderResult,
    compute=ladder_of,
    say=say,
    note=(
        "**Shapley values** (Shapley 1953) of the game in which v(S) is the mean output with the features in S taken "
        "from this case and the others from the rows of the context. Where the model is a sum on the scale that is "
        "read, as boosted trees and logistic regressions are in log-odds and forests in probability, the values are "
        "exact against these rows, and every row is held against the model's own output. Else, up to 12 features, "
        "every coalition is evaluated; otherwise pairs of feature orders, one the reverse of the other, are walked "
        "(Castro, Gómez & Tejada 2009) until the largest standard error is under 1% of the output's standard "
        "deviation; where the output is a link of a sum, as of boosted trees in probability, each feature's exact share "
        "of that sum steadies its estimate. The steps add up to the prediction less the baseline. A contribution says what moved this model's "
        "output for this case against these rows; not what would happen if the world changed."
    ),
    main="rungs",
    place=Place(
        "Example cases",
        of_examples,
        lambda result, spec: (
            f"Contributions from the baseline to the prediction of {spec.wording.case_named(result.name)}; to the "
            f"right raises the {kind_of(spec.task).raises}{spec.event_phrase}"
        ),
    ),
    version=6,
)
