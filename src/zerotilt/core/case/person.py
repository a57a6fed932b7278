"""One page for the person whom a case is about: what counted most, what could have been otherwise, what could not."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Literal

from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.ladder import LadderResult, LadderSettings, ladder_of
from zerotilt.core.counterfactuals.change import find_changes
from zerotilt.core.counterfactuals.change_result import ChangeSettings
from zerotilt.core.counterfactuals.nearest import Difference
from zerotilt.core.counterfactuals.wanted import Target
from zerotilt.core.frozen import Frozen, RowNumber
from zerotilt.core.meaning import Allowed, Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

WAYS = 3
"""Changes that are proposed on the page."""


class PersonSettings(Target):
    row: RowNumber
    shown: tuple[str, ...] = Field(
        default=(), max_length=100, description="Columns that make groups and that the page names all the same"
    )
    most: int = Field(default=6, ge=1, le=20, description="Facts that are listed")


class Counted(Frozen):
    """One fact of the case, and how far it moved the output."""

    feature: str
    value: str
    contribution: float


class Way(Frozen):
    """Values with which the model would have decided otherwise."""

    changed: tuple[Difference, ...]
    decision: str
    output: float


class PersonResult(Frozen):
    """Everything is in chances, or in the unit of a number; never in log-odds."""

    row: int
    name: str
    decision: str = Field(description="In the audit's words, or the class; of a number the prediction in its unit")
    favoured: bool | None = Field(description="Null where no decision is the favourable one")
    favoured_above: bool | None = Field(description="Whether the favourable decision lies at or over the threshold")
    decides: bool = Field(description="Whether something is decided; a number is only predicted")
    prediction: float
    threshold: float | None
    baseline: float = Field(description="Mean output over the rows of the context")
    scale: Literal["probability", "value"]
    event: str
    background: int
    background_rows: str
    counted: tuple[Counted, ...] = Field(description="Largest first")
    smaller: int = Field(description="Facts that are not listed because they counted less")
    smaller_sum: float
    unnamed: int = Field(description="Columns that make groups and that are not named; the model takes them")
    unnamed_sum: float
    error: float | None = Field(description="Largest standard error of what was sampled")
    ways: tuple[Way, ...]
    none: str = Field(description="Why no change is proposed; empty where some are")
    aim: str = Field(description="What the changes were to bring: otherwise, as a class, a range")
    held: tuple[str, ...] = Field(description="Named facts that count as not to be changed")
    limited: tuple[str, ...] = Field(description="Named facts that may change in one direction or within ends only")


def for_person(subject: Subject, settings: PersonSettings, seed: int, work: Work) -> PersonResult:
    """The case told to the person it is about.

    The steps are the ladder's and the changes those of *Otherwise*; both for the class that was decided, and as chances.

    Raises
    ------
    Refused : there is no such row, or a column that is to be named makes no groups.
    """
    makers = {one.name for one in subject.spec.columns if one.makes_groups}
    strange = [name for name in settings.shown if name not in makers]
    if strange:
        raise Refused(
            f"shown: “{strange[0]}” makes no groups in this audit; other columns are on the page anyway.",
            todo="Choose among the columns that make groups.",
        )
    case = subject.editor.case(settings.row)
    hidden = [name for name in case.names if name in makers and name not in settings.shown]
    read = replace(subject, context=subject.context.model_copy(update={"output": "probability"}), alike=subject)
    outputs = subject.model.outputs(case)
    decided = (
        int(subject.decisions.of(outputs, subject.decisions.cut_at(settings.row))[0]) if subject.kind.decides else 0
    )
    if subject.classes:
        read = read.of_class(subject.classes[decided])
    ladder = ladder_of(read, LadderSettings(row=settings.row), seed, work)
    limits = {one.feature: one for one in subject.spec.limits if one.feature in case.names}
    asked = bool(settings.wanted) or settings.at_least is not None or settings.at_most is not None
    # nobody needs to know how to be refused, and a number has no other decision
    idle = not asked and (ladder.favoured is True or not subject.kind.decides)
    ways, none, aim = ((), "", "") if idle else _ways(read, settings, hidden, seed, work)
    return PersonResult(
        row=settings.row,
        name=ladder.name,
        decision=subject.decisions.named(decided)
        if subject.kind.decides
        else words.quantity(ladder.prediction, subject.spec.wording.unit),
        favoured=ladder.favoured,
        favoured_above=None if ladder.favoured is None else ladder.favoured == ladder.predicted,
        decides=subject.kind.decides,
        prediction=ladder.prediction,
        threshold=ladder.threshold,
        baseline=ladder.baseline,
        scale="probability" if subject.kind.scaled else "value",
        event=ladder.event,
        background=ladder.background,
        background_rows=ladder.background_rows,
        **_counted(ladder, hidden, settings.most),
        ways=ways,
        none=none,
        aim=aim,
        held=tuple(name for name, one in limits.items() if one.change == "none" and name not in hidden),
        limited=tuple(
            name
            for name, one in limits.items()
            if one.change in ("up", "down") or one.low is not None or one.high is not None or one.levels
        ),
    )


def _counted(ladder: LadderResult, hidden: list[str], most: int) -> dict:
    """The largest steps that may be named, and what the others come to."""
    named = [one for one in ladder.rungs if one.feature not in hidden]
    counted = [one for one in named[:most] if one.contribution != 0]
    rest = [one for one in named[len(counted) :] if one.contribution != 0]
    kept_back = [one.contribution for one in ladder.rungs if one.feature in hidden]
    errors = [one.error for one in ladder.rungs if one.error is not None]
    return {
        "counted": tuple(
            Counted(feature=one.feature, value=one.value, contribution=one.contribution) for one in counted
        ),
        "smaller": len(rest),
        "smaller_sum": float(sum(one.contribution for one in rest)),
        "unnamed": len(kept_back),
        "unnamed_sum": float(sum(kept_back)),
        "error": max(errors) if errors else None,
    }


def _ways(
    subject: Subject, settings: PersonSettings, hidden: list[str], seed: int, work: Work
) -> tuple[tuple[Way, ...], str, str]:
    """Changes to propose, or why there are none; and what they were to bring."""
    frozen = {one.feature for one in subject.spec.limits if one.change == "none"} | set(hidden)
    if frozen >= set(subject.frame.names):
        return (), "Nothing in this case counts as something that can be changed, so no change is proposed.", ""
    asked = ChangeSettings(
        row=settings.row,
        wanted=settings.wanted,
        at_least=settings.at_least,
        at_most=settings.at_most,
        allowed=tuple(Allowed(feature=name, change="none") for name in hidden),
        found=WAYS,
    )
    found = find_changes(subject, asked, seed, work)
    ways = tuple(Way(changed=one.changed, decision=one.decision, output=one.output) for one in found.changes)
    return ways, "" if ways else "No small change of what can be changed was found that would do it.", found.aim


def about(result: PersonResult, wording: Wording) -> Iterator[str]:
    """What was decided, by what, and how near it was."""
    name, unit = words.opening(wording.case_named(result.name)), wording.unit
    here = words.on_scale(result.prediction, result.scale, unit)
    if not result.decides:
        yield f"For {wording.case_named(result.name)} a model gave {here} as the {result.event}."
    elif result.threshold is None:
        yield f"{name} was decided as {result.decision}. A model found this the likeliest, with a chance of {here}."
    else:
        yield f"The decision a model proposes for {wording.case_named(result.name)}: {result.decision}."
        above, below = (wording.favourable, wording.unfavourable)[:: 1 if result.favoured_above else -1]
        yield (
            f"It puts the chance that {result.event} at {here}. The limit is "
            f"{words.on_scale(result.threshold, result.scale, unit)}: at or above it, {above}; below it, {below}."
        )
    mean = words.on_scale(result.baseline, result.scale, unit)
    yield (
        f"On average over {words.count(result.background)} {wording.rows} the model gives "
        f"{mean}. The facts below moved this {wording.row} from there."
    )


def moved(one: Counted, result: PersonResult, wording: Wording) -> str:
    """What one fact did: "lowered the chance by 12.3 percentage points"."""
    verb = "raised" if one.contribution > 0 else "lowered"
    return f"{verb} {_thing(result)} by {_by(one.contribution, result, wording)}"


def others(result: PersonResult, wording: Wording) -> Iterator[str]:
    """What counted and is not listed."""
    if result.smaller:
        one = result.smaller == 1
        facts = "One other fact" if one else f"{words.count(result.smaller)} other facts"
        yield f"{facts} counted less; {'it' if one else 'together they'} {_together(result.smaller_sum, result, wording)}."
    if result.unnamed:
        facts = "One fact" if result.unnamed == 1 else f"{words.count(result.unnamed)} facts"
        yield (
            f"{facts} that tell{'s' if result.unnamed == 1 else ''} of a group of people {'is' if result.unnamed == 1 else 'are'} not named on this page; "
            f"{'it' if result.unnamed == 1 else 'together they'} {_together(result.unnamed_sum, result, wording)}."
        )


def way(one: Way, result: PersonResult, wording: Wording) -> str:
    """One change that would do."""
    parts = [
        f"{words.title(part.feature)} were {words.with_minus(part.there)} instead of {words.brief(part.here)}"
        for part in one.changed
    ]
    there = words.on_scale(one.output, result.scale, wording.unit)
    end = f"the model would give {there}" if not result.decides else f"the decision would be: {one.decision}"
    return f"If {words.listing(parts)}, {end}."


def kept(result: PersonResult, wording: Wording) -> Iterator[str]:
    """What could not be otherwise, and what none of it says."""
    if result.held:
        names = words.listing([words.title(name) for name in result.held])
        yield f"Not counted among what can be changed: {names}."
    if result.limited:
        names = words.listing([words.title(name) for name in result.limited])
        yield f"Changed only within limits: {names}."


def no_cause(result: PersonResult) -> str:
    return (
        "This page says how the model arrives at its result for these facts. It does not say why they are so, nor that "
        f"changing one of them now will change the {'decision' if result.decides else 'result'}."
    )


def _thing(result: PersonResult) -> str:
    return "the chance" if result.scale == "probability" else "the result"


def _by(value: float, result: PersonResult, wording: Wording) -> str:
    amount = words.difference(value, result.scale, wording.unit)
    return amount.replace("points", "percentage points") if result.scale == "probability" else amount


def _together(total: float, result: PersonResult, wording: Wording) -> str:
    if total == 0:
        return f"moved {_thing(result)} by nothing"
    return f"{'raised' if total > 0 else 'lowered'} {_thing(result)} by {_by(total, result, wording)}"


def sentences(result: PersonResult, wording: Wording) -> Iterator[str]:
    """The whole page, sentence by sentence, in its order."""
    yield from about(result, wording)
    for one in result.counted:
        yield f"{words.opening(words.title(one.feature))}, {one.value}, {moved(one, result, wording)}."
    if not result.counted:
        yield "No fact moved it."
    yield from others(result, wording)
    yield from (way(one, result, wording) for one in result.ways)
    if result.none:
        yield result.none
    yield from kept(result, wording)
    yield no_cause(result)


def say(result: PersonResult, wording: Wording, settings: PersonSettings) -> Reading:
    headline = f"For the person whom {wording.case_named(result.name)} is about: {result.decision}"
    if result.counted:
        first = result.counted[0]
        headline += f"; {words.title(first.feature)} ({first.value}) counted most"
    ways = words.plural(len(result.ways), "change") if result.ways else "no change"
    detail = f"The page proposes {ways}{', as the decision is the favourable one' if result.favoured and not result.ways else ''}."
    if result.unnamed:
        detail += f" {words.opening(words.plural(result.unnamed, 'column'))} that make{'s' if result.unnamed == 1 else ''} groups {'is' if result.unnamed == 1 else 'are'} taken by the model and not named on it."
    if result.error is not None:
        detail += f" The largest standard error of what a fact did is {words.difference(result.error, result.scale, wording.unit)}."
    return plain(f"{headline}.", detail, list(sentences(result, wording)))


METHOD = Method(
    name="person",
    area="cases",
    title="Page for the person",
    settings=PersonSettings,
    result=PersonResult,
    compute=for_person,
    say=say,
    note=(
        "The steps are those of the ladder, read as chances (of the class that was decided) or in the outcome's unit; "
        "the proposed changes are those of *Otherwise*, within the audit's limits. Columns that make groups are neither "
        "named nor proposed unless they are chosen; what they moved is said as a sum, so that nothing is kept back "
        "silently. Each proposed change has been asked of the model."
    ),
    main="counted",
    part="person",
    depends=frozenset({"spec", "changeable"}),
    unasked=lambda spec: None,
)
