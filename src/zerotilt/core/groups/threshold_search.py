"""Thresholds by group that hold rates equal at the least cost."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import membership
from zerotilt.core.groups.threshold_counts import EDGES, Costs, Counts, Rates, Shown, spread_of
from zerotilt.core.groups.threshold_result import (
    FrontierPoint,
    Held,
    ThresholdSettings,
)
from zerotilt.core.meaning import GroupThreshold
from zerotilt.core.subject import Subject

FINER_ROWS = 50_000


"""Rows up to which it is found out how much less thresholds finer than thousandths could cost."""


FRONTIER = 31


NEAR = 0.01


def held_equal(rates: Rates, costs: Costs, within: float) -> tuple[NDArray[np.int64], float]:
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


def cost_of_finer(subject: Subject, grouping: membership.Grouping, settings: ThresholdSettings, held: Held | None, within: float, cost: float) -> float | None:  # fmt: skip
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
    places, _ = held_equal(rates, costs, within)
    return max(cost - float(sum(one[place] for one, place in zip(costs, places, strict=True))), 0.0)


def both_equal(counts: Counts, costs: NDArray[np.float64], single: NDArray[np.int64]) -> NDArray[np.int64]:
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
            gap = max(spread_of(tpr[at, found][told]) or 0.0, spread_of(fpr[at, found][told]) or 0.0)
            score = (round(gap, 9), float(costs[at, found].sum()))
            if score < best:
                best, places = score, found
    return places


def frontier_of(rates: NDArray[np.float64], costs: NDArray[np.float64], shown: Shown) -> tuple[FrontierPoint, ...]:
    """The least cost for every gap that is allowed, from none to what costs least anyway."""
    at = np.arange(len(rates))
    free = costs.argmin(axis=1)
    widest = spread_of(rates[at, free]) or 0.0
    found: list[FrontierPoint] = []
    least = np.inf
    for allowed in np.linspace(0.005, max(widest, 0.02), FRONTIER):
        places, reached = held_equal(rates, costs, float(allowed))
        if reached > allowed + 1e-9:
            continue
        cost = float(costs[at, places].sum())
        if cost > least - 1e-12 and found:
            continue
        least = min(least, cost)
        found.append(
            FrontierPoint(
                allowed=float(allowed),
                gap=spread_of(rates[at, places]) or 0.0,
                cost=cost,
                thresholds=tuple(
                    GroupThreshold(group=label, threshold=float(EDGES[place]))
                    for label, place in zip(shown.grouping.labels, places, strict=True)
                ),
            )
        )
    return tuple(found)
