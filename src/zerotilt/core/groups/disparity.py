"""What comparing groups gives: groups, their disparities, and how each is judged."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import Field

from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.metrics import Measure, Metrics, metric_named
from zerotilt.core.meaning import FlagPolicy
from zerotilt.core.stats.estimates import Estimate

BARE = {"yes", "no", "true", "false"}
OWN_WORDS = {
    "other",
    "others",
    "all other",
    "all others",
    "missing",
    "not so",
    "none",
    "rest",
    "the rest",
    "reference",
    "all",
}
"""Levels that sentences of ours would mean something else by; they are told with their column, in quotes."""


Status = Literal["flagged", "uncertain", "within", "too_few", "not_tested"]
UNTOLD: tuple[Status, ...] = ("too_few", "not_tested")
"""Of these the numbers say nothing about the group."""


ReferenceChoice = Literal["chosen", "largest", "best-off", "all others"]


class Reference(Frozen):
    """The group that an attribute's others are compared with."""

    attribute: str
    group: str


class TiltSettings(Frozen):
    """The flag policy is the audit's own."""

    attributes: tuple[str, ...] = Field(
        default=(), description="Columns, or intersections as “a · b”; all of the audit's when empty"
    )
    reference: ReferenceChoice = Field(
        default="chosen", description="Where none is chosen for an attribute, the largest group is the reference"
    )
    references: tuple[Reference, ...] = Field(default=(), description="Chosen here, before those of the columns")


class Group(Frozen):
    attribute: str
    group: str
    reference: bool
    rows: int
    metrics: Metrics


class GapChange(Frozen):
    """The same comparison in the reading alongside, and what became of the gap."""

    ratio: float | None
    difference: float | None
    ratio_change: Estimate = Field(description="This ratio over the one alongside")
    difference_change: Estimate
    p_value: float | None
    verdict: Literal["wider", "narrower", "not told apart", "not defined"]


class Disparity(Frozen):
    """One metric of one group against its reference."""

    attribute: str
    group: str
    reference: str
    metric: str = Field(description="A metric's name; with several classes followed by “ · ” and the class")
    ratio: Estimate
    difference: Estimate
    corrected: bool = Field(description="A rate is 0; the ratio is with 0.5 added to all four cells")
    against: Measure = Field(description="The reference's own")
    judged: Literal["ratio", "difference"]
    low: float = Field(description="Limits of what is within, in the terms it is judged by")
    high: float
    p_value: float | None
    p_adjusted: float | None
    status: Status
    note: str = ""
    change: GapChange | None = None


class Attribute(Frozen):
    """One way the rows are grouped, and what its groups are compared with."""

    attribute: str
    reference: str
    overlapping: bool
    protected: bool = Field(default=False, description="It is told before attributes that are not")
    note: str = ""


class Cost(Frozen):
    """A metric of all rows, here and alongside."""

    metric: str
    here: Measure
    alongside: Measure
    change: Estimate = Field(description="Here less alongside")


class BesideGaps(Frozen):
    rows: int
    shared: bool = Field(description="The same rows are read in both")
    costs: tuple[Cost, ...]


class TiltResult(Frozen):
    rows: int
    attributes: tuple[Attribute, ...]
    groups: tuple[Group, ...]
    disparities: tuple[Disparity, ...]
    tested: int
    policy: FlagPolicy
    decisions: str
    beside: BesideGaps | None = None


def limits(policy: FlagPolicy, key: str, spread: float) -> tuple[Literal["ratio", "difference"], float, float]:
    """What a metric is judged by, and between which limits it is within."""
    own = policy.tolerance(metric_named(key).name)
    if own.difference is not None:
        return "difference", -own.difference, own.difference
    if metric_named(key).signed:
        reach = policy.difference_share * spread
        return "difference", -reach, reach
    return "ratio", own.ratio_low or policy.ratio_low, own.ratio_high or policy.ratio_high


def status(
    enough: bool,
    found: Estimate,
    p_adjusted: float | None,
    alpha: float,
    within: tuple[float, float],
    by_errors: bool = False,
) -> Status:
    """The statuses in their order: not tested, too few, flagged, uncertain, within.

    Parameters
    ----------
    by_errors : the group was found by looking for errors in these rows, so that no test of it means anything.
    """
    if by_errors:
        return "not_tested"
    if not enough or found.value is None or found.low is None or found.high is None:
        return "too_few"
    low, high = within
    outside = not low <= found.value <= high
    if outside and p_adjusted is not None and p_adjusted <= alpha:
        return "flagged"
    return "uncertain" if outside or found.low < low or found.high > high else "within"


def by_tilt(disparity: Disparity) -> float:
    """How far off parity, for sorting: the largest first. By ratio on the log scale, by difference in its limits."""
    if disparity.judged == "ratio":
        return -abs(math.log(disparity.ratio.value)) if disparity.ratio.value else 0.0
    return -abs(disparity.difference.value or 0.0) / disparity.high * math.log(1.25)


FIRST_SAID = ("selection_rate", "mean_prediction", "class_share", "true_positive_rate", "false_positive_rate",
              "false_negative_rate", "true_negative_rate", "mean_rank", "mean_error", "positive_predictive_value",
              "negative_predictive_value")  # fmt: skip


"""What matters to the decision is said first; what was there before the model, or says how good it is, after."""


def by_weight(disparity: Disparity) -> tuple[int, float]:
    """For the head of the sheet: by what matters to the decision, then by how far off parity."""
    name = metric_named(disparity.metric).name
    last = len(FIRST_SAID) + (name in ("base_rate", "mean_outcome"))
    return (FIRST_SAID.index(name) if name in FIRST_SAID else last), by_tilt(disparity)
