"""Permutation importance: the loss added when columns are shuffled among the rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.drivers.exchanged import Exchange
from zerotilt.core.drivers.losses import Loss
from zerotilt.core.meaning import Task
from zerotilt.core.players import EVALUATIONS_AT_ONCE
from zerotilt.core.predictors import Frame, Predictor
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work

RANKS = "auc"
"""The loss of which a row's part depends on all the others' outputs."""
EVERY_PAIR = 300_000
"""Predictions over all columns up to which every pair of rows is asked."""
EVERY_PAIR_OF_SUM, PAIRS_AT_ONCE = 60_000_000, 6_000_000
"""The same of a model that is a sum, over all columns and for one of them."""


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
    exchange: Exchange | None
    """Outputs from the model's structure, where that gives its own; else the model is run again."""

    @cached_property
    def as_is(self) -> NDArray[np.float64]:
        """The loss of every row from the arithmetic in which columns are exchanged, shape (rows,)."""
        own = self.predictor.outputs(self.frame) if self.exchange is None else self.exchange.own
        return self.lost_of(own, self.outcome, self.threshold, self.weights)

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
    its values, each by its weight. Where all pairs can be asked (few values that
    the model tells apart, or few rows) they are; else ``repeats`` shuffles are a sample of them,
    in which a row gives as often as it weighs. A row counts once by what another's
    value does to it, and once by what its value does to another; the standard
    error is that of the sum of both (Hoeffding 1948), which holds the spread over
    shuffles too; with the first alone, intervals of 95% held in three of four cases.
    Shuffles depend on seed, column names and repeat alone.
    ``of_class``: the loss is of that class against all others.
    """
    w = np.ones(frame.rows) if weights is None else weights
    sets = [(name,) for name in frame.names] if sets is None else [tuple(one) for one in sets]
    exchange = Exchange.of(predictor, frame)
    shared = _Shared(predictor, frame, outcome, loss, threshold, w, of_class, seed, exchange)
    base = float(np.average(shared.lost(frame), weights=w))
    kinds = {names: _Kinds(*exchange.givers(names)) if exchange else _distinct(frame, names) for names in sets}
    every = _affordable([len(kinds[names].first) * frame.rows for names in sets], repeats * frame.rows, bool(exchange))
    pieces: list[tuple[tuple[str, ...], int | _Kinds]] = []
    for names, whole in zip(sets, every, strict=True):
        pieces += [(names, kinds[names])] if whole else [(names, repeat) for repeat in range(repeats)]
    found = work.spread(_ask, shared, pieces, "exchanged columns scored")
    value, error = np.zeros(len(sets)), np.empty(len(sets))
    counting = int((w > 0).sum())
    small = np.sqrt(counting / max(counting - 1, 1))
    for j, names in enumerate(sets):
        if every[j]:
            receives, gives = next(found)
            value[j] = w @ receives / w.sum()
            moved = receives + gives[kinds[names].code] - 2 * value[j]
            error[j] = np.sqrt(((w * moved) ** 2).sum()) / w.sum() * small
            continue
        total, share = np.zeros(frame.rows), np.zeros(frame.rows)
        for repeat in range(repeats):
            more = w * (next(found) - shared.as_is)
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


def _affordable(pairs: list[int], shuffles: int, of_sum: bool) -> list[bool]:
    """Of each set of columns whether every pair of rows is asked, which makes so many predictions."""
    if not of_sum:
        return [one <= max(EVERY_PAIR, 2 * shuffles * len(pairs)) / max(len(pairs), 1) for one in pairs]
    return [one <= min(EVERY_PAIR_OF_SUM / max(len(pairs), 1), PAIRS_AT_ONCE) for one in pairs]


class _Kinds(NamedTuple):
    """The values of a set of columns that give alike: a row of each kind, and of each row its kind."""

    first: NDArray[np.int64]
    code: NDArray[np.int64]


def _distinct(frame: Frame, names: Sequence[str]) -> _Kinds:
    code = np.zeros(frame.rows, np.int64)
    for name in names:
        values = frame[name]
        own = np.unique(values, return_inverse=True)[1] if values.dtype.kind == "f" else frame.distinct(name).codes
        code = np.unique(code * (int(own.max(initial=0)) + 1) + own, return_inverse=True)[1]
    return _Kinds(np.unique(code, return_index=True)[1], code)


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


def _ask(shared: _Shared, piece: tuple[tuple[str, ...], int | _Kinds]):
    """After one shuffle the loss of every row, shape (rows,); or the loss that all pairs of rows add, by the row that
    receives, shape (rows,), and by the kind that gives, shape (kinds,).
    """
    names, how = piece
    if isinstance(how, _Kinds):
        return _all_pairs(shared, names, how)
    order = _order(shared, names, how)
    if shared.exchange is not None:
        outputs = shared.exchange.shuffled(names, order)
        return shared.lost_of(outputs, shared.outcome, shared.threshold, shared.weights)
    frame = shared.frame
    for name in names:
        frame = frame.replace(name, frame[name][order])
    return shared.lost(frame)


def _all_pairs(shared: _Shared, names: tuple[str, ...], held: _Kinds) -> tuple[NDArray, NDArray]:
    n, k, w = shared.frame.rows, len(held.first), shared.weights
    if shared.exchange is None:
        outputs = _asked_again(shared, names, held.first).reshape(k, n, -1)
    else:
        outputs = shared.exchange.given(names, held.first)
    mass = np.bincount(held.code, w)
    if shared.loss == RANKS:
        cuts = np.tile(np.broadcast_to(shared.threshold, (n,)), k)
        weights = np.tile(w, k) * np.repeat(mass, n)
        flat = outputs.reshape(n * k, -1)
        more = shared.lost_of(flat, np.tile(shared.outcome, k), cuts, weights).reshape(k, n) - shared.as_is
        return mass @ more / w.sum(), more @ w / w.sum()
    # giver by giver: what is gone through stays in the processor's own memory
    receives, gives = np.zeros(n), np.empty(k)
    for one in range(k):
        more = shared.lost_of(outputs[one], shared.outcome, shared.threshold, w) - shared.as_is
        receives += mass[one] * more
        gives[one] = more @ w
    return receives / w.sum(), gives / w.sum()


def _asked_again(shared: _Shared, names: tuple[str, ...], givers: NDArray[np.int64]) -> NDArray[np.float64]:
    """The model's outputs with the columns of every giver, the giver's rows one after the other, shape (givers · n, k)."""
    frame, n = shared.frame, shared.frame.rows
    step = max(1, EVALUATIONS_AT_ONCE // n)
    outputs = []
    for start in range(0, len(givers), step):
        given = givers[start : start + step]
        wide = frame.take(np.tile(np.arange(n), len(given)))
        for name in names:
            wide = wide.replace(name, np.repeat(frame[name][given], n))
        outputs.append(shared.predictor.outputs(wide))
    return np.concatenate(outputs)
