"""Shapley values of any model by weighted least squares over paired coalitions."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.contributions.game import Background, Draws
from zerotilt.core.contributions.sampled import Running, Sampled, Sampling
from zerotilt.core.players import EVALUATIONS_AT_ONCE, Output, players_of
from zerotilt.core.predictors import Frame
from zerotilt.core.work import Work

PAIRS_AT_ONCE = 256


def fit_coalitions(
    output: Output,
    cases: Frame,
    reference: Background,
    tolerance: float,
    most_pairs: int,
    seed: int,
    work: Work | None = None,
) -> Sampled:
    """Estimate Shapley values as the least-squares fit of an additive game (Charnes et al. 1988; Covert & Lee 2021).

    Coalitions are drawn by the kernel's own weights, each with its complement
    and one background row. The matrix of the normal equations is known exactly,
    so the estimate is a mean of independent terms and has a standard error; the
    sum is held to f(x) less the baseline.
    """
    work = work or Work()
    mixer = players_of(output, cases, reference.frame)
    n, p = cases.rows, len(mixer.names)
    at_background = mixer.of_others()
    draws = Draws(reference, at_background)
    shared = Sampling(mixer, p, reference, mixer.of_cases(), at_background, tolerance, most_pairs, seed, draws)
    values, errors, pairs = np.empty((n, p)), np.zeros((n, p)), np.zeros(n, np.int64)
    baseline = float(reference.mean(shared.at_background))
    if p == 1:
        values[:, 0] = shared.at_case - baseline
        return Sampled(values, errors, pairs, n + reference.rows, shared.at_case, baseline, mixer.names)
    for row, part in enumerate(work.spread(_fit, shared, list(range(n)), "rows explained")):
        values[row], errors[row], pairs[row] = part
    return Sampled(
        values, errors, pairs, n + reference.rows + int(pairs.sum()) * 2, shared.at_case, baseline, mixer.names
    )


def _fit(shared: Sampling, row: int):
    p = shared.p
    inverse, sizes = _normal(p)
    ones = inverse.sum(axis=1)
    stream = np.random.default_rng([shared.seed, row])
    running = Running(1, p, shared.at_case[row : row + 1] - shared.reference.mean(shared.at_background))
    step = min(PAIRS_AT_ONCE, max(1, EVALUATIONS_AT_ONCE // 2))
    while True:
        pairs = min(step, shared.most_pairs - int(running.used[0]))
        size = stream.choice(np.arange(1, p), pairs, p=sizes)
        inside = stream.permuted(np.tile(np.arange(p), (pairs, 1)), axis=1) < size[:, None]
        chosen = shared.draws.draw(stream, pairs)
        known = np.concatenate([inside, ~inside])
        worth = shared.mixer(np.full(2 * pairs, row), np.tile(chosen, 2), known)
        # against the pair's own end points, which it adds up to
        worth = worth - np.tile(shared.at_background[chosen], 2)
        total = shared.at_case[row] - shared.at_background[chosen]
        terms = (inside * worth[:pairs, None] + ~inside * worth[pairs:, None]) / 2
        fitted = terms @ inverse
        steps = fitted - (fitted.sum(axis=1) - total)[:, None] * (ones / ones.sum())
        running.add(np.zeros(1, np.intp), steps[None], total[None], shared.draws.weight[chosen][None])
        values, errors = running.estimate()
        if running.used[0] >= shared.most_pairs or errors.max() <= shared.tolerance:
            return values[0], errors[0], int(running.used[0])


def _normal(p: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Inverse of the normal equations' matrix, shape (p, p), and the chance of each coalition size 1 … p − 1."""
    s = np.arange(1, p)
    chance = 1 / (s * (p - s))
    chance = chance / chance.sum()
    both = float((chance * s * (s - 1) / (p * (p - 1))).sum())
    inverse = np.linalg.inv(np.full((p, p), both) + (0.5 - both) * np.eye(p)).astype(np.float64)
    return inverse, np.asarray(chance, np.float64)
