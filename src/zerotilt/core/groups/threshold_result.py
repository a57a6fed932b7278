"""What weighing thresholds gives, and how it is said."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import GroupThreshold, Rule, Wording
from zerotilt.core.reading import Reading, Span

Aim = Literal[
    "equal selection rates",
    "equal true positive rates",
    "equal false positive rates",
    "both error rates",
    "equal accuracy",
]


Held = Literal["selection rate", "true positive rate", "false positive rate", "accuracy"]


AIMS: dict[Aim, Held | None] = {
    "equal selection rates": "selection rate",
    "equal true positive rates": "true positive rate",
    "equal false positive rates": "false positive rate",
    "both error rates": None,
    "equal accuracy": "accuracy",
}


class ThresholdSettings(Frozen):
    attribute: str = Field(
        default="", description="Column or intersection whose groups are weighed; the audit's first when empty"
    )
    false_positive: float = Field(
        default=1.0, ge=0, le=1e9, description="Cost of predicting the event where it did not happen"
    )
    false_negative: float = Field(default=1.0, ge=0, le=1e9, description="Cost of not predicting it where it happened")
    gap: Held = Field(default="selection rate", description="Whose gap the frontier sets against the cost")


class Histogram(Frozen):
    """One group's rows by score, in thousandths: ``places`` that are not empty, with how many rows with and without the event.

    ``with_mass`` and ``without_mass`` are the same weighted; empty where rows have no weights.
    """

    group: str
    rows: int
    places: tuple[int, ...]
    with_event: tuple[int, ...]
    without: tuple[int, ...]
    with_mass: tuple[float, ...] = ()
    without_mass: tuple[float, ...] = ()


class Moved(Frozen):
    """Rows of one group whose decision differs from the rule in force: they gain or lose the favourable decision."""

    group: str
    threshold: float | None = Field(description="None where the rule in force goes by other groups")
    selection_rate: float | None
    true_positive_rate: float | None
    false_positive_rate: float | None
    accuracy: float | None
    gain: int
    lose: int


class Setting(Frozen):
    """Thresholds and what they come to. ``gap``: largest less smallest over the groups of what is held equal."""

    name: str
    how: str
    rule: Rule
    cost: float = Field(description="Mean cost of a row")
    price: float = Field(description="Mean cost of a row more than under the least-cost single threshold")
    finer: float | None = Field(
        description="How much less a mean row would cost with thresholds finer than thousandths and the same tolerance; None "
        "where it was not found out"
    )
    accuracy: float
    selection_rate: float
    gaps: dict[str, float | None]
    gain: int
    lose: int
    groups: tuple[Moved, ...]


class FrontierPoint(Frozen):
    """The least cost with which the gap stays within ``allowed``."""

    allowed: float
    gap: float
    cost: float
    thresholds: tuple[GroupThreshold, ...]


class ThresholdResult(Frozen):
    attribute: str
    histograms: tuple[Histogram, ...]
    steps: int
    current: Setting = Field(description="The decision rule in force")
    settings: tuple[Setting, ...] = Field(description="Least cost, one for all, first; then each aim")
    frontier: tuple[FrontierPoint, ...]
    gap: Held
    false_positive: float
    false_negative: float
    favourable: Literal["event", "other"]
    minimum_rows: int
    few: tuple[str, ...] = Field(description="Groups with fewer rows of a class than the policy's minimum")
    rows: int


def say(result: ThresholdResult, wording: Wording, settings: ThresholdSettings) -> Reading:
    single = result.settings[0]
    now = result.current
    headline = (
        Span(text=f"The least-cost threshold for all is {words.decimal(single.rule.threshold)}: "),
        Span(text=f"a mean cost of {words.decimal(single.cost)} a {wording.row}"),
        Span(
            text=f" against {words.decimal(now.cost)} in force, with {words.count(single.gain)} {wording.rows} more and "
            f"{words.count(single.lose)} fewer {wording.favourable}."
        ),
    )
    parity = next(one for one in result.settings if one.name == "equal selection rates")
    gap = single.gaps["selection rate"]
    detail = (
        f"Under it selection rates by {words.title(result.attribute)} are {words.points(gap) if gap is not None else 'not defined'} "
        f"apart; making them equal costs {words.decimal(parity.price)} more a {wording.row}: {words.count(parity.gain)} gain and "
        f"{words.count(parity.lose)} lose against the rule in force. {words.count(result.rows)} {wording.rows}."
    )
    if result.few:
        detail += f" Few rows of a class in {words.listing(list(result.few[:4]))}: their rates are uncertain."
    return Reading(headline=headline, detail=detail)
