"""Thresholds weighed: counts by score for every group, and settings that solve for cost and for parity."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import NOBODY, GroupThreshold, Rule, Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, Span
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

STEPS = 1_000
EDGES = np.append(np.arange(STEPS + 1) / STEPS, NOBODY)
"""Thresholds weighed: every thousandth, and one that no score reaches. A score equal to one is at or above it, here and
where rules are applied."""
FINER_ROWS = 50_000
"""Rows up to which it is found out how much less thresholds finer than thousandths could cost."""
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


def thresholds_of(subject: Subject, settings: ThresholdSettings, seed: int, work: Work) -> ThresholdResult:
    """Count every group's scores once, and solve for the least cost with and without parity (methods section 6).

    Thresholds are thousandths, or reached by no score. Each aim holds one rate
    equal: of all settings of thousandths whose rates lie within the tolerance of
    one another the cheapest is found (:func:`_held_equal`); ``finer`` says how
    much less the cheapest setting of any thresholds costs. Both error rates: the
    least largest gap of either, at the share of favourable decisions of the
    least-cost single threshold; for two groups of all settings, for more found
    by a search.

    Raises
    ------
    Refused : no scores, both costs are zero, no groups, or groups that overlap.
    """
    subject.kind.needs_event()
    _ = subject.predictions.required_scores
    if not settings.false_positive and not settings.false_negative:
        raise Refused("Both costs are zero, so every threshold costs the same.", todo="Give one of them a cost.")
    every = membership.all_groupings(subject.spec)
    if not settings.attribute and not every:
        raise Refused("No column is marked as a group.", todo="Mark the columns whose groups are compared in Intake.")
    columns = membership.columns_of(subject.spec, settings.attribute) if settings.attribute else every[0]
    grouping = membership.grouping(subject.spec, subject.table, subject.rows.numbers, columns)
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
        if held is None:
            places, within = _both_equal(counts, costs, single), NEAR
        else:
            places, within = _held_equal(counts.rate(held), costs, NEAR)
        finer = _finer(subject, grouping, settings, held, within, float(shown.cost(places)))
        found.append(shown.setting(aim, _how(aim, grouping, within), places, base, finer=finer))
        work.advance(1)
    frontier = _frontier(counts.rate(settings.gap), costs, shown)
    work.advance(1)
    least = subject.spec.policy.minimum_rows
    return ThresholdResult(
        attribute=grouping.attribute,
        histograms=counts.histograms(grouping.labels, subject.rows.weights is not None),
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


def _how(aim: Aim, grouping: membership.Grouping, within: float) -> str:
    if aim == "both error rates":
        found = "" if len(grouping.labels) <= 2 else ", as far as a search found"
        return (
            f"The least largest gap of true and of false positive rates{found}, with as many favourable decisions as under "
            "the least-cost single threshold."
        )
    if within > NEAR + 1e-9:
        return f"The least cost with {aim}, to within {words.points(within)}: nearer the scores do not allow."
    return f"The least cost with {aim}, to within {words.points(NEAR)}."


@dataclass(frozen=True)
class _Counts:
    """Rows by group, thousandth of the score, and outcome (without, with): ``plain`` and weighted ``mass`` (k, 1001, 2)."""

    plain: NDArray[np.int64]
    mass: NDArray[np.float64]
    favourable: str

    @classmethod
    def of(cls, subject: Subject, grouping: membership.Grouping) -> _Counts:
        k, width = len(grouping.labels), STEPS + 1
        edges = subject.decisions.precise(EDGES[:-1])
        place = np.searchsorted(edges, subject.predictions.required_scores, side="right") - 1
        flat = (grouping.exclusive * width + place) * 2 + subject.rows.outcome
        shape = (k, width, 2)
        plain = np.bincount(flat, minlength=k * width * 2).reshape(shape)
        mass = plain.astype(float)
        if subject.rows.weights is not None:
            mass = np.bincount(flat, subject.rows.weights, k * width * 2).reshape(shape)
        return cls(plain, mass, subject.spec.favourable)

    @property
    def k(self) -> int:
        return len(self.plain)

    def above(self, counts: NDArray) -> NDArray:
        """Predicted with each threshold 0 … 1 and with none reaching it: sums from the top, shape (k, 1002, 2)."""
        tail = np.flip(np.cumsum(np.flip(counts, axis=1), axis=1), axis=1)
        return np.concatenate([tail, np.zeros((len(counts), 1, 2), counts.dtype)], axis=1)

    def rate(self, which: Held) -> NDArray[np.float64]:
        """A rate of every group at every threshold, shape (k, 1002); NaN where it is not defined."""
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
    """Cost of every group at every threshold, as a part of the mean cost of all rows, shape (k, 1002)."""
    said, total = counts.above(counts.mass), counts.mass.sum(axis=1)[:, None, :]
    missed = total[..., 1] - said[..., 1]
    return (settings.false_positive * said[..., 0] + settings.false_negative * missed) / max(
        float(counts.mass.sum()), 1e-300
    )


class _Shown:
    """Turns thresholds into what they come to."""

    def __init__(self, subject: Subject, grouping, counts: _Counts, costs: NDArray, asked: ThresholdSettings):
        self.subject, self.grouping, self.counts, self.costs = subject, grouping, counts, costs
        self.predicted, self.asked = subject.decisions.predicted, asked
        self.rates = {
            name: counts.rate(name)
            for name in ("selection rate", "true positive rate", "false positive rate", "accuracy")
        }
        self.share = counts.mass.sum(axis=(1, 2)) / max(float(counts.mass.sum()), 1e-300)

    def cost(self, places: NDArray[np.int64]) -> float:
        return self.costs[np.arange(len(places)), places].sum()

    def setting(
        self,
        name: str,
        how: str,
        places: NDArray[np.int64],
        base: float,
        alone: bool = False,
        finer: float | None = None,
    ) -> Setting:
        labels = self.grouping.labels
        at = np.arange(len(places))
        rule = Rule(threshold=float(EDGES[places[0]])) if alone else Rule(
            threshold=self.subject.decisions.cut,
            columns=self.grouping.columns,
            thresholds=tuple(GroupThreshold(group=label, threshold=float(EDGES[place])) for label, place in zip(labels, places, strict=True)),
        )  # fmt: skip
        now = self.subject.predictions.scores >= self.subject.decisions.precise(EDGES[places])[self.grouping.codes]
        return self._setting(
            name,
            how,
            rule,
            now,
            {key: one[at, places] for key, one in self.rates.items()},
            float(self.cost(places)),
            base,
            EDGES[places],
            finer,
        )

    def in_force(self, base: float) -> Setting:
        """The rule as it is, whose thresholds need not be thousandths, nor by these groups."""
        y, w = self.subject.rows.outcome, self.subject.rows.weights
        w = np.ones(self.subject.n) if w is None else w
        rates: dict[str, NDArray] = {name: np.full(self.counts.k, np.nan) for name in self.rates}
        cuts = np.full(self.counts.k, np.nan)
        for i in range(self.counts.k):
            mine = self.grouping.mask(i)
            for name, (counted, among) in {
                "selection rate": (self.subject.decisions.favoured, np.ones(self.subject.n, bool)),
                "true positive rate": (self.predicted, y),
                "false positive rate": (self.predicted, ~y),
                "accuracy": (self.predicted == y, np.ones(self.subject.n, bool)),
            }.items():
                rows = mine & among
                if w[rows].sum() > 0:
                    rates[name][i] = w[rows & counted].sum() / w[rows].sum()
            own = np.unique(self.subject.decisions.cuts[mine])
            # as it was chosen, not as it is in the scores' precision
            cuts[i] = (
                float(np.float32(own[0]).astype(str))
                if len(own) == 1 and self.subject.predictions.single
                else own[0]
                if len(own) == 1
                else np.nan
            )
        wrong = np.where(y, self.asked.false_negative * ~self.predicted, self.asked.false_positive * self.predicted)
        cost = float((w * wrong).sum() / max(w.sum(), 1e-300))
        rule = self.subject.context.rule or Rule(threshold=self.subject.spec.threshold)
        return self._setting(
            "in force", "The decision rule of this model version.", rule, self.predicted, rates, cost, base, cuts
        )

    def _setting(self, name, how, rule, now, rates, cost, base, cuts, finer=None) -> Setting:
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
            finer=finer,
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


def _held_equal(rates: Rates, costs: Costs, within: float) -> tuple[NDArray[np.int64], float]:
    """The cheapest choice of one threshold a group whose rates lie within ``within`` of one another, and that tolerance.

    The lowest of the chosen rates is one of those that occur, so each is tried: every group takes its cheapest
    threshold between it and ``within`` above. Where no choice lies so near, the tolerance is the least that one has.
    Groups whose rate is not defined take their own cheapest. Rates and costs: one array a group, of any lengths.
    """
    told = [g for g in range(len(rates)) if np.isfinite(rates[g]).any()]
    chosen = np.array([int(np.argmin(cost)) for cost in costs])
    if not told:
        return chosen, within
    held = [_Ladder.of(rates[g], costs[g]) for g in told]
    lowest = np.unique(np.concatenate([one.rates for one in held]))
    reach = max(within, _least_width(held, lowest)) + 1e-12
    total = sum(one.cheapest(lowest, lowest + reach)[0] for one in held)
    best = lowest[int(np.argmin(total))]
    for g, one in zip(told, held, strict=True):
        chosen[g] = one.cheapest(np.array([best]), np.array([best + reach]))[1][0]
    return chosen, reach - 1e-12


Rates = Costs = list[NDArray[np.float64]] | NDArray[np.float64]


@dataclass(frozen=True)
class _Ladder:
    """Thresholds of one group in the order of their rate, so that the cheapest within any stretch is looked up."""

    rates: NDArray[np.float64]
    places: NDArray[np.int64]
    costs: NDArray[np.float64]
    levels: list[NDArray[np.int64]]
    """Of each power of two, which of so many neighbours from each on is cheapest."""

    @classmethod
    def of(cls, rates: NDArray[np.float64], costs: NDArray[np.float64]) -> _Ladder:
        known = np.flatnonzero(np.isfinite(rates))
        order = known[np.lexsort((known, costs[known], rates[known]))]
        cost = costs[order]
        levels = [np.arange(len(order))]
        while 2 ** len(levels) <= len(order):
            half = 2 ** (len(levels) - 1)
            left, right = levels[-1][:-half], levels[-1][half:]
            levels.append(np.where(cost[left] <= cost[right], left, right))
        return cls(rates[order], order, cost, levels)

    def cheapest(
        self, low: NDArray[np.float64], high: NDArray[np.float64]
    ) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
        """The least cost with a rate from low to high, and its threshold; endless and −1 where there is none."""
        first, last = np.searchsorted(self.rates, low - 1e-12), np.searchsorted(self.rates, high, "right")
        size = last - first
        cost, place = np.full(len(low), np.inf), np.full(len(low), -1)
        some = np.flatnonzero(size > 0)
        level = np.floor(np.log2(size[some])).astype(int)
        for one in np.unique(level):
            mine = some[level == one]
            left = self.levels[one][first[mine]]
            right = self.levels[one][last[mine] - 2**one]
            better = np.where(self.costs[left] <= self.costs[right], left, right)
            cost[mine], place[mine] = self.costs[better], self.places[better]
        return cost, place


def _least_width(held: list[_Ladder], lowest: NDArray[np.float64]) -> float:
    """The narrowest stretch of rates in which every group has a threshold."""
    ends = np.full(len(lowest), -np.inf)
    for one in held:
        at = np.searchsorted(one.rates, lowest - 1e-12)
        ends = np.maximum(ends, np.append(one.rates, np.inf)[at])
    return float(np.maximum(ends - lowest, 0).min())


def _finer(subject: Subject, grouping: membership.Grouping, settings: ThresholdSettings, held: Held | None, within: float, cost: float) -> float | None:  # fmt: skip
    """How much less the cheapest setting of any thresholds costs, under the same tolerance: every distinct score is tried."""
    if held is None or subject.n > FINER_ROWS:
        return None
    y, w, s = subject.rows.outcome, subject.rows.mass, subject.predictions.required_scores
    rates, costs = [], []
    for g in range(len(grouping.labels)):
        mine = grouping.mask(g)
        order = np.argsort(-s[mine], kind="stable")
        yes, no, scores = (w * y)[mine][order], (w * ~y)[mine][order], s[mine][order]
        last = np.flatnonzero(np.append(np.diff(scores) != 0, True)) if len(scores) else np.zeros(0, int)
        hit, false = (np.concatenate([[0.0], np.cumsum(one)[last]]) for one in (yes, no))
        with np.errstate(invalid="ignore", divide="ignore"):
            share = (hit + false) / (yes.sum() + no.sum())
            rates.append(
                {
                    "true positive rate": hit / yes.sum(),
                    "false positive rate": false / no.sum(),
                    "accuracy": (hit + no.sum() - false) / (yes.sum() + no.sum()),
                    "selection rate": share if subject.spec.favourable == "event" else 1 - share,
                }[held]
            )
        costs.append(
            (settings.false_positive * false + settings.false_negative * (yes.sum() - hit)) / max(w.sum(), 1e-300)
        )
    places, _ = _held_equal(rates, costs, within)
    return max(cost - float(sum(one[place] for one, place in zip(costs, places, strict=True))), 0.0)


def _both_equal(counts: _Counts, costs: NDArray[np.float64], single: NDArray[np.int64]) -> NDArray[np.int64]:
    """Thresholds with the least largest gap of true or false positive rates at the single threshold's selection rate."""
    tpr, fpr, selected = (counts.rate(name) for name in ("true positive rate", "false positive rate", "selection rate"))
    told = np.isfinite(tpr).any(axis=1) & np.isfinite(fpr).any(axis=1)
    share = counts.mass.sum(axis=(1, 2))
    share = share / share.sum()
    at = np.arange(counts.k)
    wanted = float(share @ np.nan_to_num(selected[at, single]))
    best, places = (np.inf, np.inf), single
    if counts.k == 2 and told.all():
        gap = np.maximum(np.abs(tpr[0][:, None] - tpr[1][None, :]), np.abs(fpr[0][:, None] - fpr[1][None, :]))
        near = np.abs(share[0] * selected[0][:, None] + share[1] * selected[1][None, :] - wanted) <= NEAR
        gap = np.where(near, np.round(gap, 9), np.inf)
        least = np.argwhere(gap == gap.min())
        total = costs[0][least[:, 0]] + costs[1][least[:, 1]]
        return least[int(np.argmin(total))]
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
    found: list[FrontierPoint] = []
    least = np.inf
    for allowed in np.linspace(0.005, max(widest, 0.02), FRONTIER):
        places, reached = _held_equal(rates, costs, float(allowed))
        if reached > allowed + 1e-9:
            continue
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


METHOD = Method(
    name="thresholds",
    area="tilt",
    part="thresholds",
    title="Thresholds",
    settings=ThresholdSettings,
    result=ThresholdResult,
    compute=thresholds_of,
    say=say,
    note=(
        "Scores are counted once in thousandths, by group and outcome; a threshold moved redraws from these counts. "
        "Cost: the mean over rows of what their error costs. The least-cost thresholds are the best of all "
        "thousandths. Equal rates: of all settings of thousandths whose rates lie within one point of one another the "
        "cheapest is found exactly; where none lies so near, the tolerance is the least that one has, and this is "
        "said. How much less finer thresholds could cost stands beside each. Both error rates: the least largest gap "
        "of either at the share selected under the least-cost single threshold; for more than two groups as far as a "
        "search found. The frontier is the least cost for each gap allowed. No decision is drawn by lot. Thresholds "
        "that differ by group may be unlawful.\n\n"
        "Estimates on this sheet are of these rows, without intervals; a rule in force is read with intervals under "
        "Groups."
    ),
    main="settings",
    needs=frozenset({"predictions", "outcome"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    address={"false_positive": "fp", "false_negative": "fn"},
    version=2,
)
