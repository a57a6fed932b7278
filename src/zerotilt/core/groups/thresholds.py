"""Thresholds weighed: counts by score for every group, and settings that solve for cost and for parity."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.groups import membership
from zerotilt.core.reading import Reading, Span
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Frozen, GroupThreshold, Rule, Wording
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

STEPS = 1_000
EDGES = np.arange(STEPS + 1) / STEPS
"""Thresholds weighed: every thousandth. A score equal to one is at or above it, here and where rules are applied."""
TARGETS = 201
FRONTIER = 31
NEAR = 0.01
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


def weigh(subject: Subject, settings: ThresholdSettings, seed: int, work: Work) -> ThresholdResult:
    """Count every group's scores once, and solve for the least cost with and without parity (methods section 6).

    Thresholds are thousandths. Each aim holds one rate equal: every target level
    is tried, every group takes its cheapest threshold that comes near it, and the
    cheapest target wins. Both error rates: the least largest gap of either, at the
    share of favourable decisions of the least-cost single threshold.

    Raises
    ------
    Refused : no scores, both costs are zero, no groups, or groups that overlap.
    """
    subject.needs_event()
    if subject.scores is None:
        raise Refused(
            "Only decisions were recorded; without scores no threshold can be moved.",
            todo="Upload the model, or a table with its scores.",
        )
    if not settings.false_positive and not settings.false_negative:
        raise Refused("Both costs are zero, so every threshold costs the same.", todo="Give one of them a cost.")
    every = membership.all_groupings(subject.spec)
    if not settings.attribute and not every:
        raise Refused("No column is marked as a group.", todo="Mark the columns whose groups are compared in Intake.")
    columns = membership.columns_of(subject.spec, settings.attribute) if settings.attribute else every[0]
    grouping = membership.grouping(subject.spec, subject.table, subject.rows, columns)
    if grouping.overlapping:
        raise Refused(
            "Groups that overlap cannot have thresholds of their own: a row would have several.",
            where=words.title(grouping.attribute),
            todo="Choose a column whose groups do not overlap.",
        )
    work.begin(len(AIMS) + 2, "settings solved")
    counts = _Counts.of(subject, grouping)
    costs = _costs(counts, settings)
    shown = _Shown(subject, grouping, counts, costs, settings)
    single = np.full(counts.k, int(costs.sum(axis=0).argmin()))
    base = float(shown.cost(single))
    found = [
        shown.setting(
            "least cost, one for all", "The one threshold with the least mean cost.", single, base, alone=True
        )
    ]
    work.advance(1)
    free = costs.argmin(axis=1)
    found.append(
        shown.setting(
            "least cost, one a group", "Each group's own least-cost threshold; no parity is asked.", free, base
        )
    )
    for aim, held in AIMS.items():
        places = _both_equal(counts, costs, single) if held is None else _held_equal(counts.rate(held), costs, NEAR)
        found.append(shown.setting(aim, _how(aim), places, base))
        work.advance(1)
    frontier = _frontier(counts.rate(settings.gap), costs, shown)
    work.advance(1)
    least = subject.spec.policy.minimum_rows
    return ThresholdResult(
        attribute=grouping.attribute,
        histograms=counts.histograms(grouping.labels, subject.weights is not None),
        steps=STEPS,
        current=shown.in_force(base),
        settings=tuple(found),
        frontier=frontier,
        gap=settings.gap,
        false_positive=settings.false_positive,
        false_negative=settings.false_negative,
        favourable=subject.spec.favourable,
        minimum_rows=least,
        few=tuple(label for i, label in enumerate(grouping.labels) if min(counts.plain[i].sum(axis=0)) < least),
        rows=subject.n,
    )


def _how(aim: Aim) -> str:
    if aim == "both error rates":
        return (
            "The least largest gap of true and of false positive rates, with as many favourable decisions as under the "
            "least-cost single threshold."
        )
    return f"The least cost with {aim}, to within {words.points(NEAR)} where the scores allow it."


@dataclass(frozen=True)
class _Counts:
    """Rows by group, thousandth of the score, and outcome (without, with): ``plain`` and weighted ``mass`` (k, 1001, 2)."""

    plain: NDArray[np.int64]
    mass: NDArray[np.float64]
    favourable: str

    @classmethod
    def of(cls, subject: Subject, grouping: membership.Grouping) -> _Counts:
        k, width = len(grouping.labels), STEPS + 1
        place = np.searchsorted(EDGES, subject.scores, side="right") - 1
        flat = (grouping.codes * width + place) * 2 + subject.outcome
        shape = (k, width, 2)
        plain = np.bincount(flat, minlength=k * width * 2).reshape(shape)
        mass = plain.astype(float)
        if subject.weights is not None:
            mass = np.bincount(flat, subject.weights, k * width * 2).reshape(shape)
        return cls(plain, mass, subject.spec.favourable)

    @property
    def k(self) -> int:
        return len(self.plain)

    def above(self, counts: NDArray) -> NDArray:
        """Predicted with each threshold 0 … 1 and with none reaching it: sums from the top, shape (k, 1002, 2)."""
        tail = np.flip(np.cumsum(np.flip(counts, axis=1), axis=1), axis=1)
        return np.concatenate([tail, np.zeros((len(counts), 1, 2), counts.dtype)], axis=1)[:, : STEPS + 1]

    def rate(self, which: Held) -> NDArray[np.float64]:
        """A rate of every group at every threshold, shape (k, 1001); NaN where it is not defined."""
        said, total = self.above(self.mass), self.mass.sum(axis=1)[:, None, :]
        with np.errstate(invalid="ignore", divide="ignore"):
            if which == "true positive rate":
                return said[..., 1] / total[..., 1]
            if which == "false positive rate":
                return said[..., 0] / total[..., 0]
            whole = total.sum(axis=2)
            if which == "accuracy":
                return (said[..., 1] + total[..., 0] - said[..., 0]) / whole
            share = said.sum(axis=2) / whole
            return share if self.favourable == "event" else 1 - share

    def histograms(self, labels: tuple[str, ...], weighted: bool) -> tuple[Histogram, ...]:
        found = []
        for i, label in enumerate(labels):
            places = np.flatnonzero(self.plain[i].sum(axis=1))
            more = {}
            if weighted:
                more = {"with_mass": self.mass[i, places, 1].tolist(), "without_mass": self.mass[i, places, 0].tolist()}
            found.append(
                Histogram(
                    group=label,
                    rows=int(self.plain[i].sum()),
                    places=places.tolist(),
                    with_event=self.plain[i, places, 1].tolist(),
                    without=self.plain[i, places, 0].tolist(),
                    **more,
                )
            )
        return tuple(found)


def _costs(counts: _Counts, settings: ThresholdSettings) -> NDArray[np.float64]:
    """Cost of every group at every threshold, as a part of the mean cost of all rows, shape (k, 1001)."""
    said, total = counts.above(counts.mass), counts.mass.sum(axis=1)[:, None, :]
    missed = total[..., 1] - said[..., 1]
    return (settings.false_positive * said[..., 0] + settings.false_negative * missed) / max(
        float(counts.mass.sum()), 1e-300
    )


class _Shown:
    """Turns thresholds into what they come to."""

    def __init__(self, subject: Subject, grouping, counts: _Counts, costs: NDArray, asked: ThresholdSettings):
        self.subject, self.grouping, self.counts, self.costs = subject, grouping, counts, costs
        self.predicted, self.asked = subject.predicted, asked
        self.rates = {
            name: counts.rate(name)
            for name in ("selection rate", "true positive rate", "false positive rate", "accuracy")
        }
        self.share = counts.mass.sum(axis=(1, 2)) / max(float(counts.mass.sum()), 1e-300)

    def cost(self, places: NDArray[np.int64]) -> float:
        return self.costs[np.arange(len(places)), places].sum()

    def setting(self, name: str, how: str, places: NDArray[np.int64], base: float, alone: bool = False) -> Setting:
        labels = self.grouping.labels
        at = np.arange(len(places))
        rule = Rule(threshold=float(EDGES[places[0]])) if alone else Rule(
            threshold=self.subject.cut,
            columns=self.grouping.columns,
            thresholds=tuple(GroupThreshold(group=label, threshold=float(EDGES[place])) for label, place in zip(labels, places, strict=True)),
        )  # fmt: skip
        now = self.subject.scores >= EDGES[places][self.grouping.codes]
        return self._setting(
            name,
            how,
            rule,
            now,
            {key: one[at, places] for key, one in self.rates.items()},
            float(self.cost(places)),
            base,
            EDGES[places],
        )

    def in_force(self, base: float) -> Setting:
        """The rule as it is, whose thresholds need not be thousandths, nor by these groups."""
        y, w = self.subject.outcome, self.subject.weights
        w = np.ones(self.subject.n) if w is None else w
        rates: dict[str, NDArray] = {name: np.full(self.counts.k, np.nan) for name in self.rates}
        cuts = np.full(self.counts.k, np.nan)
        for i in range(self.counts.k):
            mine = self.grouping.mask(i)
            for name, (counted, among) in {
                "selection rate": (self.subject.favoured, np.ones(self.subject.n, bool)),
                "true positive rate": (self.predicted, y),
                "false positive rate": (self.predicted, ~y),
                "accuracy": (self.predicted == y, np.ones(self.subject.n, bool)),
            }.items():
                rows = mine & among
                if w[rows].sum() > 0:
                    rates[name][i] = w[rows & counted].sum() / w[rows].sum()
            own = np.unique(self.subject.cuts[mine])
            cuts[i] = own[0] if len(own) == 1 else np.nan
        wrong = np.where(y, self.asked.false_negative * ~self.predicted, self.asked.false_positive * self.predicted)
        cost = float((w * wrong).sum() / max(w.sum(), 1e-300))
        rule = self.subject.context.rule or Rule(threshold=self.subject.spec.threshold)
        return self._setting(
            "in force", "The decision rule of this model version.", rule, self.predicted, rates, cost, base, cuts
        )

    def _setting(self, name, how, rule, now, rates, cost, base, cuts) -> Setting:
        labels, favoured = self.grouping.labels, self.subject.spec.favourable == "event"
        to, fro = (
            (now & ~self.predicted, ~now & self.predicted)
            if favoured
            else (~now & self.predicted, now & ~self.predicted)
        )
        k = len(labels)
        gain, lose = (np.bincount(self.grouping.codes[which], minlength=k) for which in (to, fro))

        def known(value: float) -> float | None:
            return float(value) if np.isfinite(value) else None

        return Setting(
            name=name,
            how=how,
            rule=rule,
            cost=cost,
            price=cost - base,
            accuracy=float(np.nansum(self.share * np.nan_to_num(rates["accuracy"]))),
            selection_rate=float(np.nansum(self.share * np.nan_to_num(rates["selection rate"]))),
            gaps={key: _spread(one) for key, one in rates.items()},
            gain=int(gain.sum()),
            lose=int(lose.sum()),
            groups=tuple(
                Moved(
                    group=label,
                    threshold=known(cuts[i]),
                    selection_rate=known(rates["selection rate"][i]),
                    true_positive_rate=known(rates["true positive rate"][i]),
                    false_positive_rate=known(rates["false positive rate"][i]),
                    accuracy=known(rates["accuracy"][i]),
                    gain=int(gain[i]),
                    lose=int(lose[i]),
                )
                for i, label in enumerate(labels)
            ),
        )


def _spread(values: NDArray[np.float64]) -> float | None:
    known = values[np.isfinite(values)]
    return float(known.max() - known.min()) if len(known) else None


def _held_equal(rates: NDArray[np.float64], costs: NDArray[np.float64], within: float) -> NDArray[np.int64]:
    """Each group's cheapest threshold whose rate is within ``within``/2 of a target; the cheapest target wins.

    Groups whose rate is not defined take their own cheapest. Where a group's
    scores reach no target that the others reach, the tolerance is doubled.
    """
    targets = np.linspace(0, 1, TARGETS)
    while True:
        total, chosen = _cheapest(rates, costs, targets, within / 2 + 1e-12)
        if np.isfinite(total).any():
            return chosen[int(np.nanargmin(np.where(np.isfinite(total), total, np.nan)))]
        within *= 2


def _cheapest(rates, costs, targets, reach: float) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """The cost of every target, shape (targets,), endless where a group cannot reach it; and its thresholds (targets, k)."""
    total = np.zeros(len(targets))
    chosen = np.empty((len(targets), len(rates)), np.int64)
    for g, (rate, cost) in enumerate(zip(rates, costs, strict=True)):
        if not np.isfinite(rate).any():
            chosen[:, g] = cost.argmin()
            total += cost.min()
            continue
        near = np.abs(rate[None, :] - targets[:, None]) <= reach
        reached = np.where(near, cost[None, :], np.inf)
        chosen[:, g] = reached.argmin(axis=1)
        total += reached.min(axis=1)
    return total, chosen


def _both_equal(counts: _Counts, costs: NDArray[np.float64], single: NDArray[np.int64]) -> NDArray[np.int64]:
    """Thresholds with the least largest gap of true or false positive rates at the single threshold's selection rate."""
    tpr, fpr, selected = (counts.rate(name) for name in ("true positive rate", "false positive rate", "selection rate"))
    told = np.isfinite(tpr).any(axis=1) & np.isfinite(fpr).any(axis=1)
    share = counts.mass.sum(axis=(1, 2))
    share = share / share.sum()
    at = np.arange(counts.k)
    wanted = float(share @ np.nan_to_num(selected[at, single]))
    best, places = (np.inf, np.inf), single
    steps = np.linspace(0, 1, 51)
    for t in steps:
        # every group's threshold that comes nearest to a point (f, t) of the plane of both rates
        for f in steps[steps <= t + 0.2]:
            off = np.maximum(np.abs(tpr - t), np.abs(fpr - f))
            found = np.where(told, np.nan_to_num(off, nan=9.0).argmin(axis=1), single)
            if abs(float(share @ np.nan_to_num(selected[at, found])) - wanted) > NEAR:
                continue
            gap = max(_spread(tpr[at, found][told]) or 0.0, _spread(fpr[at, found][told]) or 0.0)
            score = (round(gap, 9), float(costs[at, found].sum()))
            if score < best:
                best, places = score, found
    return places


def _frontier(rates: NDArray[np.float64], costs: NDArray[np.float64], shown: _Shown) -> tuple[FrontierPoint, ...]:
    """The least cost for every gap that is allowed, from none to what costs least anyway."""
    at = np.arange(len(rates))
    free = costs.argmin(axis=1)
    widest = _spread(rates[at, free]) or 0.0
    targets = np.linspace(0, 1, TARGETS)
    found: list[FrontierPoint] = []
    least = np.inf
    for allowed in np.linspace(0.005, max(widest, 0.02), FRONTIER):
        total, chosen = _cheapest(rates, costs, targets, allowed / 2 + 1e-12)
        if not np.isfinite(total).any():
            continue
        places = chosen[int(np.nanargmin(np.where(np.isfinite(total), total, np.nan)))]
        cost = float(costs[at, places].sum())
        if cost > least - 1e-12 and found:
            continue
        least = min(least, cost)
        found.append(
            FrontierPoint(
                allowed=float(allowed),
                gap=_spread(rates[at, places]) or 0.0,
                cost=cost,
                thresholds=tuple(
                    GroupThreshold(group=label, threshold=float(EDGES[place]))
                    for label, place in zip(shown.grouping.labels, places, strict=True)
                ),
            )
        )
    return tuple(found)


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
