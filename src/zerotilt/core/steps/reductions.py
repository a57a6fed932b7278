"""Training under limits on groups' rates, by training the same estimator again and again with other labels and weights."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field
from scipy.optimize import linprog

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.steps.remedy import Control, Remedy

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
BOUND = 1.0
"""Of all multipliers together: what a decision costs lies between 0 and 1, so that no limit is ever worth more."""
STEP = 1.5
"""How far multipliers move, on the scale of their logarithm, for the gap of the plain model."""
MIXED = 8
"""Models whose scores are mixed into one rule at most, beyond the first."""
PARTS = (0.01, 0.02, 0.05, 0.1, 0.15, 0.2, 0.3, 0.4, 0.5, 0.7)
"""Shares with which a model is mixed in."""


@dataclass(frozen=True)
class Limits:
    """Of some rates, each group's less that of all rows: a matrix that turns decisions into differences.

    ``rows``: shape (differences, n); its product with decisions (1 or 0), shape (n,), is each group's rate less the rate of
    all. ``names``: rate and group of each.
    """

    rows: Floats
    names: tuple[tuple[str, str], ...]

    @classmethod
    def of(cls, rates: Sequence[str], event: Bools, group: NDArray, mass: Floats) -> Limits:
        """Selection rates are among all rows, true positive rates among events, false positive rates among the others."""
        among = {
            "selection rate": np.ones(len(event), bool),
            "true positive rate": event,
            "false positive rate": ~event,
        }
        found, names = [], []
        labels = np.asarray(group).astype(str)
        for rate in rates:
            all_of = among[rate] * mass
            for name in np.unique(labels):
                own = all_of * (labels == name)
                if own.sum() > 0:
                    found.append(own / own.sum() - all_of / all_of.sum())
                    names.append((rate, str(name)))
        return cls(np.array(found).reshape(len(found), len(event)), tuple(names))

    def largest(self, decided: NDArray) -> float:
        """How far the farthest group is from all."""
        return float(np.abs(self.rows @ decided).max(initial=0.0))


@dataclass(frozen=True)
class Reduced:
    """Which of the models that were trained are kept, with what share of the score each has."""

    kept: tuple[int, ...]
    shares: tuple[float, ...]
    error: float
    """Cost of the decisions on the rows that were trained on."""
    largest: float
    """How far the farthest group is from all on the rows that were trained on."""
    by_lot_error: float
    """Of the best rule that draws which model decides."""
    by_lot_largest: float
    trained: int


def reduce(
    train: Callable[[Bools, Floats], Floats],
    event: Bools,
    mass: Floats,
    limits: Limits,
    tolerance: float,
    threshold: float,
    rounds: int,
) -> Reduced:
    """Exponentiated gradient (Agarwal, Beygelzimer, Dudík, Langford & Wallach 2018), ending with one rule without lots.

    The paper's solution draws for every case which model decides, so that two people who are alike can be decided apart. The
    same models serve here for a rule that does not: an average of their scores, of least cost among those that were tried
    whose decisions on the training rows meet the tolerance; where none does, the one that comes nearest. What lots would have reached is told beside it.

    A false positive costs the threshold and a missed event the rest, which is what deciding at the threshold takes for
    granted; a row's weight makes up for it, so that with limits that bind nothing the plain model comes back.

    Parameters
    ----------
    train : trains with labels and weights, shape (n,), and returns scores of the rows, shape (n,).
    event, mass : shape (n,). threshold : the score from which on the decision is the event.
    """
    share = mass / mass.sum()
    plain = np.where(event, -(1 - threshold), threshold) * share
    """What deciding for the event costs, each row."""
    back = np.where(event, threshold, 1 - threshold)
    count = len(limits.rows)
    theta, step = np.zeros(2 * count), 0.0
    scores: list[Floats] = []
    decided: list[Bools] = []
    for turn in range(rounds):
        weights = np.exp(theta - max(theta.max(initial=0.0), 0.0))
        lagrange = BOUND * weights / (np.exp(-max(theta.max(initial=0.0), 0.0)) + weights.sum())
        cost = plain + (lagrange[:count] - lagrange[count:]) @ limits.rows
        label = cost < 0
        # the same turn of the scale for both labels: at the threshold the two costs are alike
        weight = np.abs(cost) * np.where(label, threshold, 1 - threshold)
        if label.all() or not label.any() or not weight.any():
            theta *= 0.5
            if turn:
                continue
            label, weight = event, back * np.abs(plain)
        found = train(label, weight * len(event) / weight.sum())
        scores.append(found)
        decided.append(found >= threshold)
        off = limits.rows @ decided[-1]
        if turn == 0:
            if limits.largest(decided[0]) <= tolerance:
                break
            step = STEP / float(np.abs(off).max())
        theta = theta + step / np.sqrt(turn + 1) * np.concatenate([off - tolerance, -off - tolerance])
    costs = np.array([_cost(one, event, share, threshold) for one in decided])
    offs = np.array([limits.rows @ one for one in decided]).reshape(len(decided), count)
    by_lot = _by_lot(costs, offs, tolerance)
    return _one_rule(scores, decided, costs, offs, event, share, limits, tolerance, threshold, by_lot)


def _cost(decided: NDArray, event: Bools, share: Floats, threshold: float) -> float:
    return float((share * np.where(event, (1 - threshold) * ~decided, threshold * decided)).sum())


def _by_lot(costs: Floats, offs: Floats, tolerance: float) -> Floats:
    """Shares of the models in the best rule by lots (a linear programme over the models that were trained)."""
    count, many = offs.shape[1], len(costs)
    # a slack that costs far more than any error: where the tolerance cannot be met it comes as near as it can
    cost = np.append(costs, 1e3)
    above = np.block([[offs.T, -np.ones((count, 1))], [-offs.T, -np.ones((count, 1))]]) if count else None
    found = linprog(
        cost,
        A_ub=above,
        b_ub=np.full(2 * count, tolerance) if count else None,
        A_eq=np.append(np.ones(many), 0.0)[None],
        b_eq=[1.0],
        bounds=(0, None),
    )
    return found.x[:-1]


def _one_rule(scores, decided, costs, offs, event, share, limits, tolerance, threshold, by_lot) -> Reduced:
    """Begun at each model and at the shares of the lots, a model's score is mixed in for as long as that helps most."""
    many = np.array(scores)

    def told(shares: Floats) -> tuple[float, float]:
        rule = shares @ many >= threshold
        return limits.largest(rule), _cost(rule, event, share, threshold)

    def merit(found: tuple[float, float]) -> tuple[float, float]:
        return max(found[0] - tolerance, 0.0), found[1]

    corners = np.eye(len(many))
    begun = [min(corners, key=lambda one: merit(told(one))), by_lot / by_lot.sum()]
    best = min((_mixed(one, corners, lambda one: merit(told(one))) for one in begun), key=lambda one: merit(told(one)))
    largest, error = told(best)
    kept = np.flatnonzero(best > 0)
    return Reduced(
        kept=tuple(int(one) for one in kept),
        shares=tuple(float(best[one]) for one in kept),
        error=error,
        largest=largest,
        by_lot_error=float(by_lot @ costs),
        by_lot_largest=float(np.abs(by_lot @ offs).max(initial=0.0)),
        trained=len(scores),
    )


def _mixed(shares: Floats, corners: Floats, merit: Callable[[Floats], tuple[float, float]]) -> Floats:
    """Shares into which one more model is mixed for as long as that helps."""
    for _ in range(MIXED):
        tries = [(1 - part) * shares + part * corner for corner in corners for part in PARTS]
        better = min(tries, key=merit)
        if merit(better) >= merit(shares):
            break
        shares = better
    return shares


Rate = Literal["selection rate", "true positive rate", "false positive rate"]


class Constraint(Frozen):
    """Trained so that no group's rate is farther than a tolerance from that of all (Agarwal et al. 2018)."""

    by: str = Field(max_length=500, description="Column that makes the groups")
    rates: tuple[Rate, ...] = Field(default=("selection rate",), min_length=1, max_length=3)
    tolerance: float = Field(default=0.02, ge=0.001, le=1)
    rounds: int = Field(default=12, ge=2, le=60, description="Models trained at most")


def _said(asked: Constraint) -> str:
    return (
        f"trained so that the {words.listing(list(asked.rates))} of no {words.title(asked.by)} is more than "
        f"{asked.tolerance * 100:g} points from that of all"
    )


REMEDY = Remedy(
    name="constrain",
    title="limits on the gap",
    where="training",
    settings=Constraint | None,
    nothing=None,
    said=_said,
    does="The same estimator is trained again and again with other labels and weights, until no group's rate is farther from that "
    "of all than the tolerance (Agarwal et al. 2018). It holds on the rows that it was trained on; how far it holds elsewhere is "
    "read on the folds.",
    assumes="It takes for granted that groups' rates should be that near. Scores are costs, no longer chances: read decisions at "
    "the audit's threshold. One rule decides, without lots, so that two people who are alike are decided alike.",
    hurts="Some of the better-off group pay.",
    law="Where the law forbids to decide by a group, to train by it may be forbidden, too.",
    written="constrain = { by, rates, tolerance, rounds }",
    of="event",
    by=lambda asked: asked.by,
    weighs=True,
    against=("penalise",),
    form={
        "by": Control("gap kept small by limits, in", "groups"),
        "rates": Control(
            "of the",
            {
                "selection rate": "selection rate",
                "true positive rate": "true positive rate",
                "false positive rate": "false positive rate",
                "true positive rate|false positive rate": "true and false positive rate",
            },
        ),
        "tolerance": Control("tolerance in points", "number", scale=100, several=True, usual="2"),
    },
)
