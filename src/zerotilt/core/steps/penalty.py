"""How far groups' scores are apart, as a smooth penalty, and models that are trained with it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field
from scipy.optimize import minimize
from scipy.special import expit

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.steps.remedy import Control, Remedy

Floats = NDArray[np.float64]
WIDTH = 0.2
"""Of the kernel, in probability."""
FREQUENCIES = 32
"""With which a Gaussian kernel on 0 to 1 is summed to 1e-9."""


@dataclass(frozen=True)
class Penalty:
    """The mean over groups of how far their scores are from those of all rows that count, squared.

    Of means: the squared difference. Of whole distributions: the squared maximum mean discrepancy under a Gaussian kernel
    (Gretton et al. 2012), whose expectation over frequencies is summed by Gauss and Hermite's rule, so that it takes time in
    proportion to rows.
    """

    group: NDArray[np.int64]
    """Shape (n,), −1 for rows that do not count."""
    groups: int
    mass: Floats
    distance: Literal["mean", "kernel"]

    @classmethod
    def of(cls, group: NDArray, among: NDArray[np.bool_], mass: Floats, distance: Literal["mean", "kernel"]) -> Penalty:
        """Of groups by name, among some rows; all of shape (n,)."""
        counts = among & (mass > 0)
        names, inverse = np.unique(np.asarray(group).astype(str)[counts], return_inverse=True)
        place = np.full(len(mass), -1)
        place[counts] = inverse
        return cls(place, len(names), mass, distance)

    def __call__(self, chance: Floats) -> tuple[float, Floats]:
        """The penalty of probabilities, shape (n,), and its derivative by each."""
        counts = np.flatnonzero(self.group >= 0)
        slope = np.zeros(len(chance))
        if self.groups < 2:
            return 0.0, slope
        g, w, p = self.group[counts], self.mass[counts], chance[counts]
        own = np.bincount(g, w, self.groups)
        # what each row weighs in its group's mean, and in that of all
        here, there = w / own[g], w / w.sum()
        found = 0.0
        for value, derivative, share in self._features(p):
            apart = np.bincount(g, value * here, self.groups) - (value * there).sum()
            found += share * (apart**2).mean()
            slope[counts] += 2 * share / self.groups * (apart[g] * here - apart.sum() * there) * derivative
        return float(found), slope

    def _features(self, p: Floats):
        if self.distance == "mean":
            yield p, 1.0, 1.0
            return
        nodes, weights = np.polynomial.hermite.hermgauss(2 * FREQUENCIES)
        for node, weight in zip(nodes[FREQUENCIES:], weights[FREQUENCIES:], strict=True):
            frequency, share = np.sqrt(2) * node / WIDTH, 2 * weight / np.sqrt(np.pi)
            cosine, sine = np.cos(frequency * p), np.sin(frequency * p)
            yield cosine, -frequency * sine, share
            yield sine, frequency * cosine, share


def _loss(margin: Floats, event: NDArray[np.bool_], mass: Floats, penalty: Penalty, weight: float):
    """Mean log loss plus the weighed penalty, and the derivative by each margin."""
    p = expit(margin)
    whole = mass.sum()
    loss = (mass * (np.logaddexp(0, margin) - event * margin)).sum() / whole
    slope = mass * (p - event) / whole
    if weight:
        gap, by_chance = penalty(p)
        loss, slope = loss + weight * gap, slope + weight * by_chance * p * (1 - p)
    return loss, slope


def logistic(
    x: Floats, event: NDArray[np.bool_], mass: Floats, penalty: Penalty, weight: float, ridge: float
) -> tuple[Floats, float]:
    """Coefficients, shape (p,), and intercept of a logistic model trained with a penalty on the gap.

    The mean log loss, half of ``ridge`` times the squared coefficients over the rows' mass, and ``weight`` times the penalty;
    without the last it is the plain ridge-penalised logistic model. A penalty can have several valleys: it is begun at the
    plain model.
    """
    shrink = ridge / mass.sum()

    def loss(theta: Floats, penalised: float):
        value, slope = _loss(x @ theta[:-1] + theta[-1], event, mass, penalty, penalised)
        value += shrink * (theta[:-1] ** 2).sum() / 2
        return value, np.append(x.T @ slope + shrink * theta[:-1], slope.sum())

    theta = _least(partial(loss, penalised=0.0), np.zeros(x.shape[1] + 1), 2_000, 1e-8)
    if weight:
        theta = _least(partial(loss, penalised=weight), theta, 2_000, 1e-8)
    return theta[:-1], float(theta[-1])


def network(
    x: Floats,
    event: NDArray[np.bool_],
    mass: Floats,
    penalty: Penalty,
    weight: float,
    ridge: float,
    units: int,
    seed: int,
) -> tuple[list[Floats], list[Floats]]:
    """Weights and intercepts of a network with one layer of rectified units, trained with a penalty on the gap.

    Begun at random as Glorot & Bengio (2010) propose; without the penalty it is the network that full-batch L-BFGS finds.

    Returns
    -------
    Weights of shapes (p, units) and (units, 1), intercepts of shapes (units,) and (1,).
    """
    rng, shapes = np.random.RandomState(seed), [(x.shape[1], units), (units, 1)]
    weights, cuts = [], []
    for into, out in shapes:
        bound = np.sqrt(6 / (into + out))
        weights.append(rng.uniform(-bound, bound, (into, out)))
        cuts.append(rng.uniform(-bound, bound, out))
    ends = np.cumsum([one.size for one in (*weights, *cuts)])[:-1]

    def apart(theta: Floats) -> tuple[Floats, Floats, Floats, Floats]:
        a, b, c, d = np.split(theta, ends)
        return a.reshape(shapes[0]), b.reshape(shapes[1]), c, d

    def loss(theta: Floats):
        a, b, c, d = apart(theta)
        before = x @ a + c
        hidden = np.maximum(before, 0)
        value, slope = _loss(hidden @ b[:, 0] + d[0], event, mass, penalty, weight)
        value += ridge / len(x) * ((a**2).sum() + (b**2).sum()) / 2
        back = np.outer(slope, b[:, 0]) * (before > 0)
        return value, np.concatenate(
            [
                (x.T @ back + ridge / len(x) * a).ravel(),
                (hidden.T @ slope[:, None] + ridge / len(x) * b).ravel(),
                back.sum(axis=0),
                [slope.sum()],
            ]
        )

    a, b, c, d = apart(_least(loss, np.concatenate([one.ravel() for one in (*weights, *cuts)]), 300, 1e-4))
    return [a, b], [c, d]


def _least(loss: Callable[[Floats], tuple[float, Floats]], start: Floats, rounds: int, slope: float) -> Floats:
    """Where a loss is least (L-BFGS, Liu & Nocedal 1989)."""
    return minimize(
        loss,
        start,
        jac=True,
        method="L-BFGS-B",
        options={"maxiter": rounds, "maxfun": 15_000, "gtol": slope, "ftol": 1e-13},
    ).x


class GapPenalty(Frozen):
    """Trained with a penalty on the distance between what groups' scores are."""

    by: str = Field(max_length=500, description="Column that makes the groups")
    weight: float = Field(default=1.0, ge=0, le=1e4, description="0 is the plain model")
    distance: Literal["mean", "kernel"] = Field(
        default="mean", description="Of groups' mean scores, or of their whole distributions (Gretton et al. 2012)"
    )
    rows: Literal["all", "event", "no event"] = Field(
        default="all", description="Whose scores: of all, or of those whose outcome is the event, or is not"
    )


def _said(asked: GapPenalty) -> str:
    whose = {"all": "all rows", "event": "rows with the event", "no event": "rows without the event"}[asked.rows]
    of = "mean scores" if asked.distance == "mean" else "distributions of scores"
    return f"a penalty of {asked.weight:g} on how far {of} of {words.title(asked.by)} are apart, among {whose}"


REMEDY = Remedy(
    name="penalise",
    title="a penalty on the gap",
    where="training",
    settings=GapPenalty | None,
    nothing=None,
    said=_said,
    does="The model is trained to lose less, and to keep groups' scores together: a penalty on their mean difference, or on the "
    "distance of their distributions (Gretton et al. 2012).",
    assumes="It takes for granted that alike scores are right: among rows with the event it asks for alike true positive rates, "
    "among the others for alike false positive rates.",
    hurts="It can lower the better-off group instead of raising the other, so read both.",
    law="The group is used in training and not when it is decided; where the law looks at effects, the other group's loss counts as "
    "well.",
    written="penalise = { by, weight, distance, rows }",
    of="event",
    by=lambda asked: asked.by,
    estimators=frozenset({"linear model", "small network"}),
    against=("constrain",),
    form={
        "by": Control("gap kept small by a penalty, in", "groups"),
        "weight": Control("weight, or several", "number", several=True, usual="1"),
        "distance": Control("on the distance of", {"mean": "mean scores", "kernel": "whole distributions"}),
        "rows": Control(
            "among", {"all": "all rows", "event": "rows with the event", "no event": "rows without the event"}
        ),
    },
)
