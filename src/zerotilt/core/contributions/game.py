"""The game behind Shapley values: v(S) is the mean output with the features in S from the case and the rest from the background."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.predictors import Frame
from zerotilt.core.refusal import Refused

EVALUATIONS_AT_ONCE = 65_536
Output = Callable[[Frame], NDArray[np.float64]]


@dataclass(frozen=True)
class Background:
    """The rows that stand for "this feature is not known", with weights that sum to one, shape (rows,)."""

    frame: Frame
    weights: NDArray[np.float64]

    @property
    def rows(self) -> int:
        return self.frame.rows

    def mean(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """Weighted mean over the background rows, which are the first axis."""
        return np.tensordot(self.weights, values, axes=(0, 0))

    @cached_property
    def even(self) -> bool:
        return bool((self.weights == self.weights[0]).all())

    def draw(self, stream: np.random.Generator, size: int) -> NDArray[np.int64]:
        """Row numbers drawn by weight; without weights every row once before any twice."""
        if not self.even:
            return stream.choice(self.rows, size, p=self.weights)
        rounds = -(-size // self.rows)
        return np.concatenate([stream.permutation(self.rows) for _ in range(rounds)])[:size]


def background(
    frame: Frame, weights: NDArray[np.float64] | None = None, most: int | None = None, seed: int = 0
) -> Background:
    """A background of some rows; a seeded sample of ``most`` of them where there are more.

    Raises
    ------
    Refused : there are no rows, or all weights are zero.
    """
    if not frame.rows:
        raise Refused("background: it has no rows; at least one is needed.", todo="Choose rows to compare with.")
    w = np.ones(frame.rows) if weights is None else np.asarray(weights, np.float64)
    if most is not None and frame.rows > most:
        drawn = np.sort(np.random.default_rng(seed).choice(frame.rows, most, replace=False))
        frame, w = frame.take(drawn), w[drawn]
    if not w.sum() > 0:
        raise Refused("background: all of its row weights are zero.", todo="Choose rows with a weight.")
    return Background(frame, w / w.sum())


def mixed(
    output: Output,
    cases: Frame,
    others: Frame,
    case: NDArray[np.integer],
    other: NDArray[np.integer],
    known: NDArray[np.bool_],
) -> NDArray[np.float64]:
    """Output of rows mixed from cases and background.

    Parameters
    ----------
    case, other : row numbers in ``cases`` and ``others``, shape (m,).
    known : which features come from the case, shape (m, p), in the order of ``cases.names``.

    Returns
    -------
    shape (m,)
    """
    out = np.empty(len(case))
    for start in range(0, len(case), EVALUATIONS_AT_ONCE):
        part = slice(start, start + EVALUATIONS_AT_ONCE)
        columns = {}
        for j, name in enumerate(cases.names):
            columns[name] = np.where(known[part, j], cases[name][case[part]], others[name][other[part]])
        out[part] = output(Frame(columns))
    return out
