"""What a remedy did: each candidate with one beside the same candidate without, on the same folds."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.candidates.compared import by_fold, gaps_of
from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.validated import Validated
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.metrics import metric_named, phrase
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.stats.folds import over_folds, told_apart
from zerotilt.core.stats.intervals import Interval

Gap = tuple[str, str, str, str]
"""Metric, column, group and reference."""


class Remedied(Frozen):
    """One candidate with a remedy, and the same without."""

    name: str
    without: str
    remedy: str = Field(description="What was done, in words")
    gap: Estimate = Field(description="Of the group less the reference")
    gap_without: Estimate
    change: Estimate = Field(description="The size of the gap less its size without, on the same folds")
    price: Estimate = Field(description="The metric less what it was without")
    p: float | None
    verdict: Literal["smaller", "larger", "turned round", "not told apart"]


def remedies_of(
    candidates: Sequence[tuple[str, Recipe, Validated]], metric: str, gap: Gap | None, confidence: float, alpha: float
) -> tuple[Remedied, ...]:
    """Every candidate with a remedy whose plain sibling was validated on the same folds; the worst first."""
    if gap is None:
        return ()
    found = list(_found(candidates, metric, gap, confidence, alpha))
    order = ["larger", "turned round", "not told apart", "smaller"]
    return tuple(sorted(found, key=lambda one: order.index(one.verdict)))


def _found(candidates, metric: str, gap: Gap, confidence: float, alpha: float) -> Iterator[Remedied]:
    plain = {recipe: (name, validated) for name, recipe, validated in candidates if not recipe.reweigh}
    for name, recipe, validated in candidates:
        sibling = plain.get(recipe.model_copy(update={"reweigh": ""}))
        if not recipe.reweigh or sibling is None:
            continue
        sizes = np.array([fold.rows for fold in validated.folds], float)
        here, there = gaps_of(validated.folds, gap), gaps_of(sibling[1].folds, gap)
        spans = over_folds(here, sizes, confidence), over_folds(there, sizes, confidence)
        change, p = told_apart(np.abs(here) - np.abs(there), sizes, confidence)
        price = by_fold(validated.folds, metric, False) - by_fold(sibling[1].folds, metric, False)
        yield Remedied(
            name=name,
            without=sibling[0],
            remedy=f"rows weighed so that {words.title(recipe.reweigh)} and the outcome are independent",
            gap=_told(spans[0]),
            gap_without=_told(spans[1]),
            change=_told(change),
            price=_told(over_folds(price, sizes, confidence)),
            p=p,
            verdict=_verdict(spans, change, p, alpha),
        )


def _verdict(spans, change: Interval, p: float | None, alpha: float):
    here, there = (float(one.value) for one in spans)
    if here * there < 0 and not float(spans[0].low) <= 0 <= float(spans[0].high):
        return "turned round"
    if p is None or p > alpha:
        return "not told apart"
    return "smaller" if float(change.value) < 0 else "larger"


def say(found: Sequence[Remedied], metric: str, gap: Gap) -> tuple[str, ...]:
    """A sentence for each, one that made it worse first."""
    of = f"the gap of {words.title(gap[1])} {gap[2]} to {gap[3]} in the {phrase(gap[0])}"
    return tuple(_sentence(one, metric, of, gap[0]) for one in found)


def _sentence(one: Remedied, metric: str, of: str, gap: str) -> str:
    head = f"{words.opening(one.name)}, {one.remedy}"
    if one.gap.value is None or one.gap_without.value is None:
        return f"{head}: {of} is defined in too few folds to tell what that did."
    verdict = {
        "smaller": "It is smaller",
        "larger": "It is larger",
        "turned round": "It has turned round",
        "not told apart": "That is not told apart from no change",
    }[one.verdict]
    return (
        f"{head}: {of} is {_signed(one.gap.value, gap)}, {_signed(one.gap_without.value, gap)} without. {verdict}: its size "
        f"changes by {_spanned(one.change, gap)}, and the {phrase(metric)} by {_spanned(one.price, metric)}."
    )


def _spanned(one: Estimate, metric: str) -> str:
    if one.value is None or one.low is None or one.high is None:
        return "an amount that cannot be told"
    return f"{_signed(one.value, metric)} ({_signed(one.low, metric)} to {_signed(one.high, metric)})"


def _signed(value: float, metric: str) -> str:
    """A difference with its sign; of rates in points."""
    text = f"{value * 100:+.1f} points" if metric_named(metric).kind == "rate" else f"{value:+.3f}"
    return text.replace("-", "−")


def _told(span: Interval) -> Estimate:
    return estimate(*(float(one) for one in span))
