"""Permutation importance: the loss added when columns are shuffled among the rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.drivers.losses import Loss, per_row
from zerotilt.core.groups import intervals
from zerotilt.core.predictors import Frame, Predictor
from zerotilt.core.spec import Task
from zerotilt.core.work import Work


class Permuted(NamedTuple):
    value: NDArray[np.float64]
    """Mean added loss of each set of columns, shape (sets,)."""
    error: NDArray[np.float64]
    """Its standard error over rows and shuffles, shape (sets,)."""
    loss: float
    """The loss as is."""


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
        outputs, task, outcome = self.predictor.outputs(frame), self.predictor.task, self.outcome
        if self.of_class is not None:
            outputs, task, outcome = outputs[:, [self.of_class]], Task.binary, outcome == self.of_class
        return per_row(self.loss, task, outcome, outputs, self.threshold, self.weights)


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

    The mean over pairs of rows is a U-statistic: a row counts once by what another's value does to it, and once
    by what its value does to another. The standard error is that of the sum of both (Hoeffding 1948), which holds
    the spread over shuffles too; with the first alone, intervals of 95% held in three of four cases.
    Shuffles depend on seed, column names and repeat alone.
    ``of_class``: the loss is of that class against all others.
    """
    w = np.ones(frame.rows) if weights is None else weights
    sets = [(name,) for name in frame.names] if sets is None else [tuple(one) for one in sets]
    shared = _Shared(predictor, frame, outcome, loss, threshold, w, of_class, seed)
    as_is = shared.lost(frame)
    base = float(np.average(as_is, weights=w))
    pieces = [(names, repeat) for names in sets for repeat in range(repeats)]
    found = work.spread(_shuffle, shared, pieces, "shuffled columns scored")
    value, error = np.zeros(len(sets)), np.empty(len(sets))
    effective = intervals.effective(w)
    for j in range(len(sets)):
        total, share = np.zeros(frame.rows), np.zeros(frame.rows)
        for repeat in range(repeats):
            more = w * (next(found) - as_is)
            giver = _order(seed, sets[j], repeat, frame.rows)  # whose value each row was given
            total += more
            total[giver] += more
            share += w
            share[giver] += w
            value[j] += more.sum() / w.sum() / repeats
        moved = (total - value[j] * share) / repeats
        error[j] = np.sqrt((moved**2).sum() * effective / max(effective - 1, 1)) / w.sum()
    for _ in found:  # the last piece is counted once the pieces are asked to end
        pass
    return Permuted(value, error, base)


def _order(seed: int, names: Sequence[str], repeat: int, rows: int) -> NDArray[np.int64]:
    return np.random.default_rng([seed, repeat, *"\0".join(names).encode()]).permutation(rows)


def _shuffle(shared: _Shared, piece: tuple[tuple[str, ...], int]) -> NDArray[np.float64]:
    names, repeat = piece
    order = _order(shared.seed, names, repeat, shared.frame.rows)
    frame = shared.frame
    for name in names:
        frame = frame.replace(name, frame[name][order])
    return shared.lost(frame)
