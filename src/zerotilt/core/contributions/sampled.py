"""Shapley values of any model from paired permutations, with standard errors and a stopping rule."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.contributions.controlled import Running
from zerotilt.core.contributions.game import Background, Draws
from zerotilt.core.players import EVALUATIONS_AT_ONCE, Output, Players, players_of
from zerotilt.core.players.columns import Columns
from zerotilt.core.predictors import Frame
from zerotilt.core.work import Work

PAIRS_AT_ONCE = 32
LEAST_PAIRS = 64
"""Before an error is believed."""
LATER = 1.2
"""Times as many pairs before errors are looked at again, which takes as long as many of them."""
ROWS_AT_ONCE = 16
MOVED = 1e-9
"""Smallest step in a sum that tells how steep the link is."""


class KnownSums(NamedTuple):
    """Shapley values of sums that the output is a link of."""

    values: NDArray[np.float64]
    """Shape (rows, p, sums)."""
    columns: list[int]
    """Which of the model's sums these are."""


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
    names: tuple[str, ...]
    """Of the players."""


@dataclass(frozen=True)
class Sampling:
    """What every piece of a sampled estimate is given."""

    mixer: Players
    p: int
    reference: Background
    at_case: NDArray[np.float64]
    at_background: NDArray[np.float64]
    tolerance: float
    most_pairs: int
    seed: int
    draws: Draws
    groups: tuple[NDArray[np.int64], ...] | None = None
    known: KnownSums | None = None


def sample_permutations(
    output: Output,
    cases: Frame,
    reference: Background,
    tolerance: float,
    most_pairs: int,
    seed: int,
    work: Work | None = None,
    groups: Sequence[Sequence[int]] | None = None,
    known: KnownSums | None = None,
) -> Sampled:
    """Estimate Shapley values by walking features in random order (Castro, Gómez & Tejada 2009), each order also backwards.

    Each pair of walks starts at one background row z, drawn so that rare rows
    are met early (:class:`Draws`). What is known exactly of a walk serves as a
    control variate (:class:`~zerotilt.core.contributions.controlled.Running`):
    the sum of its steps is f(x) − f(z), whose mean over the background is known;
    and where f is a link of a sum, so is each feature's step in that sum.

    Parameters
    ----------
    tolerance : largest standard error wanted, in units of the output. A row is
        finished when all its errors are below it, or after ``most_pairs``.
    seed : each row has a stream of its own, so the result does not depend on
        which other rows are explained with it.
    groups : players by group. Orders then keep each group together, which gives
        Owen values (Owen 1977).
    known : of the sums that the output is a link of, where the players are
        columns that tell them; not with groups.
    """
    work = work or Work()
    mixer = players_of(output, cases, reference.frame)
    p, n = len(mixer.names), cases.rows
    at_case, at_background = mixer.of_cases(), mixer.of_others()
    together = None if groups is None else tuple(np.array(group, np.int64) for group in groups)
    draws = Draws(reference, at_background)
    shared = Sampling(mixer, p, reference, at_case, at_background, tolerance, most_pairs, seed, draws, together, known)
    pieces = [(start, min(start + ROWS_AT_ONCE, n)) for start in range(0, n, ROWS_AT_ONCE)]
    values, errors = np.empty((n, p)), np.empty((n, p))
    pairs = np.zeros(n, np.int64)
    done = work.spread(_sample, shared, pieces, "rows explained", [last - first for first, last in pieces])
    for (first, last), part in zip(pieces, done, strict=True):
        values[first:last], errors[first:last], pairs[first:last] = part
    evaluations = n + reference.rows + int(pairs.sum()) * 2 * (p + 1)
    return Sampled(values, errors, pairs, evaluations, at_case, float(reference.mean(at_background)), mixer.names)


def _sample(shared: Sampling, piece: tuple[int, int]):
    first, last = piece
    n, p = last - first, shared.p
    streams = [np.random.default_rng([shared.seed, row]) for row in range(first, last)]
    known = None if shared.known is None else shared.known.values[first:last]
    running = Running(n, p, shared.at_case[first:last] - shared.reference.mean(shared.at_background), known)
    active = np.arange(n)
    rows_at_once = max(1, EVALUATIONS_AT_ONCE // (PAIRS_AT_ONCE * 2 * (p + 1)))
    due = LEAST_PAIRS
    while len(active):
        pairs = min(PAIRS_AT_ONCE, shared.most_pairs - int(running.used[active[0]]))
        for start in range(0, len(active), rows_at_once):
            block = active[start : start + rows_at_once]
            orders = np.stack([_orders(streams[row], pairs, p, shared.groups) for row in block])
            chosen = np.stack([shared.draws.draw(streams[row], pairs) for row in block])
            steps, of_sums, rise = _walk(shared, block + first, orders, chosen)
            total = shared.at_case[block + first][:, None] - shared.at_background[chosen]
            running.add(block, steps, total, shared.draws.weight[chosen], of_sums, rise)
        used = int(running.used[active[0]])
        if used >= shared.most_pairs:
            break
        if used < due:
            continue
        active = active[running.estimate(active)[1].max(axis=1) > shared.tolerance]
        due = used * LATER
    return *running.estimate(), running.used


def _orders(stream: np.random.Generator, pairs: int, p: int, groups) -> NDArray[np.int64]:
    """Orders of players, shape (pairs, p); members of a group follow one another."""
    if groups is None:
        return stream.permuted(np.tile(np.arange(p), (pairs, 1)), axis=1)
    out = np.empty((pairs, p), np.int64)
    for i in range(pairs):
        out[i] = np.concatenate([stream.permutation(groups[g]) for g in stream.permutation(len(groups))])
    return out


def _walk(
    shared: Sampling, block, orders, chosen
) -> tuple[NDArray[np.float64], NDArray[np.float64] | None, NDArray[np.float64] | None]:
    """Mean step of each feature over a forward and a backward walk, shape (block, pairs, p); in each of the known sums,
    shape (block, pairs, p, sums); and the most that the output rises with the sums in one step, shape (block,).
    """
    rows, pairs, p = orders.shape
    place = np.argsort(orders, axis=2)  # when each feature is switched to the case's value
    both = np.stack([orders, orders[:, :, ::-1]], axis=2).reshape(-1, p)
    cases, others = np.repeat(block, pairs * 2), np.repeat(chosen.reshape(-1), 2)

    def steps_of(values: NDArray) -> NDArray[np.float64]:
        return np.diff(values.reshape(rows, pairs, 2, p + 1), axis=3)

    def mean_of(steps: NDArray[np.float64]) -> NDArray[np.float64]:
        ahead = np.take_along_axis(steps[:, :, 0], place, axis=2)
        behind = np.take_along_axis(steps[:, :, 1], p - 1 - place, axis=2)
        return (ahead + behind) / 2

    if shared.known is None:
        return mean_of(steps_of(shared.mixer.walks(cases, others, both))), None, None
    assert isinstance(shared.mixer, Columns)  # sums are known of columns only
    values, sums = shared.mixer.walks_with_sums(cases, others, both)
    steps = steps_of(values)
    in_sums = [steps_of(sums[:, :, c]) for c in shared.known.columns]
    moved = np.zeros_like(steps)
    for one in in_sums:
        moved += np.abs(one)
    # of single steps: the mean of two may be nought in the sums and not in the output
    rise = np.divide(np.abs(steps), moved, out=np.zeros_like(moved), where=moved > MOVED)
    return mean_of(steps), np.stack([mean_of(one) for one in in_sums], axis=3), rise.max(axis=(1, 2, 3), initial=0.0)
