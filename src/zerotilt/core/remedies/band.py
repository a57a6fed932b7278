"""A band around the threshold: its cases given to a person, or decided in favour of the group that is worse off."""

from __future__ import annotations

import numpy as np
from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.drawing import MOST_BARS, Picture
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.pockets.drawn import bars_of
from zerotilt.core.reading import Reading, Span
from zerotilt.core.refusal import Refused
from zerotilt.core.remedies.decided import Bools, Deciding, WayRates, points
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

WIDTHS = (0.0, 0.02, 0.04, 0.06, 0.08, 0.1, 0.12, 0.14, 0.16, 0.18, 0.2, 0.25, 0.3)


class BandSettings(Frozen):
    attribute: str = Field(default="", max_length=500, description="Column that makes the groups; the first when empty")
    width: float = Field(default=0.1, ge=0, le=0.5, description="How far from the threshold a score lies at most")


class BandStep(Frozen):
    """A width of the band."""

    width: float
    inside: float = Field(description="Share of rows in the band")
    turned: int = Field(description="Decisions that change where the band favours the group that is worse off")
    gap: Estimate = Field(description="Between groups, where the band favours the one that is worse off")
    wrong: Estimate = Field(description="Share decided otherwise than the outcome, then")
    gap_outside: Estimate = Field(description="Between groups, of what is still decided by the model")
    wrong_outside: Estimate


class BandGroup(Frozen):
    group: str
    rows: int
    inside: float = Field(description="Share of its rows in the band")
    before: WayRates
    favouring: WayRates = Field(description="Where the band favours the group that is worse off")
    outside: WayRates = Field(description="What is still decided by the model, where a person has the band")


class BandResult(Frozen):
    attribute: str
    worse_off: str
    compared: str
    threshold: float
    width: float
    gap: Estimate = Field(description="As it is decided now")
    chosen: BandStep
    steps: tuple[BandStep, ...]
    groups: tuple[BandGroup, ...]
    rows: int
    rows_named: str
    confidence: float


def band(subject: Subject, settings: BandSettings, seed: int, work: Work) -> BandResult:
    """Reject option (Kamiran, Karim & Zhang 2012): near the threshold a model is least sure, and there alone decisions change.

    Raises
    ------
    Refused : nothing is scored, or as :meth:`Deciding.of` says.
    """
    told = Deciding.of(subject, settings.attribute)
    scores = subject.predictions.scores
    if scores is None:
        raise Refused(
            "Only decisions were recorded, and a band is of scores.", todo="Bring the scores as a column, or the model."
        )
    off = np.abs(scores - subject.decisions.cuts)
    widths = sorted({*WIDTHS, settings.width})
    work.begin(len(widths), "widths tried")
    steps = []
    for width in widths:
        steps.append(_step(told, off, width))
        work.advance(1)
    chosen = next(one for one in steps if one.width == settings.width)
    inside = _inside(off, settings.width)
    favouring, everyone = _favouring(told, inside), np.ones(len(off), bool)
    groups = []
    for place, label in enumerate(told.grouping.labels):
        mine = told.grouping.mask(place)
        if (mine & (told.mass > 0)).any():
            groups.append(
                BandGroup(
                    group=label,
                    rows=int((mine & (told.mass > 0)).sum()),
                    inside=float(np.average(inside[mine], weights=told.mass[mine])),
                    before=told.rates(told.favoured, mine),
                    favouring=told.rates(favouring, mine),
                    outside=told.rates(told.favoured, mine & ~inside),
                )
            )
    worse, better = told.names
    return BandResult(
        attribute=told.grouping.attribute,
        worse_off=worse,
        compared=better,
        threshold=float(subject.decisions.cut),
        width=settings.width,
        gap=told.gap(told.favoured, everyone),
        chosen=chosen,
        steps=tuple(steps),
        groups=tuple(groups),
        rows=subject.n,
        rows_named=subject.context.rows,
        confidence=told.confidence,
    )


def _inside(off: np.ndarray, width: float) -> Bools:
    return off <= width if width else np.zeros(len(off), bool)


def _favouring(told: Deciding, inside: Bools) -> Bools:
    """In the band the group that is worse off gets the favourable decision, and all others the other one."""
    return np.where(inside, told.grouping.mask(told.worse), told.favoured)


def _step(told: Deciding, off: np.ndarray, width: float) -> BandStep:
    inside = _inside(off, width)
    favouring, everyone = _favouring(told, inside), np.ones(len(off), bool)
    return BandStep(
        width=width,
        inside=float(np.average(inside, weights=told.mass)) if told.mass.any() else 0.0,
        turned=int((favouring != told.favoured)[told.mass > 0].sum()),
        gap=told.gap(favouring, everyone),
        wrong=told.rates(favouring, everyone).wrong,
        gap_outside=told.gap(told.favoured, ~inside),
        wrong_outside=told.rates(told.favoured, ~inside).wrong,
    )


def say(result: BandResult, wording: Wording, settings: BandSettings) -> Reading:
    of = row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)
    name, one = words.title(result.attribute), result.chosen
    head = (
        f"{words.percent(one.inside)} of {of} have a score within {words.decimal(result.width, 2)} of the threshold. Decided there "
        f"in favour of {name} {result.worse_off}, the gap to {result.compared} in the selection rate goes from "
        f"{points(result.gap)} to {points(one.gap)}."
    )
    if result.worse_off == result.compared:
        head = f"{words.opening(of)} are of one {name} only; there is no gap that a band could lessen."
    paid = _wrong(result, wording)
    detail = (
        f"{words.opening(words.plural(one.turned, 'decision'))} {'changes' if one.turned == 1 else 'change'}. Given to a person "
        f"instead, what the model still decides has a gap of {points(one.gap_outside)}; what the person decides nobody knows yet."
    )
    smallest = min(
        (step for step in result.steps if step.gap.value is not None),
        key=lambda step: abs(step.gap.value or 0.0),
        default=None,
    )
    if smallest is not None and smallest.width != result.width:
        detail += f" The gap is smallest at {words.decimal(smallest.width, 2)}: {points(smallest.gap)}."
    return Reading(headline=(Span(text=head), Span(text=paid)), detail=detail)


def _wrong(result: BandResult, wording: Wording) -> str:
    plain = result.steps[0].wrong.value
    now = result.chosen.wrong.value
    if plain is None or now is None or result.worse_off == result.compared:
        return ""
    how = "stays" if words.percent(plain) == words.percent(now) else "falls" if now < plain else "rises"
    end = "" if how == "stays" else f" to {words.percent(now)}"
    return f" The share decided otherwise than the outcome {how}{' at' if how == 'stays' else ' from'} {words.percent(plain)}{end}."


def picture(result: BandResult, spec: Spec) -> Picture | None:
    """The gap at every width, where the band favours the group that is worse off."""
    shown = [(f"within {words.decimal(one.width, 2)}", one.gap) for one in result.steps]
    return bars_of(shown[:MOST_BARS], "gap between groups")


METHOD = Method(
    name="band",
    area="remedies",
    title="A band around the threshold",
    settings=BandSettings,
    result=BandResult,
    compute=band,
    say=say,
    note=(
        "Scores near the threshold are those that the model is least sure of. **Decided in favour** (reject option; Kamiran, "
        "Karim & Zhang 2012): within the band the group that is worse off gets the favourable decision and all others the "
        "other one, whatever their scores. **Given to a person**: the band is taken out, and what the model still decides is "
        "read alone. The gap is the worse-off group's share of favourable decisions less the other's, with the score test's "
        "interval (Mee 1984); which group that is was read from the same rows.\n\n"
        "It takes for granted that near the threshold cases hardly differ, and that the group is known when it is decided. It "
        "hurts those of other groups who lie just above the threshold, and it lets two people with the same score be decided "
        "apart by their group alone, which the law forbids in many places. Given to a person, the gap that is left depends on how "
        "that person decides, and on whether the person sees the score."
    ),
    main="steps",
    part="band",
    needs=frozenset({"predictions"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    picture=picture,
)
