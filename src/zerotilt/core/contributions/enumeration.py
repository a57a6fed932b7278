"""Shapley values by every coalition: the reference that all other methods are tested against."""

from __future__ import annotations

from math import factorial

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.contributions.game import Background, Draws
from zerotilt.core.contributions.sampled import Running, Sampled
from zerotilt.core.players import EVALUATIONS_AT_ONCE, Output, Players, players_of
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
    return np.array([reference.mean(one) for one in _enumerated(output, cases, reference, work)]).reshape(
        cases.rows, -1
    )


def enumerate_against_sample(
    output: Output, cases: Frame, reference: Background, most: int, seed: int, work: Work | None = None
) -> Sampled:
    """Every coalition, against ``most`` rows drawn from the background; the errors are those of the drawing.

    Rows are drawn so that rare ones are met (:class:`~zerotilt.core.contributions.game.Draws`), and the mean
    output of the whole background is known, so that values add up to it.
    """
    n = cases.rows
    ends = players_of(output, cases, reference.frame)
    p = len(ends.names)
    at_case, at_background = ends.of_cases(), ends.of_others()
    draws = Draws(reference, at_background)
    chosen = draws.draw(np.random.default_rng(seed), most)
    few = Background(reference.frame.take(chosen), np.full(most, 1 / most))
    baseline = float(reference.mean(at_background))
    running = Running(n, p, at_case - baseline)
    for row, one in enumerate(_enumerated(output, cases, few, work)):
        total = at_case[row] - at_background[chosen]
        running.add(np.array([row]), one[None], total[None], draws.weight[chosen][None])
    values, errors = running.estimate()
    return Sampled(values, errors, running.used, n * 2**p * most + n + reference.rows, at_case, baseline, ends.names)


def _enumerated(output: Output, cases: Frame, reference: Background, work: Work | None):
    """Of each case its contributions against each background row, shape (background rows, p)."""
    mixer = players_of(output, cases, reference.frame)
    p = len(mixer.names)
    if p > MOST_PLAYERS:
        raise Refused(
            f"Enumeration takes up to {MOST_PLAYERS} features; the model has {p}.", todo="Use the sampled method."
        )
    work = work or Work()
    shared = (mixer, reference.rows, p)
    return work.spread(_enumerate_one, shared, list(range(cases.rows)), "rows explained")


def _enumerate_one(shared: tuple[Players, int, int], row: int) -> NDArray[np.float64]:
    mixer, others, p = shared
    known = ((np.arange(2**p)[:, None] >> np.arange(p)) & 1).astype(bool)
    step = max(1, EVALUATIONS_AT_ONCE // 2**p)
    parts = []
    for start in range(0, others, step):
        part = np.arange(start, min(start + step, others))
        values = mixer(np.full(len(part) * 2**p, row), np.repeat(part, 2**p), np.tile(known, (len(part), 1))).reshape(
            len(part), 2**p
        )
        parts.append(from_worths(values.T).T)
    return np.concatenate(parts)


def from_worths(worth: NDArray[np.float64]) -> NDArray[np.float64]:
    """Shapley values, shape (p, …), of games given by the worth of every coalition, shape (2**p, …).

    Bit j of the index is player j.

    φⱼ = Σ over S without j of |S|! (p − |S| − 1)! / p! · (v(S ∪ j) − v(S)).
    """
    p = int(np.log2(len(worth)))
    coalitions = np.arange(len(worth))
    size = np.array([bin(coalition).count("1") for coalition in coalitions])
    weight = np.array([factorial(s) * factorial(p - s - 1) / factorial(p) if s < p else 0.0 for s in range(p + 1)])
    values = np.empty((p, *worth.shape[1:]))
    for j in range(p):
        without = coalitions[(coalitions >> j) & 1 == 0]
        values[j] = np.tensordot(weight[size[without]], worth[without | (1 << j)] - worth[without], axes=(0, 0))
    return values
