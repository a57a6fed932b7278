"""Shapley values of any model from paired permutations, with standard errors and a stopping rule."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.contributions.game import EVALUATIONS_AT_ONCE, Output, mixed
from zerotilt.core.predictors import Frame
from zerotilt.core.work import Work

PAIRS_AT_ONCE = 32


class Sampled(NamedTuple):
    values: NDArray[np.float64]
    """Contributions, shape (rows, p)."""
    errors: NDArray[np.float64]
    """Standard errors, shape (rows, p)."""
    pairs: NDArray[np.int64]
    """Pairs of permutations used for each row, shape (rows,)."""
    evaluations: int


def sample_permutations(
    output: Output,
    cases: Frame,
    background: Frame,
    tolerance: float,
    most_pairs: int,
    seed: int,
    work: Work | None = None,
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
    """
    work = work or Work()
    p, n, b = len(cases.names), cases.rows, background.rows
    at_case, at_background = output(cases), output(background)
    expected = at_case - at_background.mean()
    evaluations = n + b
    streams = [np.random.default_rng([seed, row]) for row in range(n)]
    starts = [stream.permutation(b) for stream in streams]
    used = np.zeros(n, dtype=np.int64)
    # running sums over pairs: steps d (n, p), their squares, their products with the total T, T and T squared
    sums = {key: np.zeros((n, p)) for key in ("d", "dd", "dt")}
    totals = {key: np.zeros(n) for key in ("t", "tt")}
    active = np.arange(n)
    rows_at_once = max(1, EVALUATIONS_AT_ONCE // (PAIRS_AT_ONCE * 2 * max(p - 1, 1)))
    work.begin(n * most_pairs, "walks over the features")
    while len(active):
        pairs = min(PAIRS_AT_ONCE, most_pairs - int(used[active[0]]))
        for first in range(0, len(active), rows_at_once):
            block = active[first : first + rows_at_once]
            orders = np.stack([streams[row].permuted(np.tile(np.arange(p), (pairs, 1)), axis=1) for row in block])
            chosen = np.stack([starts[row][(used[row] + np.arange(pairs)) % b] for row in block])
            steps = _walk(output, cases, background, block, orders, chosen, at_case, at_background)
            evaluations += len(block) * pairs * 2 * (p - 1)
            total = at_case[block][:, None] - at_background[chosen]
            sums["d"][block] += steps.sum(axis=1)
            sums["dd"][block] += (steps**2).sum(axis=1)
            sums["dt"][block] += (steps * total[:, :, None]).sum(axis=1)
            totals["t"][block] += total.sum(axis=1)
            totals["tt"][block] += (total**2).sum(axis=1)
            work.advance(len(block) * pairs)
        used[active] += pairs
        errors = _estimate(sums, totals, used, expected)[1]
        work.expect(int(_pairs_expected(errors, used, tolerance, most_pairs).sum()))
        finished = (errors[active].max(axis=1) <= tolerance) | (used[active] >= most_pairs)
        active = active[~finished]
    values, errors = _estimate(sums, totals, used, expected)
    return Sampled(values, errors, used, evaluations)


def _pairs_expected(errors, used, tolerance: float, most_pairs: int) -> NDArray[np.float64]:
    """Pairs each row will need: errors shrink with the root of their number."""
    wanted = used * (errors.max(axis=1) / tolerance) ** 2 if tolerance > 0 else np.full(len(used), most_pairs)
    return np.clip(np.ceil(wanted / PAIRS_AT_ONCE) * PAIRS_AT_ONCE, used, most_pairs)


def _walk(output, cases, background, block, orders, chosen, at_case, at_background) -> NDArray[np.float64]:
    """Mean step of each feature over a forward and a backward walk, shape (block, pairs, p)."""
    rows, pairs, p = orders.shape
    place = np.argsort(orders, axis=2)  # when each feature is switched to the case's value
    lengths = np.arange(1, p)
    forward = place[:, :, None, :] < lengths[:, None]
    backward = (p - 1 - place)[:, :, None, :] < lengths[:, None]
    known = np.stack([forward, backward], axis=2).reshape(-1, p)
    values = mixed(
        output,
        cases,
        background,
        np.repeat(block, pairs * 2 * (p - 1)),
        np.repeat(chosen.reshape(-1), 2 * (p - 1)),
        known,
    ).reshape(rows, pairs, 2, p - 1)
    ends = np.broadcast_to(at_case[block][:, None, None, None], (rows, pairs, 2, 1))
    begins = np.broadcast_to(at_background[chosen][:, :, None, None], (rows, pairs, 2, 1))
    steps = np.diff(np.concatenate([begins, values, ends], axis=3), axis=3)
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
    return values, np.sqrt(left / np.maximum(n - 1, 1))
