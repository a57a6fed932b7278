"""Ranked features in sentences."""

from __future__ import annotations

from zerotilt.core import words
from zerotilt.core.drivers.losses import LOSS_LABELS
from zerotilt.core.drivers.ranking_result import (
    Driver,
    DriversResult,
    DriversSettings,
)
from zerotilt.core.meaning import Wording
from zerotilt.core.reading import Reading, Span
from zerotilt.core.rows import called


def say(result: DriversResult, wording: Wording, settings: DriversSettings) -> Reading:
    used = [driver for driver in result.drivers if driver.loss_depends]
    if not used:
        return Reading(
            headline=(
                Span(
                    text=f"The {LOSS_LABELS[result.loss]} depends on no feature beyond chance: every interval includes zero."
                ),
                *_carried(result),
            ),
            detail=_method(result),
        )
    top = used[:3]
    names = words.listing([words.title(driver.feature) for driver in top])
    share = sum(driver.share or 0 for driver in top)
    first = top[0]
    of = f" of {result.of_class} against the rest" if result.of_class else ""
    value, low, high = words.measured(*first.permutation.model_dump().values())
    headline = (
        f"{words.opening(names)} {'carries' if len(top) == 1 else 'carry'} {share:.0%} of the importance. "
        f"Shuffling {words.title(first.feature)} adds {value} to the {LOSS_LABELS[result.loss]}{of} "
        f"({words.level(result.confidence)} interval {low} to {high})."
    )
    spans = [Span(text=headline), *_carried(result), *_compared(result, wording)]
    unused = len(result.drivers) - len(used)
    detail = _method(result)
    if unused:
        moving = [d for d in result.drivers if not d.loss_depends and _moves(d)]
        detail += f" On {words.plural(unused, 'feature')} the loss is not seen to depend"
        detail += (
            f", though {words.listing([words.title(d.feature) for d in moving[:3]])}"
            f"{' and others' if len(moving) > 3 else ''} {'moves' if len(moving) == 1 else 'move'} the output."
            if moving
            else "."
        )
    if result.linked:
        sets = [words.listing([words.title(name) for name in one.features]) for one in result.linked[:3]]
        detail += (
            f" Linked columns share one effect: {'; '.join(sets)}{'; and others' if len(result.linked) > 3 else ''}."
        )
    return Reading(headline=tuple(spans), detail=detail)


def _moves(driver: Driver) -> bool:
    """Whether the output moves with a feature, by more than a rounding error."""
    return driver.mean_abs_shapley.low > 0 and driver.mean_abs_shapley.value > 1e-9


def _carried(result: DriversResult) -> list[Span]:
    """The warning that one feature carries the model."""
    one = result.dominant
    if one is None:
        return []
    left = one.spread_without / one.spread if one.spread else 0.0
    return [
        Span(
            text=f" {words.opening(words.title(one.feature))} alone carries {one.share:.0%}: averaged out, {left:.0%} of the "
            "output's spread is left.",
            flagged=True,
        )
    ]


def _compared(result: DriversResult, wording: Wording) -> list[Span]:
    """What the ranking alongside adds; a feature that matters only in training rows is flagged."""
    beside = result.beside
    if beside is None:
        return []
    here, there = ("this version", "the version alongside")
    if not beside.other_model:
        here = called(result.rows_named, wording.rows, result.segment_named)
        there = called(beside.rows_named, wording.rows, beside.segment_named)
    spans = []
    for names, where, other, rows in (
        (beside.only_here_used, here, there, result.rows_named),
        (beside.only_there_used, there, here, beside.rows_named),
    ):
        if names:
            listed = words.listing([words.title(name) for name in names[:4]])
            text = f" {words.opening(listed)} {'matters' if len(names) == 1 else 'matter'} in {where} only, not in {other}."
            spans.append(Span(text=text, flagged=rows == "training" and not beside.other_model))
    if beside.only_there:
        listed = words.listing([words.title(name) for name in beside.only_there[:3]])
        spans.append(Span(text=f" Only the version alongside takes {listed}."))
    if not spans:
        overlap = f"{beside.agreement.overlap:.0%} of the first {beside.agreement.k} features are the same in {here} and in {there}."
        spans.append(Span(text=f" {words.opening(overlap)}"))
    return spans


def _method(result: DriversResult) -> str:
    rows = f"{words.count(result.rows_scored)} rows"
    if result.rows_scored < result.rows:
        rows = f"{words.count(result.rows_scored)} of {words.count(result.rows)} rows"
    whole, count = result.every_pair, len(result.drivers)
    how = (
        f"All pairs of {rows}"
        if whole == count
        else f"{result.repeats} shuffles on {rows}"
        + (f" (all pairs of rows for {words.plural(whole, 'feature')})" if whole else "")
    )
    return f"{how}; contributions of {words.plural(result.explained, 'row')}."
