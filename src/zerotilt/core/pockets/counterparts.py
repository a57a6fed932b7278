"""Rows of a place held against the rows elsewhere that are most like them, but for what the place is told by."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core.distance import nearest_placed, space
from zerotilt.core.frozen import Frozen
from zerotilt.core.predictors import Frame
from zerotilt.core.stats import intervals, weighing
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.stats.intervals import Interval

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
MOST_INSIDE, MOST_ELSEWHERE, MOST_OF_LIMIT = 1_000, 10_000, 600
FEW_TWINS = 10
"""Different rows elsewhere under which nothing is said."""


class Counterparts(Frozen):
    """What was recorded of a place's rows, and of the rows elsewhere that are nearest in all features it is not told by."""

    happened: float = Field(description="Mean outcome of the rows inside")
    happened_elsewhere: float = Field(description="Of their counterparts")
    gap: Estimate = Field(description="The first less the second")
    predicted: float = Field(description="Mean output of the rows inside")
    predicted_elsewhere: float
    beyond: Estimate = Field(description="The gap less what the output makes of it")
    p: float | None = Field(description="That nothing is beyond what the output makes of it")
    rows: int
    elsewhere: int = Field(description="Different rows that are counterparts")
    unlike: int = Field(description="Rows inside with none near enough")


def counterparts(
    features: Frame, named: set[str], inside: Bools, among: Bools, outcome: Floats, output: Floats | None, mass: Floats,
    confidence: float, seed: int,
) -> Counterparts | None:  # fmt: skip
    """Matching one to one with replacement (Abadie & Imbens 2006), what the model makes of the rest of each pair's
    unlikeness taken off (their bias correction, 2011, with the model under audit as the regression).

    Pairs farther apart than 99% of the rows elsewhere are from their own nearest are left out. A row that is the counterpart
    of several counts as one when the error is worked out.

    Parameters
    ----------
    features : of n rows. named : columns that the place is told by. inside, among : shape (n,); which rows lie in it, and
        which are read. outcome, output : shape (n,), in one unit; None where nothing is predicted.
    mass : shape (n,); weights. Each counterpart weighs as its row inside does.
    """
    kept = [name for name in features.names if name not in named]
    if output is None or not kept:
        return None
    known = among & np.isfinite(outcome) & np.isfinite(output) & (mass > 0)
    rng = np.random.default_rng(seed)
    own = rng.permutation(np.flatnonzero(inside & known))[:MOST_INSIDE]
    others = rng.permutation(np.flatnonzero(~inside & known))[:MOST_ELSEWHERE]
    if not len(own) or len(others) < FEW_TWINS:
        return None
    frame = Frame({name: features[name] for name in kept})
    where = space(frame.take(others))
    placed = where.place(frame.take(others))
    limit = np.quantile(nearest_placed(where, placed, placed[:MOST_OF_LIMIT], own=True)[0], 0.99)
    far, which = nearest_placed(where, placed, where.place(frame.take(own)))
    near = far <= limit
    twins, rows = others[which[near]], own[near]
    if len(np.unique(twins)) < FEW_TWINS:
        return None
    weights = mass[rows]
    gaps = outcome[rows] - outcome[twins]
    moved = output[rows] - output[twins]
    beyond, p = paired(gaps - moved, weights, twins, confidence)
    return Counterparts(
        happened=float(weighing.mean(outcome[rows], weights)),
        happened_elsewhere=float(weighing.mean(outcome[twins], weights)),
        gap=paired(gaps, weights, twins, confidence)[0],
        predicted=float(weighing.mean(output[rows], weights)),
        predicted_elsewhere=float(weighing.mean(output[twins], weights)),
        beyond=beyond,
        p=p,
        rows=len(rows),
        elsewhere=len(np.unique(twins)),
        unlike=int((~near).sum()),
    )


def paired(gaps: Floats, mass: Floats, twins: NDArray[np.int64], confidence: float) -> tuple[Estimate, float | None]:
    """The weighted mean of differences with its interval, those that share a counterpart summed first (Liang & Zeger 1986).

    Also the two-sided p-value that it is nothing; None where that cannot be told.
    """
    middle = float(weighing.mean(gaps, mass))
    off = np.bincount(np.unique(twins, return_inverse=True)[1], weights=mass * (gaps - middle))
    many = len(off)
    error = float(np.sqrt((off**2).sum() * many / max(many - 1, 1)) / mass.sum())
    span = intervals.mean(middle, error, 0.0, many, confidence) if error > 0 else Interval(*(np.array(middle),) * 3)
    p = float(intervals.tested(span, confidence)) if error > 0 else np.nan
    return estimate(*(float(one) for one in span)), p if np.isfinite(p) else None
