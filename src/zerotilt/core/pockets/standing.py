"""How a place stands beside a group, another version or other rows, and what became of one found before."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import membership, segments
from zerotilt.core.logic import blocks_of
from zerotilt.core.meaning import Block, Segment
from zerotilt.core.pockets.choosing import overlap
from zerotilt.core.pockets.confirmed import ErrorSide, gap_of
from zerotilt.core.pockets.errors import Errors, compared, errors_of
from zerotilt.core.pockets.hunt import Hunt, dealt
from zerotilt.core.pockets.result import Likeness, PlaceBefore, PocketAlongside
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import estimate
from zerotilt.core.stats.intervals import Interval
from zerotilt.core.stats.means import mean_span
from zerotilt.core.subject import Subject
from zerotilt.core.typed_conditions import expression

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
NEARLY, MOSTLY = 0.6, 0.9
"""Rows of both among rows of either, from which on a pocket is nearly a group; share of its rows that are of one group."""
MASKED_BY = 2.0
"""How many times as common a group must be inside as elsewhere for that to be said."""
MOST_HALVINGS = 48


def happened(subject: Subject) -> Floats:
    """What happened in the rows of the context as a number, shape (n,)."""
    outcome = subject.rows.outcome
    return (outcome == subject.column).astype(float) if subject.classes else outcome.astype(float)


def outcome_of(subject: Subject, errors: Errors) -> tuple[Floats, str]:
    """What happened in the rows as a number, and what its mean is the share of; nothing where it is a mean."""
    return happened(subject)[errors.places], subject.what if subject.kind.decides else ""


def like(subject: Subject, made: Hunt, block: Block, mask: Bools) -> Likeness | None:
    """The group that a pocket is in disguise; of columns that it does not name."""
    named = {one.column for one in block}
    best: tuple[float, Likeness] | None = None
    for columns in membership.all_groupings(subject.spec):
        if len(columns) != 1 or columns[0] == membership.SEGMENTS or columns[0] in named:
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


def beside(subject: Subject, made: Hunt, block: Block, judged: Bools, inside: Bools, outcome: Floats):
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
        here = value_of(errors.among(judged).among(inside), confidence)
        now = value_of(there.among(mask), confidence)
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


def value_of(errors: Errors, confidence: float) -> ErrorSide:
    """The error of all of these rows."""
    everyone = np.ones(errors.m, bool)
    return gap_of(errors, everyone, errors.values, confidence).inside


def place_before(subject: Subject, errors: Errors, outcome: Floats, asked: str, seed: int) -> PlaceBefore:
    """A place that was found before, on another model or table.

    Raises
    ------
    Refused : it is not written as HALVING|conditions.
    """
    number, bar, conditions = asked.partition("|")
    if not bar or not number.isdigit() or int(number) >= MOST_HALVINGS:
        raise Refused(f"besides: “{asked}” was given; a place is written as HALVING|conditions.")
    try:
        (block,) = blocks_of(expression(conditions, subject.table.names))
        lacking = segments.unfit(Segment(name="asked", conditions=block), subject.table)
    except (Refused, ValueError):
        lacking = Refused("a column is not there")
    if lacking is not None:
        return PlaceBefore(asked=asked, gap=None)
    dealt_to, halves = dealt(errors, int(number) + 1, seed)
    judged = ~halves[-1][dealt_to]
    rows = subject.rows.numbers[errors.places[judged]]
    inside = np.logical_and.reduce([segments.meeting(one, subject.table, rows) for one in block])
    some = bool(inside.any()) and not inside.all()
    gap = gap_of(errors.among(judged), inside, outcome[judged], subject.spec.policy.confidence) if some else None
    return PlaceBefore(asked=asked, gap=gap)
