"""Shapley values of any model from paired permutations, with standard errors and a stopping rule."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.contributions.game import EVALUATIONS_AT_ONCE, Background, Mixer, Output
from zerotilt.core.predictors import Frame
from zerotilt.core.work import Work

PAIRS_AT_ONCE = 32
ROWS_AT_ONCE = 16


class Sampled(NamedTuple):
    values: NDArray[np.float64]
    """Contributions, shape (rows, p)."""
    errors: NDArray[np.float64]
    """Standard errors, shape (rows, p)."""
    pairs: NDArray[np.int64]
    """Pairs of permutations used for each row, shape (rows,)."""
    evaluations: int
    output: NDArray[np.float64]
    """Output of each row, from the same arithmetic as the walks, shape (rows,)."""
    baseline: float


@dataclass(frozen=True)
class Sampling:
    """What every piece of a sampled estimate is given."""

    mixer: Mixer
    p: int
    reference: Background
    at_case: NDArray[np.float64]
    at_background: NDArray[np.float64]
    tolerance: float
    most_pairs: int
    seed: int
    groups: tuple[NDArray[np.int64], ...] | None = None


def sample_permutations(
    output: Output,
    cases: Frame,
    reference: Background,
    tolerance: float,
    most_pairs: int,
    seed: int,
    work: Work | None = None,
    groups: Sequence[Sequence[int]] | None = None,
) -> Sampled:
    """Estimate Shapley values by walking features in random order (Castro, Gómez & Tejada 2009), each order also backwards.

    Each pair of walks starts at one background row z; rows are used in turn in
    a shuffled order. The sum of a walk's steps is f(x) − f(z), whose mean over
    the whole background is known, so it serves as a control variate: the
    estimates add up exactly to f(x) less the baseline.

    Parameters
    ----------
    tolerance : largest standard error wanted, in units of the output. A row is
        finished when all its errors are below it, or after ``most_pairs``.
    seed : each row has a stream of its own, so the result does not depend on
        which other rows are explained with it.
    groups : players by group. Orders then keep each group together, which gives
        Owen values (Owen 1977).
    """
    work = work or Work()
    p, n = len(cases.names), cases.rows
    mixer = Mixer(output, cases, reference.frame)
    at_case, at_background = mixer.of_cases(), mixer.of_others()
    together = None if groups is None else tuple(np.array(group, np.int64) for group in groups)
    shared = Sampling(mixer, p, reference, at_case, at_background, tolerance, most_pairs, seed, together)
    pieces = [(start, min(start + ROWS_AT_ONCE, n)) for start in range(0, n, ROWS_AT_ONCE)]
    values, errors = np.empty((n, p)), np.empty((n, p))
    pairs = np.zeros(n, np.int64)
    done = work.spread(_sample, shared, pieces, "rows explained", [last - first for first, last in pieces])
    for (first, last), part in zip(pieces, done, strict=True):
        values[first:last], errors[first:last], pairs[first:last] = part
    evaluations = n + reference.rows + int(pairs.sum()) * 2 * (p + 1)
    return Sampled(values, errors, pairs, evaluations, at_case, float(reference.mean(at_background)))


def _sample(shared: Sampling, piece: tuple[int, int]):
    first, last = piece
    n, p, b = last - first, shared.p, shared.reference.rows
    expected = shared.at_case[first:last] - shared.reference.mean(shared.at_background)
    streams = [np.random.default_rng([shared.seed, row]) for row in range(first, last)]
    starts = [
        shared.reference.draw(stream, min(shared.most_pairs, b) if shared.reference.even else shared.most_pairs)
        for stream in streams
    ]
    used = np.zeros(n, dtype=np.int64)
    # running sums over pairs: steps d (n, p), their squares, their products with the total T, T and T squared
    sums = {key: np.zeros((n, p)) for key in ("d", "dd", "dt")}
    totals = {key: np.zeros(n) for key in ("t", "tt")}
    active = np.arange(n)
    rows_at_once = max(1, EVALUATIONS_AT_ONCE // (PAIRS_AT_ONCE * 2 * (p + 1)))
    while len(active):
        pairs = min(PAIRS_AT_ONCE, shared.most_pairs - int(used[active[0]]))
        for start in range(0, len(active), rows_at_once):
            block = active[start : start + rows_at_once]
            orders = np.stack([_orders(streams[row], pairs, p, shared.groups) for row in block])
            chosen = np.stack([starts[row][(used[row] + np.arange(pairs)) % len(starts[row])] for row in block])
            steps = _walk(shared, block + first, orders, chosen)
            total = shared.at_case[block + first][:, None] - shared.at_background[chosen]
            sums["d"][block] += steps.sum(axis=1)
            sums["dd"][block] += (steps**2).sum(axis=1)
            sums["dt"][block] += (steps * total[:, :, None]).sum(axis=1)
            totals["t"][block] += total.sum(axis=1)
            totals["tt"][block] += (total**2).sum(axis=1)
        used[active] += pairs
        errors = _estimate(sums, totals, used, expected)[1]
        finished = (errors[active].max(axis=1) <= shared.tolerance) | (used[active] >= shared.most_pairs)
        active = active[~finished]
    values, errors = _estimate(sums, totals, used, expected)
    return values, errors, used


def _orders(stream: np.random.Generator, pairs: int, p: int, groups) -> NDArray[np.int64]:
    """Orders of players, shape (pairs, p); members of a group follow one another."""
    if groups is None:
        return stream.permuted(np.tile(np.arange(p), (pairs, 1)), axis=1)
    out = np.empty((pairs, p), np.int64)
    for i in range(pairs):
        out[i] = np.concatenate([stream.permutation(groups[g]) for g in stream.permutation(len(groups))])
    return out


def _walk(shared: Sampling, block, orders, chosen) -> NDArray[np.float64]:
    """Mean step of each feature over a forward and a backward walk, shape (block, pairs, p)."""
    rows, pairs, p = orders.shape
    place = np.argsort(orders, axis=2)  # when each feature is switched to the case's value
    both = np.stack([orders, orders[:, :, ::-1]], axis=2).reshape(-1, p)
    values = shared.mixer.walks(np.repeat(block, pairs * 2), np.repeat(chosen.reshape(-1), 2), both)
    steps = np.diff(values.reshape(rows, pairs, 2, p + 1), axis=3)
    ahead = np.take_along_axis(steps[:, :, 0], place, axis=2)
    behind = np.take_along_axis(steps[:, :, 1], p - 1 - place, axis=2)
    return (ahead + behind) / 2


def _estimate(sums, totals, used, expected) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Control-variate estimates and their standard errors, both (rows, p)."""
    n = np.maximum(used, 1)[:, None].astype(float)
    mean, total = sums["d"] / n, (totals["t"][:, None]) / n
    spread = totals["tt"][:, None] / n - total**2
    joint = sums["dt"] / n - mean * total
    own = np.maximum(sums["dd"] / n - mean**2, 0)
    p = mean.shape[1]
    flat = spread <= 1e-18
    slope = np.where(flat, 1 / p, joint / np.where(flat, 1, spread))
    values = mean - slope * (total - expected[:, None])
    left = np.where(flat, own, np.maximum(own - slope * joint, 0))
    # one step of common size that was not seen yet: else a feature that matters for few background rows
    # would look exact as long as none of them was drawn
    left = left + own.mean(axis=1, keepdims=True) / n
    return values, np.sqrt(left / np.maximum(n - 1, 1))
