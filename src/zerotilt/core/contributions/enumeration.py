"""Shapley values by every coalition: the reference that all other methods are tested against."""

from __future__ import annotations

from math import factorial

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.contributions.game import EVALUATIONS_AT_ONCE, Background, Mixer, Output
from zerotilt.core.predictors import Frame
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work

MOST_PLAYERS = 12


def enumerate_coalitions(
    output: Output, cases: Frame, reference: Background, work: Work | None = None
) -> NDArray[np.float64]:
    """Exact Shapley values (Shapley 1953) of each case against the whole background.

    Returns
    -------
    shape (cases.rows, p), in the order of ``cases.names``; each row sums to the
    output of the case less the mean output of the background.

    Raises
    ------
    Refused : more than 12 features.
    """
    p = len(cases.names)
    if p > MOST_PLAYERS:
        raise Refused(
            f"Enumeration takes up to {MOST_PLAYERS} features; the model has {p}.", todo="Use the sampled method."
        )
    work = work or Work()
    pieces = list(range(cases.rows))
    found = work.spread(_enumerate_one, (Mixer(output, cases, reference.frame), reference, p), pieces, "rows explained")
    return np.array(list(found)).reshape(cases.rows, p)


def _enumerate_one(shared: tuple[Mixer, Background, int], row: int) -> NDArray[np.float64]:
    mixer, reference, p = shared
    known = ((np.arange(2**p)[:, None] >> np.arange(p)) & 1).astype(bool)
    step = max(1, EVALUATIONS_AT_ONCE // reference.rows)
    worth = np.empty(len(known))
    for start in range(0, len(known), step):
        part = known[start : start + step]
        values = mixer(
            np.full(len(part) * reference.rows, row),
            np.tile(np.arange(reference.rows), len(part)),
            np.repeat(part, reference.rows, axis=0),
        )
        worth[start : start + step] = reference.mean(values.reshape(len(part), reference.rows).T)
    return from_worths(worth)


def from_worths(worth: NDArray[np.float64]) -> NDArray[np.float64]:
    """Shapley values of a game given by the worth of every coalition, shape (2**p,); bit j of the index is player j.

    φⱼ = Σ over S without j of |S|! (p − |S| − 1)! / p! · (v(S ∪ j) − v(S)).
    """
    p = int(np.log2(len(worth)))
    coalitions = np.arange(len(worth))
    size = np.array([bin(coalition).count("1") for coalition in coalitions])
    weight = np.array([factorial(s) * factorial(p - s - 1) / factorial(p) if s < p else 0.0 for s in range(p + 1)])
    values = np.empty(p)
    for j in range(p):
        without = coalitions[(coalitions >> j) & 1 == 0]
        values[j] = (weight[size[without]] * (worth[without | (1 << j)] - worth[without])).sum()
    return values
