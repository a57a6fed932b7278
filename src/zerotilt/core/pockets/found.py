"""Pockets: places described by few conditions where the error is denser, each confirmed on rows it was not searched in."""

from __future__ import annotations

from math import ceil

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import membership, segments
from zerotilt.core import rows as row_sets
from zerotilt.core.drawing import MOST_BARS, Picture
from zerotilt.core.meaning import Block, Segment, Spec
from zerotilt.core.method import Method, Place
from zerotilt.core.pockets import cells
from zerotilt.core.pockets.choosing import overlap
from zerotilt.core.pockets.confirmed import ErrorSide, gap_of
from zerotilt.core.pockets.errors import Errors, compared, errors_of, offered
from zerotilt.core.pockets.halvings import OF_HALVINGS, PlaceFound, places
from zerotilt.core.pockets.hunt import Hunt, hunt, least_rows
from zerotilt.core.pockets.partition import parted
from zerotilt.core.pockets.result import (
    Likeness,
    Pocket,
    PocketAlongside,
    PocketsResult,
    PocketsSettings,
    PocketStatus,
)
from zerotilt.core.pockets.said import NOTE, say, weaknesses
from zerotilt.core.stats import distributions, intervals
from zerotilt.core.stats.estimates import estimate
from zerotilt.core.stats.intervals import Interval
from zerotilt.core.stats.means import mean_interval, mean_span
from zerotilt.core.subject import Subject
from zerotilt.core.typed_conditions import written
from zerotilt.core.work import Work

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
TOLD = 0.1
"""Share of a pocket's rows from which on it is said that another holds them, too."""
NEARLY, MOSTLY = 0.6, 0.9
"""Rows of both among rows of either, from which on a pocket is nearly a group; share of its rows that are of one group."""
MASKED_BY = 2.0
"""How many times as common a group must be inside as elsewhere for that to be said."""


def search(subject: Subject, settings: PocketsSettings, seed: int, work: Work) -> PocketsResult:
    """Pockets of one error in the rows of a context.

    Raises
    ------
    Refused : the error cannot be read of these rows, or a column is asked for that rows cannot be told apart by.
    """
    errors = errors_of(subject, settings.error, settings.truth, settings.taken)
    every = errors.m
    if every > settings.rows:
        chosen = np.random.default_rng(seed).permutation(every) < settings.rows
        errors = errors.among(chosen)
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
        "rows_named": subject.context.rows,
        "confidence": policy.confidence,
        "minimum_rows": policy.minimum_rows,
        "beside": None if subject.beside is None else _alongside(subject),
        "seen_as": _seen_as(errors, settings.times),
    }
    if made is None or made.flat:
        why = _why_not(errors, columns, least)
        value = mean_interval(errors.values, errors.mass, policy.confidence)
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
        value=_value(errors.among(judged), policy.confidence),
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


def outcome_of(subject: Subject, errors: Errors) -> tuple[Floats, str]:
    """What happened in the rows as a number, and what its mean is the share of; nothing where it is a mean."""
    outcome = subject.rows.outcome[errors.places]
    if subject.classes:
        return (outcome == subject.column).astype(float), subject.what
    return outcome.astype(float), subject.what if subject.kind.decides else ""


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
                like=_like(subject, made, place.block, mask),
                beside=_beside(subject, made, place.block, ~half, mask[~half], outcome)
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


def _like(subject: Subject, made: Hunt, block: Block, mask: Bools) -> Likeness | None:
    """The group that a pocket is in disguise; of columns that it does not name."""
    named = {one.column for one in block}
    best: tuple[float, Likeness] | None = None
    for columns in membership.all_groupings(subject.spec):
        if len(columns) > 1 or columns[0] in named or columns == (membership.SEGMENTS,):
            continue
        grouping = membership.grouping(subject.spec, subject.table, made.searched.numbers, columns)
        for place, label in enumerate(grouping.labels):
            group = grouping.mask(place)
            both = int((group & mask).sum())
            if not both or mask.all():
                continue
            of_pocket, of_group = both / mask.sum(), both / group.sum()
            elsewhere = float((group & ~mask).sum() / (~mask).sum())
            same = overlap(group, mask) >= NEARLY
            if not same and not (of_pocket >= MOSTLY and of_pocket >= MASKED_BY * elsewhere):
                continue
            one = Likeness(
                attribute=grouping.attribute, group=label, of_pocket=of_pocket, of_group=of_group,
                elsewhere=elsewhere, same=same,
            )  # fmt: skip
            if best is None or overlap(group, mask) > best[0]:
                best = overlap(group, mask), one
    return best[1] if best else None


def _beside(subject: Subject, made: Hunt, block: Block, judged: Bools, inside: Bools, outcome: Floats):
    """The same conditions with the second version on the same rows, or in the second set of rows."""
    other, errors = subject.second, made.errors
    if errors.name == "newly_wrong":
        return None
    confidence, alpha = subject.spec.policy.confidence, subject.spec.policy.alpha
    theirs = errors_of(other, errors.name)
    if compared(subject) and np.array_equal(theirs.places, errors.places):
        there, mask, happened = theirs.among(judged), inside, outcome[judged]
        moved = there.values - errors.values[judged]
        change = mean_span(moved[mask], there.mass[mask], confidence)
    else:
        rows = other.rows.numbers[theirs.places]
        if segments.unfit(Segment(name="asked", conditions=block), other.table) is not None:
            return None
        there, happened = theirs, outcome_of(other, theirs)[0]
        mask = np.ones(theirs.m, bool)
        for one in block:
            mask &= segments.meeting(one, other.table, rows)
        here = _value(errors.among(judged).among(inside), confidence)
        now = _value(there.among(mask), confidence)
        change = intervals.between(*(_span(one) for one in (now, here)))
    gap = gap_of(there, mask, happened, confidence)
    low, high = float(change.low), float(change.high)
    if gap.p is not None and gap.p > alpha and high < 0:
        verdict = "gone"
    else:
        verdict = "smaller" if high < 0 else "larger" if low > 0 else "not told apart"
    return PocketAlongside(gap=gap, change=estimate(*(float(one) for one in change)), verdict=verdict)


def _span(one: ErrorSide) -> Interval:
    return Interval(*(np.array(np.nan if end is None else end) for end in (one.value, one.low, one.high)))


def _value(errors: Errors, confidence: float) -> ErrorSide:
    """The error of all of these rows."""
    everyone = np.ones(errors.m, bool)
    return gap_of(errors, everyone, errors.values, confidence).inside


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
        yield f"{many} {'column is' if many == 1 else 'columns are'} alike in all of these rows, or have no level of {made.asked.least * 2} rows."
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
    values = [one.value or 0.0 for _, one in rows]
    spans = [
        (value if one.low is None else one.low, value if one.high is None else one.high)
        for value, (_, one) in zip(values, rows, strict=True)
    ]
    return Picture(tuple(name for name, _ in rows), tuple(values), result.called, tuple(spans))


METHOD = Method(
    name="pockets",
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
    picture=picture,
    place=Place("Pockets of error"),
    reads_alongside=True,
    first_look={"rows": 5_000, "deep": 2, "halvings": 3},
)
