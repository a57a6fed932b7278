"""What became of a gap when it is measured again: on another model version, on another table, or in another build."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np

from zerotilt.core import words
from zerotilt.core.findings import Gap
from zerotilt.core.frozen import Frozen
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.stats.intervals import Interval

Verdict = Literal["gone", "smaller", "same", "larger", "cannot be told"]
NEGLIGIBLE = 0.5
"""Tolerances within which the whole interval of a change must lie for the gap to be called the same; "half" in words."""
AGAIN = (
    "A finding that was decided on another model version or table is measured again. It is gone where the whole interval of "
    "the gap now lies within the limits; larger or smaller where the whole interval of the change is on that side; the same "
    "where the whole interval of the change is less than half the tolerance; else it cannot be told. Of the same rows the "
    "interval of the change counts that each row moves both; of other rows it comes from the two gaps' own intervals (Zou & "
    "Donner 2008), of ratios on the log scale."
)


class Measured(Frozen):
    """One comparison as it is, flagged or not."""

    gap: Gap
    reference: str = ""
    """What the group is compared with."""
    told: bool = True
    """Whether it has rows enough to be judged."""
    change: Estimate | None = None
    """Against what is read alongside, where the same rows are: this ratio over that, or this difference less that."""


class Again(Frozen):
    """A gap before and now."""

    verdict: Verdict
    scale: Literal["ratio", "difference"]
    before: Estimate
    now: Estimate
    change: Estimate
    """The ratio now over the one before, or the difference now less the one before."""
    same_rows: bool
    why: str = ""

    @property
    def sentence(self) -> str:
        """What became of it, with the change and its interval."""
        told = {"same": "It is the same", "cannot be told": "It cannot be told what became of it"}
        lead = told.get(self.verdict, f"It is {self.verdict}") + (f", since {self.why}" if self.why else "")
        if self.now.value is None or self.before.value is None:
            return f"{lead}."
        show = words.ratio if self.scale == "ratio" else words.quantity
        was = f"the {self.scale} is {show(self.now.value)} now and was {show(self.before.value)}"
        how = change_said(self.change, self.scale)
        return f"{lead}: {was}{f', {how}' if how else ''}."


def change_said(change: Estimate, scale: Literal["ratio", "difference"], share: bool = False) -> str:
    """A change with its interval, in a few words; of shares in percentage points. Empty where it has no interval."""
    if change.value is None or change.low is None or change.high is None:
        return ""
    times = 100 if share and scale == "difference" else 1
    value, low, high = words.measured(change.value * times, change.low * times, change.high * times)
    if scale == "ratio":
        return f"{value} times as large (interval {low} to {high})"
    way, unit = "less" if value.startswith("−") else "more", " points" if share else ""
    return f"{value.removeprefix('−')}{unit} {way} (interval of the change {low} to {high})"


UNKNOWN = Estimate(value=None, low=None, high=None)


def compare(before: Gap, now: Measured | None, paired: Estimate | None = None, reference: str = "") -> Again:
    """What became of a gap, by the rule that :data:`AGAIN` states.

    Parameters
    ----------
    paired : the change and its interval where both were read of the same rows. reference : what the
        group was compared with before; empty where nothing is known of it.
    """
    was = Estimate(value=before.value, low=before.low, high=before.high)

    def found(verdict: Verdict, why: str = "", change: Estimate = UNKNOWN) -> Again:
        seen = Estimate(value=now.gap.value, low=now.gap.low, high=now.gap.high) if now else UNKNOWN
        return Again(
            verdict=verdict,
            scale=before.scale,
            before=was,
            now=seen,
            change=change,
            same_rows=paired is not None,
            why=why,
        )

    if now is None:
        return found("cannot be told", "there is no such comparison now")
    if reference and now.reference and reference != now.reference:
        return found("cannot be told", f"it is compared with {now.reference} now, and was with {reference}")
    if now.gap.scale != before.scale:
        return found("cannot be told", f"it is judged by its {now.gap.scale} now, and was by its {before.scale}")
    if not now.told or now.gap.value is None or now.gap.low is None or now.gap.high is None:
        return found("cannot be told", "too few rows are there now")
    change = paired if paired is not None else change_of(before, now.gap)
    low, high = now.gap.within
    if low <= now.gap.low and now.gap.high <= high:
        return found("gone", change=change)
    if change.value is None or change.low is None or change.high is None:
        return found("cannot be told", "the change has no interval", change)
    if before.off * now.gap.off < 0 and not low <= now.gap.value <= high:
        return found("cannot be told", "it is off to the other side now", change)
    parity = 1.0 if before.scale == "ratio" else 0.0
    if not change.low <= parity <= change.high:
        return found("larger" if abs(now.gap.off) > abs(before.off) else "smaller", change=change)
    reach = _reach(now.gap)
    if all(abs(_distance(end, before.scale)) < reach for end in (change.low, change.high)):
        return found("same", change=change)
    return found("cannot be told", change=change)


def _reach(gap: Gap) -> float:
    """How little a change is negligible: a share of the nearer limit's distance from parity."""
    return NEGLIGIBLE * min(abs(_distance(limit, gap.scale)) for limit in gap.within)


def _distance(value: float, scale: str) -> float:
    if scale == "difference":
        return value
    return math.log(value) if value > 0 else -math.inf


def change_of(before: Gap, now: Gap) -> Estimate:
    """A change and its interval from the intervals of two gaps of different rows (Zou & Donner 2008).

    Null where a gap has no interval, or a ratio of zero.
    """
    return change_between(_estimate(before), _estimate(now), before.scale)


def _estimate(gap: Gap) -> Estimate:
    return Estimate(value=gap.value, low=gap.low, high=gap.high)


def change_between(before: Estimate, now: Estimate, scale: Literal["ratio", "difference"] = "difference") -> Estimate:
    """The same of any two numbers with their intervals, computed from different rows."""
    sides = []
    for one in (now, before):
        ends = (one.value, one.low, one.high)
        if any(end is None for end in ends) or (scale == "ratio" and not all(end > 0 for end in ends)):  # type: ignore[operator]
            return UNKNOWN
        numbers = np.array(ends, float)
        sides.append(Interval(*(np.log(numbers) if scale == "ratio" else numbers)))
    found = intervals.between(*sides)
    return estimate(*(math.exp(end) if scale == "ratio" else float(end) for end in found))


def p_of(change: Estimate, scale: Literal["ratio", "difference"], confidence: float) -> float:
    """Two-sided p-value of no change, from the side of its interval that faces none; NaN where it has no interval."""
    ends = (change.value, change.low, change.high)
    if any(end is None for end in ends):
        return math.nan
    numbers = np.array(ends, float)
    with np.errstate(divide="ignore"):
        gap = Interval(*(np.log(numbers) if scale == "ratio" else numbers))
    return float(intervals.tested(gap, confidence))
