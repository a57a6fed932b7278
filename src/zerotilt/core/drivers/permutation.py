"""Permutation importance: the loss added when columns are shuffled among the rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.drivers.losses import Loss
from zerotilt.core.meaning import Task
from zerotilt.core.players import EVALUATIONS_AT_ONCE
from zerotilt.core.predictors import Frame, Predictor
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work

EVERY_PAIR = 300_000
"""Predictions over all columns up to which every pair of rows is asked."""


class Permuted(NamedTuple):
    value: NDArray[np.float64]
    """Mean added loss of each set of columns, shape (sets,)."""
    error: NDArray[np.float64]
    """Its standard error over rows and shuffles, shape (sets,)."""
    loss: float
    """The loss as is."""
    every_pair: NDArray[np.bool_]
    """Of each set whether all pairs of rows were asked, so that nothing is left to shuffling, shape (sets,)."""


@dataclass(frozen=True)
class _Shared:
    predictor: Predictor
    frame: Frame
    outcome: NDArray
    loss: Loss
    threshold: NDArray[np.float64] | float
    weights: NDArray[np.float64]
    of_class: int | None
    seed: int

    def lost(self, frame: Frame) -> NDArray[np.float64]:
        """The loss of every row, shape (rows,)."""
        return self.lost_of(self.predictor.outputs(frame), self.outcome, self.threshold, self.weights)

    def lost_of(self, outputs, outcome, threshold, weights) -> NDArray[np.float64]:
        kind = kind_of(self.predictor.task)
        if self.of_class is not None:
            outputs, kind, outcome = outputs[:, [self.of_class]], kind_of(Task.binary), outcome == self.of_class
        return kind.lost(self.loss, outcome, outputs, threshold, weights)


def permute(
    predictor: Predictor,
    frame: Frame,
    outcome: NDArray,
    loss: Loss,
    threshold: NDArray[np.float64] | float,
    repeats: int,
    seed: int,
    work: Work,
    weights: NDArray[np.float64] | None = None,
    sets: Sequence[Sequence[str]] | None = None,
    of_class: int | None = None,
) -> Permuted:
    """Importance of each column, or of each set of columns shuffled together (Breiman 2001; Fisher, Rudin & Dominici 2019).

    It is a mean over all pairs of rows, a row that receives and a row that gives
    its values, each by its weight. Where all pairs can be asked (few distinct
    values, or few rows) they are; else ``repeats`` shuffles are a sample of them,
    in which a row gives as often as it weighs. A row counts once by what another's
    value does to it, and once by what its value does to another; the standard
    error is that of the sum of both (Hoeffding 1948), which holds the spread over
    shuffles too; with the first alone, intervals of 95% held in three of four cases.
    Shuffles depend on seed, column names and repeat alone.
    ``of_class``: the loss is of that class against all others.
    """
    w = np.ones(frame.rows) if weights is None else weights
    sets = [(name,) for name in frame.names] if sets is None else [tuple(one) for one in sets]
    shared = _Shared(predictor, frame, outcome, loss, threshold, w, of_class, seed)
    as_is = shared.lost(frame)
    base = float(np.average(as_is, weights=w))
    values = {names: _distinct(frame, names) for names in sets}
    most = max(EVERY_PAIR, 2 * repeats * frame.rows * len(sets)) / max(len(sets), 1)
    every = [len(values[names].first) * frame.rows <= most for names in sets]
    pieces: list[tuple[tuple[str, ...], int | _Distinct]] = []
    for names, whole in zip(sets, every, strict=True):
        pieces += [(names, values[names])] if whole else [(names, repeat) for repeat in range(repeats)]
    found = work.spread(_ask, shared, pieces, "shuffled columns scored")
    value, error = np.zeros(len(sets)), np.empty(len(sets))
    counting = int((w > 0).sum())
    small = np.sqrt(counting / max(counting - 1, 1))
    for j, names in enumerate(sets):
        if every[j]:
            held = values[names]
            lost = next(found)
            more = lost - as_is[:, None]
            share = np.bincount(held.code, w) / w.sum()
            receives, gives = more @ share, (w / w.sum()) @ more
            value[j] = w @ receives / w.sum()
            moved = receives + gives[held.code] - 2 * value[j]
            error[j] = np.sqrt(((w * moved) ** 2).sum()) / w.sum() * small
            continue
        total, share = np.zeros(frame.rows), np.zeros(frame.rows)
        for repeat in range(repeats):
            more = w * (next(found) - as_is)
            giver = _order(shared, names, repeat)  # whose value each row was given
            total += more
            share += w
            np.add.at(total, giver, more)
            np.add.at(share, giver, w)
            value[j] += more.sum() / w.sum() / repeats
        moved = (total - value[j] * share) / repeats
        error[j] = np.sqrt((moved**2).sum()) / w.sum() * small
    for _ in found:  # the last piece is counted once the pieces are asked to end
        pass
    return Permuted(value, error, base, np.array(every))


class _Distinct(NamedTuple):
    """The distinct values of a set of columns: a row of each, and of each row which it holds."""

    first: NDArray[np.int64]
    code: NDArray[np.int64]


def _distinct(frame: Frame, names: Sequence[str]) -> _Distinct:
    code = np.zeros(frame.rows, np.int64)
    for name in names:
        values = frame[name]
        own = np.unique(values if values.dtype.kind == "f" else values.astype(str), return_inverse=True)[1]
        code = np.unique(code * (int(own.max(initial=0)) + 1) + own, return_inverse=True)[1]
    return _Distinct(np.unique(code, return_index=True)[1], code)


def _order(shared: _Shared, names: Sequence[str], repeat: int) -> NDArray[np.int64]:
    """The row each row takes its values from: every row once, or as often as it weighs."""
    rows = shared.frame.rows
    stream = np.random.default_rng([shared.seed, repeat, *"\0".join(names).encode()])
    order = stream.permutation(rows)
    if (shared.weights == shared.weights[0]).all():
        return order
    ends = np.cumsum(shared.weights) / shared.weights.sum()
    givers = np.searchsorted(ends, (np.arange(rows) + stream.random()) / rows, "right")
    return np.minimum(givers, int(np.flatnonzero(shared.weights)[-1]))[order]


def _ask(shared: _Shared, piece: tuple[tuple[str, ...], int | _Distinct]) -> NDArray[np.float64]:
    """The loss of every row: after one shuffle, shape (rows,), or with every distinct value, shape (rows, values)."""
    names, how = piece
    frame = shared.frame
    if isinstance(how, _Distinct):
        return _all_pairs(shared, names, how)
    order = _order(shared, names, how)
    for name in names:
        frame = frame.replace(name, frame[name][order])
    return shared.lost(frame)


def _all_pairs(shared: _Shared, names: tuple[str, ...], held: _Distinct) -> NDArray[np.float64]:
    frame, n, k = shared.frame, shared.frame.rows, len(held.first)
    step = max(1, EVALUATIONS_AT_ONCE // n)
    outputs = []
    for start in range(0, k, step):
        given = held.first[start : start + step]
        wide = frame.take(np.tile(np.arange(n), len(given)))
        for name in names:
            wide = wide.replace(name, np.repeat(frame[name][given], n))
        outputs.append(shared.predictor.outputs(wide))
    cuts = np.tile(np.broadcast_to(shared.threshold, (n,)), k)
    weights = np.tile(shared.weights, k) * np.repeat(np.bincount(held.code, shared.weights), n)
    return shared.lost_of(np.concatenate(outputs), np.tile(shared.outcome, k), cuts, weights).reshape(k, n).T
