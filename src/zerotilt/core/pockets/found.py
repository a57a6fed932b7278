"""Pockets: places described by few conditions where the error is denser, each confirmed on rows it was not searched in."""

from __future__ import annotations

from math import ceil

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import rows as row_sets
from zerotilt.core import segments
from zerotilt.core.drawing import MOST_BARS, Picture
from zerotilt.core.meaning import Block, Segment, Spec
from zerotilt.core.method import Method, Place
from zerotilt.core.pockets import cells
from zerotilt.core.pockets.confirmed import gap_of
from zerotilt.core.pockets.drawn import bars_of
from zerotilt.core.pockets.errors import Errors, compared, errors_of, offered
from zerotilt.core.pockets.halvings import OF_HALVINGS, PlaceFound, places
from zerotilt.core.pockets.hunt import Hunt, hunt, least_rows, sampled
from zerotilt.core.pockets.partition import parted
from zerotilt.core.pockets.result import (
    Pocket,
    PocketsResult,
    PocketsSettings,
    PocketStatus,
)
from zerotilt.core.pockets.said import NOTE, before, measured, say, weaknesses
from zerotilt.core.pockets.standing import beside, like, outcome_of, place_before, value_of
from zerotilt.core.stats import distributions
from zerotilt.core.subject import Subject
from zerotilt.core.typed_conditions import written
from zerotilt.core.work import Work

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
TOLD = 0.1
"""Share of a pocket's rows from which on it is said that another holds them, too."""
QUARTER, LEAST_TIMES = 0.25, 1.05


def search(subject: Subject, settings: PocketsSettings, seed: int, work: Work) -> PocketsResult:
    """Pockets of one error in the rows of a context.

    Raises
    ------
    Refused : the error cannot be read of these rows, or a column is asked for that rows cannot be told apart by.
    """
    errors = errors_of(subject, settings.error, settings.truth, settings.taken)
    every = errors.m
    errors = sampled(errors, settings.rows, seed)
    columns = cells.columns_of(subject, settings.columns)
    outcome, balance_of = outcome_of(subject, errors)
    made = hunt(
        subject, errors, columns, settings.deep, settings.most, settings.halvings, settings.least, settings.times, seed
    )
    policy = subject.spec.policy
    least = settings.least or least_rows(subject, errors)
    common = {
        "error": errors.name,
        "called": errors.called,
        "unit": errors.unit,
        "signed": errors.signed,
        "within": _within(errors, settings.times),
        "besides": tuple(place_before(subject, errors, outcome, one, seed) for one in settings.besides),
        "errors": offered(subject),
        "balance_of": balance_of,
        "balance_mean": not balance_of,
        "searchable": cells.searchable(subject),
        "columns": columns,
        "deep": min(settings.deep, max(len(columns), 1)),
        "halvings": settings.halvings,
        "least": least,
        "rows": every,
        "rows_read": errors.m,
        "sampled": settings.rows if errors.m < every else None,
        "rows_named": subject.context.rows,
        "confidence": policy.confidence,
        "minimum_rows": policy.minimum_rows,
        "beside": None if subject.beside is None else _alongside(subject),
        "seen_as": _seen_as(errors, settings.times),
    }
    if made is None or made.flat:
        why = _why_not(errors, columns, least)
        value = value_of(errors, policy.confidence)
        return PocketsResult(
            **common, pockets=(), parts=(), value=value, deepest=len(columns), tried=0, looked_at=0, seen_from=None,
            rows_searched=0, rows_confirming=errors.m, notes=(why,),
        )  # fmt: skip
    sets, boxes, kept = made.boxes(work)
    source = _source(subject, made)
    found = places(made, sets, boxes, policy.minimum_rows, work)
    shown = _shown(found, settings.halvings, policy.alpha, settings.most)
    judged = ~made.half(0)
    return PocketsResult(
        **common,
        pockets=tuple(_read(subject, made, shown, outcome, source)),
        parts=parted(made, outcome, source, policy.minimum_rows, policy.confidence),
        value=value_of(errors.among(judged), policy.confidence),
        deepest=len(kept),
        tried=made.grid.boxes(sets),
        looked_at=len(found),
        seen_from=_seen_from(
            made, _weakest(made, [one.block for one in found if one.halving == 0]), settings, policy.alpha
        ),
        rows_searched=int((~judged).sum()),
        rows_confirming=int(judged.sum()),
        notes=tuple(_notes(made, columns, kept, settings)),
    )


def _within(errors: Errors, times: float) -> tuple[float, float]:
    """As dense as the rest: up to so many times as much, or a quarter of a standard deviation off."""
    if errors.signed:
        spread = QUARTER * float(
            np.sqrt(
                np.average((errors.values - np.average(errors.values, weights=errors.mass)) ** 2, weights=errors.mass)
            )
        )
        return -spread, spread
    return 1 / max(times, LEAST_TIMES), max(times, LEAST_TIMES)


def _alongside(subject: Subject) -> str:
    other = subject.second
    return "another version of the model" if compared(subject) else row_sets.NAMES.get(other.context.rows, "other rows")


def _seen_as(errors: Errors, times: float) -> str:
    if errors.signed:
        return "half a standard deviation worse than elsewhere"
    return f"{max(2.0, times):g} times as high as elsewhere"


def _why_not(errors: Errors, columns: tuple[str, ...], least: int) -> str:
    if errors.m < 2 * least:
        return f"The {errors.m:,} rows that it can be read of are too few to search one half and confirm in the other: a pocket holds {least:,} at least."
    if not np.ptp(errors.values) > 0:
        if errors.rate:
            return "No row is wrong in this way." if errors.values[0] == 0 else "Every row is wrong in this way."
        return "It is the same in all rows."
    return "No column tells the rows apart." if columns else "No column was chosen that rows can be told apart by."


def _source(subject: Subject, made: Hunt) -> str:
    rows = subject.spec.wording.rows
    some = f"all {rows}" if subject.context.rows == "all" else f"the {row_sets.NAMES[subject.context.rows]} {rows}"
    return f"searched in half of {some}, where the {made.errors.called} is denser"[:400]


def _read(subject: Subject, made: Hunt, shown: list[PlaceFound], outcome: Floats, source: str) -> list[Pocket]:
    """Every place with its figures of the half in which it was not searched."""
    policy = subject.spec.policy
    many = len(made.halves)
    masks = [made.searched.inside(one.block) for one in shown]
    found: list[Pocket] = []
    for place, mask in zip(shown, masks, strict=True):
        half = made.half(place.halving)
        said = ", ".join(segments.said(one) for one in place.block)
        here = gap_of(made.errors.among(half), mask[half], outcome[half], policy.confidence)
        adjusted = place.adjusted(many)
        status: PocketStatus = "confirmed" if adjusted <= policy.alpha else "not confirmed" if place.p else "too few"
        found.append(
            Pocket(
                segment=Segment(
                    name=said if len(said) <= 120 else f"{said[:119]}…", conditions=place.block, source=source
                ),
                described=said,
                typed=written((place.block,)),
                status=status,
                gap=gap_of(made.errors.among(~half), mask[~half], outcome[~half], policy.confidence),
                searched=here.inside,
                searched_outside=here.outside.value,
                halving=place.halving,
                rows=int(mask.sum()),
                share_of_rows=float(mask.mean()),
                p_adjusted=adjusted if place.p else None,
                again=place.again(many, policy.alpha),
                overlapping=tuple(
                    before.described
                    for before, other in zip(found, masks, strict=False)
                    if (mask & other).sum() >= TOLD * mask.sum()
                ),
                like=like(subject, made, place.block, mask),
                beside=beside(subject, made, place.block, ~half, mask[~half], outcome)
                if subject.beside is not None
                else None,
            )
        )
    return found


def _shown(found: list[PlaceFound], halvings: int, alpha: float, most: int) -> list[PlaceFound]:
    """All that are confirmed, surest first; then, up to ``most`` in all, those that were found most often. What the other
    halves say of these has no part in the choice, or their intervals would hold less than they say."""
    sure = [one for one in found if one.adjusted(halvings) <= alpha]
    sure.sort(key=lambda one: (one.adjusted(halvings), -one.again(halvings, alpha), one.halving))
    others = [one for one in found if one.adjusted(halvings) > alpha]
    others.sort(key=lambda one: (-len(one.told), one.halving))
    return [*sure, *others[: max(most - len(sure), 0)]]


def _weakest(made: Hunt, blocks: list[Block]) -> float:
    """The squared score, less its price, that was enough to be looked at closely."""
    if len(blocks) < made.most:
        return 0.0
    half = made.half(0)
    moved = made.moved[half]
    moved = moved - moved.mean()
    side = made.searched.half(half, moved, made.asked, made.level(0))
    scores = [side.score(side.all_met(one)) - made.asked.price * len(one) for one in blocks]
    known = [one for one in scores if np.isfinite(one)]
    return max(min(known, default=0.0) + 2 * made.asked.price, 0.0)


def _seen_from(made: Hunt, weakest: float, settings: PocketsSettings, alpha: float) -> int | None:
    """Rows from which on a place so much denser, told by two conditions, is looked at and confirmed in four of five draws."""
    errors = made.errors
    spread = float(np.sqrt(np.average((errors.values - np.average(errors.values, weights=errors.mass)) ** 2, weights=errors.mass)))  # fmt: skip
    level = float(np.average(errors.values, weights=errors.mass))
    excess = 0.5 * spread if errors.signed else (max(2.0, settings.times) - 1) * level
    if excess <= 0:
        return None
    confirm = float(distributions.normal_quantile(1 - alpha * OF_HALVINGS / (2 * max(settings.most, 1))))
    needed = max(np.sqrt(weakest), confirm) + float(distributions.normal_quantile(0.8))
    variance = excess_variance(errors, level, level + excess) if errors.rate else spread**2
    rows = max(2 * ceil(needed**2 * variance / excess**2), 2 * made.asked.least)
    return rows if rows <= made.asked.most * errors.m else None


def excess_variance(errors: Errors, level: float, inside: float) -> float:
    """The variance of a row of a rate, at the larger of both sides."""
    return max(level * (1 - level), min(inside, 1.0) * (1 - min(inside, 1.0)), 1e-12)


def _notes(made: Hunt, columns, kept, settings: PocketsSettings):
    told = {one.column for one in made.searched.cells}
    alike = [name for name in columns if name not in told]
    if alike:
        many = len(alike)
        one = many == 1
        yield f"{many} {'column is' if one else 'columns are'} alike in all of these rows, or {'has' if one else 'have'} no level of {made.asked.least * 2} rows."
    if len(kept) < len(told):
        yield (
            f"Of {len(told)} columns, descriptions of {min(settings.deep, 3)} conditions were made of the {len(kept)} that "
            f"did best in fewer."
        )
    if any(one.sort == "levels" and one.count > cells.LEVELS for one in made.searched.cells):
        yield f"Of columns with many levels the {cells.LEVELS} most frequent are looked at."


def picture(result: PocketsResult, spec: Spec) -> Picture | None:
    """The error inside every place looked at, confirmed ones first, and of all rows."""
    shown = [one for one in result.pockets if one.gap.inside.value is not None][: MOST_BARS - 1]
    if not shown or result.value.value is None:
        return None
    rows = [(f"{one.described} ({one.status})", one.gap.inside) for one in shown] + [("all rows", result.value)]
    return bars_of(rows, result.called)


METHOD = Method(
    name="pockets",
    version=2,
    area="pockets",
    title="Pockets",
    settings=PocketsSettings,
    result=PocketsResult,
    compute=search,
    say=say,
    note=NOTE,
    main="pockets",
    part="places",
    needs=frozenset({"outcome", "predictions"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    findings=weaknesses,
    measured=measured,
    besides=before,
    picture=picture,
    place=Place("Pockets of error"),
    reads_alongside=True,
    first_look={"rows": 5_000, "deep": 2, "halvings": 3},
)
