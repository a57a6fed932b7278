"""What a remedy did: each candidate with one beside the same candidate without, on the same folds."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.candidates.compared import better, by_fold, gaps_of, rows_of
from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.validated import FoldMeasured, Validated
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.metrics import metric_named, phrase
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.stats.folds import over_folds, told_apart
from zerotilt.core.stats.intervals import Interval, adjust
from zerotilt.core.steps.every import REMEDIES

Gap = tuple[str, str, str, str]
"""Metric, column, group and reference."""
WATCHED = ("accuracy", "positive_predictive_value", "true_positive_rate", "auc", "log_loss", "mae")
"""Metrics whose loss is said, whichever is looked at."""
Verdict = Literal["smaller", "larger", "turned round", "not told apart", "too few"]


class RemediedGroup(Frozen):
    """What one group was taught as, and what is decided about it, without the remedy and with it."""

    group: str
    rows: int
    recorded: float | None = Field(description="Share of events as recorded")
    learnt: float | None = Field(description="Share of events in what was learnt from")
    selected_without: float | None = Field(description="Selection rate, mean over folds")
    selected: float | None


class Paid(Frozen):
    """What got worse beyond chance: a metric of all rows, or the accuracy or error of one group."""

    metric: str
    group: str = Field(description="Of the column of the gap; all rows when empty")
    change: Estimate


class Remedied(Frozen):
    """One candidate with remedies, and the same without."""

    name: str
    without: str
    remedy: str = Field(description="What was done, in words")
    gap: Estimate = Field(description="Of the group less the reference")
    gap_without: Estimate
    change: Estimate = Field(
        description="How far the gap grows in its own direction, on the same folds; less than zero is towards none, and beyond"
    )
    price: Estimate = Field(description="The metric less what it was without")
    p: float | None
    verdict: Verdict
    groups: tuple[RemediedGroup, ...] = Field(description="Labels and decisions before and after, of the gap's column")
    paid: tuple[Paid, ...]


def remedies_of(
    candidates: Sequence[tuple[str, Recipe, Validated]],
    metric: str,
    gap: Gap | None,
    confidence: float,
    alpha: float,
    minimum_rows: int = 0,
) -> tuple[Remedied, ...]:
    """Every candidate with remedies whose plain sibling was validated on the same folds; the worst first."""
    if gap is None:
        return ()
    found = list(_found(candidates, metric, gap, confidence, alpha, minimum_rows))
    order = ["larger", "turned round", "not told apart", "smaller", "too few"]
    return tuple(sorted(found, key=lambda one: order.index(one.verdict)))


def sibling_of(recipe: Recipe, every: Mapping[Recipe, str]) -> str | None:
    """The candidate that is the same without its remedies, or with as few of them as there is one: of the same seed, or else
    of any."""

    def fits(one: Recipe) -> bool:
        told = [(one.of(name), recipe.of(name), remedy.nothing) for name, remedy in REMEDIES.items()]
        fewer = all(here in (there, usual) for here, there, usual in told) and any(
            here != there for here, there, _ in told
        )
        return fewer and one.plain.model_copy(update={"seed": recipe.seed}) == recipe.plain

    found = [(len(one.remedies), one.seed != recipe.seed, name) for one, name in every.items() if fits(one)]
    return min(found, default=(0, False, None))[2]


def _found(candidates, metric: str, gap: Gap, confidence: float, alpha: float, minimum: int) -> Iterator[Remedied]:
    worth = {name: validated for name, _, validated in candidates}
    every = {recipe: name for name, recipe, _ in candidates}
    for name, recipe, validated in candidates:
        if not recipe.remedies or (without := sibling_of(recipe, every)) is None:
            continue
        other = worth[without]
        before = next(one for one, called in every.items() if called == without).remedies
        sizes = np.array([fold.rows for fold in validated.folds], float)
        here, there = gaps_of(validated.folds, gap), gaps_of(other.folds, gap)
        both = np.isfinite(here) & np.isfinite(there)
        here, there = np.where(both, here, np.nan), np.where(both, there, np.nan)
        spans = over_folds(here, sizes, confidence), over_folds(there, sizes, confidence)
        change, p = told_apart(_direction(*spans) * (here - there), sizes, confidence)
        price = by_fold(validated.folds, metric, False) - by_fold(other.folds, metric, False)
        few = rows_of(validated.folds, gap) < minimum
        yield Remedied(
            name=name,
            without=without,
            remedy="; ".join(one for one in recipe.remedies if one not in before),
            gap=_told(spans[0]),
            gap_without=_told(spans[1]),
            change=_told(change),
            price=_told(over_folds(price, sizes, confidence)),
            p=p,
            verdict="too few" if few else _verdict(spans, change, p, alpha),
            groups=tuple(_groups(validated, other, gap[1])),
            paid=tuple(_paid(validated.folds, other.folds, gap[1], sizes, confidence, alpha, minimum)),
        )


def _apart(span: Interval) -> bool:
    """Whether the interval of a gap leaves out zero."""
    low, high = float(span.low), float(span.high)
    return low > 0 or high < 0


def _direction(here: Interval, there: Interval) -> float:
    """The sign of the gap that there was; where none was told, of the one that there is.

    Sizes would be larger the noisier folds are, and a mean of them with it: a gap that goes is told by signed means.
    """
    first = there if _apart(there) or not _apart(here) else here
    return -1.0 if float(first.value) < 0 else 1.0


def _verdict(spans: tuple[Interval, Interval], change: Interval, p: float | None, alpha: float) -> Verdict:
    if p is None or p > alpha:
        return "not told apart"
    here, there = spans
    if _apart(here) and _apart(there) and float(here.value) * float(there.value) < 0:
        return "turned round"
    return "smaller" if float(change.value) < 0 else "larger"


def _groups(here: Validated, there: Validated, column: str) -> Iterator[RemediedGroup]:
    learnt = {one.group: one for one in here.learnt if one.attribute == column}
    names = dict.fromkeys(one.group for fold in here.folds for one in fold.groups if one.attribute == column)
    for name in names:
        of = learnt.get(name)
        yield RemediedGroup(
            group=name,
            rows=sum(
                one.rows for fold in here.folds for one in fold.groups if (one.attribute, one.group) == (column, name)
            ),
            recorded=of.events / of.rows if of else None,
            learnt=of.drawn_events / of.drawn if of and of.drawn else None,
            selected_without=_mean(there, column, name, "selection_rate"),
            selected=_mean(here, column, name, "selection_rate"),
        )


def of_group(folds: Sequence[FoldMeasured], column: str, group: str, metric: str) -> NDArray[np.float64]:
    """A group's metric in each fold, NaN where it is not defined."""
    found = [
        next((one.values.get(metric) for one in fold.groups if (one.attribute, one.group) == (column, group)), None)
        for fold in folds
    ]
    return np.array([np.nan if one is None else one for one in found])


def _mean(of: Validated, column: str, group: str, metric: str) -> float | None:
    found = of_group(of.folds, column, group, metric)
    return float(np.nanmean(found)) if np.isfinite(found).any() else None


def _paid(here, there, column: str, sizes, confidence: float, alpha: float, minimum: int) -> Iterator[Paid]:
    """What is worse beyond chance, adjusted for how much is looked at (Benjamini & Hochberg 1995)."""
    tries: list[tuple[str, str, NDArray[np.float64]]] = [
        (metric, "", by_fold(here, metric, False) - by_fold(there, metric, False)) for metric in WATCHED
    ]
    groups = dict.fromkeys(one.group for fold in here for one in fold.groups if one.attribute == column)
    for group in groups:
        if (
            sum(one.rows for fold in here for one in fold.groups if (one.attribute, one.group) == (column, group))
            < minimum
        ):
            continue
        for metric in ("accuracy", "mae"):
            tries.append(
                (metric, group, of_group(here, column, group, metric) - of_group(there, column, group, metric))
            )
    told = [told_apart(one, sizes, confidence) for *_, one in tries]
    adjusted = adjust([np.nan if p is None else p for _, p in told])
    for (metric, group, _), (span, _), p in zip(tries, told, adjusted, strict=True):
        if p <= alpha and better(metric, float(span.value)) < 0:
            yield Paid(metric=metric, group=group, change=_told(span))


def say(found: Sequence[Remedied], metric: str, gap: Gap) -> tuple[str, ...]:
    """A sentence or more for each, one that made it worse first."""
    of = f"the gap of {words.title(gap[1])} {gap[2]} to {gap[3]} in the {phrase(gap[0])}"
    return tuple(_sentence(one, metric, of, gap) for one in found)


def _sentence(one: Remedied, metric: str, of: str, gap: Gap) -> str:
    head = f"{words.opening(one.name)}, {one.remedy}"
    if one.verdict == "too few":
        return f"{head}: there are too few rows of {gap[2]} or {gap[3]} to tell what that did to {of}."
    if one.gap.value is None or one.gap_without.value is None:
        return f"{head}: {of} is defined in too few folds to tell what that did."
    verdict = {
        "smaller": "It is smaller",
        "larger": "It is larger",
        "turned round": "It has turned round",
        "not told apart": "That is not told apart from no change",
    }[one.verdict]
    moves = "it moves" if one.verdict == "turned round" else "its size changes"
    return (
        f"{head}: {of} is {_signed(one.gap.value, gap[0])}, {_signed(one.gap_without.value, gap[0])} without. {verdict}: "
        f"{moves} by {_spanned(one.change, gap[0])}, and the {phrase(metric)} by {_spanned(one.price, metric)}."
        f"{_ratios(one, gap)}{_losses(one, gap[1])}"
    )


def _ratios(one: Remedied, gap: Gap) -> str:
    """What the group's share is of the reference's, in labels and decisions, before and after."""
    told = {group.group: group for group in one.groups}
    here, there = told.get(gap[2]), told.get(gap[3])
    if here is None or there is None:
        return ""
    pairs = [
        (_ratio(getattr(here, before), getattr(there, before)), _ratio(getattr(here, after), getattr(there, after)))
        for before, after in (("recorded", "learnt"), ("selected_without", "selected"))
    ]
    said = [
        f"in {what} it {_moved(*pair)}"
        for what, pair in zip(("the labels that it learnt from", "decisions"), pairs, strict=True)
        if pair[0] is not None and pair[1] is not None
    ]
    return f" The ratio of {gap[2]} to {gap[3]}: {words.listing(said)}." if said else ""


def _ratio(here: float | None, there: float | None) -> float | None:
    return here / there if here is not None and there else None


def _moved(before: float, after: float) -> str:
    a, b = words.ratio(before), words.ratio(after)
    return f"stays {a}" if a == b else f"{'rose' if after > before else 'fell'} from {a} to {b}"


def _losses(one: Remedied, column: str) -> str:
    if not one.paid:
        return ""
    said = [
        f"the {phrase(paid.metric)}{f' of {words.title(column)} {paid.group}' if paid.group else ''} by "
        f"{_spanned(paid.change, paid.metric)}"
        for paid in one.paid
    ]
    return f" Worse beyond chance: {words.listing(said)}."


def _spanned(one: Estimate, metric: str) -> str:
    if one.value is None:
        return "an amount that cannot be told"
    if one.low is None or one.high is None:
        return f"{_signed(one.value, metric)} (how far that is chance cannot be told)"
    if metric_named(metric).kind == "rate":
        return words.points_span(one.value, one.low, one.high)
    return f"{_signed(one.value, metric)} ({_signed(one.low, metric)} to {_signed(one.high, metric)})"


def _signed(value: float, metric: str) -> str:
    """A difference with its sign; of rates in points."""
    return words.signed_points(value) if metric_named(metric).kind == "rate" else words.signed_decimal(value)


def _told(span: Interval) -> Estimate:
    return estimate(*(float(one) for one in span))
