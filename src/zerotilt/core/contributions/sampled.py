"""Shapley values of any model from paired permutations, with standard errors and a stopping rule."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.contributions.game import Background, Draws
from zerotilt.core.players import EVALUATIONS_AT_ONCE, Output, Players, players_of
from zerotilt.core.predictors import Frame
from zerotilt.core.work import Work

PAIRS_AT_ONCE = 32
LEAST_PAIRS = 64
"""Before an error is believed."""
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

    Each pair of walks starts at one background row z, drawn so that rare rows
    are met early (:class:`Draws`). The sum of a walk's steps is f(x) − f(z),
    whose mean over the whole background is known, so it serves as a control
    variate: the estimates add up exactly to f(x) less the baseline.

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
    mixer = players_of(output, cases, reference.frame)
    p, n = len(mixer.names), cases.rows
    at_case, at_background = mixer.of_cases(), mixer.of_others()
    together = None if groups is None else tuple(np.array(group, np.int64) for group in groups)
    draws = Draws(reference, at_background)
    shared = Sampling(mixer, p, reference, at_case, at_background, tolerance, most_pairs, seed, draws, together)
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
    running = Running(n, p, shared.at_case[first:last] - shared.reference.mean(shared.at_background))
    active = np.arange(n)
    rows_at_once = max(1, EVALUATIONS_AT_ONCE // (PAIRS_AT_ONCE * 2 * (p + 1)))
    while len(active):
        pairs = min(PAIRS_AT_ONCE, shared.most_pairs - int(running.used[active[0]]))
        for start in range(0, len(active), rows_at_once):
            block = active[start : start + rows_at_once]
            orders = np.stack([_orders(streams[row], pairs, p, shared.groups) for row in block])
            chosen = np.stack([shared.draws.draw(streams[row], pairs) for row in block])
            steps = _walk(shared, block + first, orders, chosen)
            total = shared.at_case[block + first][:, None] - shared.at_background[chosen]
            running.add(block, steps, total, shared.draws.weight[chosen])
        errors = running.estimate()[1]
        finished = (errors[active].max(axis=1) <= shared.tolerance) & (running.used[active] >= LEAST_PAIRS)
        active = active[~finished & (running.used[active] < shared.most_pairs)]
    return *running.estimate(), running.used


class Running:
    """Estimates of contributions of n rows from one background row after the other.

    Terms are y = r·d, with d the steps of one draw and r its weight. Two means
    are known, of r (one) and of r·t, t the sum of a draw's steps: both serve as
    control variates, so that the estimates add up exactly to f(x) less the
    baseline (Lavenberg & Welch 1981).
    """

    def __init__(self, n: int, p: int, expected: NDArray[np.float64]):
        self.used = np.zeros(n, np.int64)
        self._expected = expected[:, None]
        self._sums = {key: np.zeros((n, p)) for key in ("y", "yy", "yr", "yt")}
        self._known = {key: np.zeros((n, 1)) for key in ("r", "t", "rr", "rt", "tt")}
        self._largest = np.zeros((n, 1))

    def add(self, rows: NDArray[np.intp], steps: NDArray, totals: NDArray, weights: NDArray) -> None:
        """``steps``: shape (rows, draws, p); ``totals``, ``weights``: (rows, draws)."""
        y, r, t = steps * weights[:, :, None], weights, weights * totals
        for key, value in (("y", y), ("yy", y * y), ("yr", y * r[:, :, None]), ("yt", y * t[:, :, None])):
            self._sums[key][rows] += value.sum(axis=1)
        for key, value in (("r", r), ("t", t), ("rr", r * r), ("rt", r * t), ("tt", t * t)):
            self._known[key][rows] += value.sum(axis=1, keepdims=True)
        middle = np.divide(self._sums["y"], np.maximum(self._known["r"], 1e-300))[rows]
        off = np.abs(steps - middle[:, None, :]).max(axis=(1, 2), initial=0.0)[:, None]
        self._largest[rows] = np.maximum(self._largest[rows], off)
        self.used[rows] += steps.shape[1]

    def estimate(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Values and their standard errors, both (n, p)."""
        n = np.maximum(self.used, 1)[:, None].astype(float)
        y, r, t = self._sums["y"] / n, self._known["r"] / n, self._known["t"] / n
        yy, yr, yt = (self._sums[key] / n - y * mean for key, mean in (("yy", y), ("yr", r), ("yt", t)))
        rr, rt, tt = (self._known[key] / n - a * b for key, a, b in (("rr", r, r), ("rt", r, t), ("tt", t, t)))
        flat = tt <= 1e-18 * np.maximum(self._known["tt"] / n, 1e-300)
        by_total = np.where(flat, 1 / y.shape[1], yt / np.where(flat, 1, tt))
        # what r tells beyond the total
        shared = np.where(flat, 0.0, rt / np.where(flat, 1, tt))
        alone, joint = rr - shared * rt, yr - by_total * rt
        idle = flat | (alone <= 1e-9)
        by_weight = np.where(idle, 0.0, joint / np.where(idle, 1, alone))
        values = y - by_total * (t - self._expected) - by_weight * ((r - 1) - shared * (t - self._expected))
        left = np.maximum(np.where(flat, yy, yy - by_total * yt - by_weight * joint), 0)
        # one step as large as any seen, in a draw that was not seen yet: else a feature that matters for few
        # background rows would look exact as long as none of them was drawn
        left = left + self._largest**2 / n
        return values, np.sqrt(left / np.maximum(n - 3, 1))


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
