"""The game behind Shapley values: v(S) is the mean output with the features in S from the case and the rest from the background."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.output import from_sums
from zerotilt.core.predictors import Asked, Frame
from zerotilt.core.refusal import Refused

EVALUATIONS_AT_ONCE = 65_536
Output = Callable[[Frame], NDArray[np.float64]]


@njit(cache=True, nogil=True)
def along(place: NDArray, x: NDArray, z: NDArray, steps: int) -> NDArray:
    """One column of walks: z until its place has come, then x; shape (len(place) · (steps + 1),)."""
    out = np.empty(len(place) * (steps + 1))
    for m in range(len(place)):
        start = m * (steps + 1)
        for k in range(steps + 1):
            out[start + k] = x[m] if place[m] < k else z[m]
    return out


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


class Mixer:
    """Outputs of rows mixed from cases and background, column by column.

    A model that is a sum is asked in its own encoding, which is made once for
    both sides; any other model gets whole raw rows.
    """

    def __init__(self, output: Output, cases: Frame, others: Frame):
        self._output, self._cases, self._others = output, cases, others
        self._structure = output.predictor.known_structure if isinstance(output, Asked) else None
        if self._structure is not None:
            self._encoded = self._structure.encode(cases), self._structure.encode(others)
            self._words = self._structure.words()

    def __call__(
        self, case: NDArray[np.integer], other: NDArray[np.integer], known: NDArray[np.bool_]
    ) -> NDArray[np.float64]:
        """Output of each mixed row, shape (m,).

        Parameters
        ----------
        case, other : row numbers in cases and others, shape (m,).
        known : which features come from the case, shape (m, p), in the order of the cases' columns.
        """
        out = np.empty(len(case))
        for start in range(0, len(case), EVALUATIONS_AT_ONCE):
            part = slice(start, start + EVALUATIONS_AT_ONCE)
            out[part] = (self._raw if self._structure is None else self._in_code)(case[part], other[part], known[part])
        return out

    def walks(
        self, case: NDArray[np.integer], other: NDArray[np.integer], orders: NDArray[np.integer]
    ) -> NDArray[np.float64]:
        """Output with the first 0, 1, … p features of an order from the case, shape (m, p + 1).

        Parameters
        ----------
        case, other : shape (m,). orders : of features, shape (m, p).
        """
        m, p = orders.shape
        if self._structure is None or self._words is None:
            place = np.argsort(orders, axis=1)
            out = np.empty((m, p + 1))
            step = max(1, EVALUATIONS_AT_ONCE // (p + 1))
            for start in range(0, m, step):
                part = slice(start, start + step)
                out[part] = self._walked(case[part], other[part], place[part])
            return out
        structure = self._structure
        sums = structure.walked_sums(*self._encoded, case, other, orders, self._words)
        flat = from_sums(sums.reshape(m * (p + 1), -1), structure.link, self._output.scale, self._output.column)
        return flat.reshape(m, p + 1)

    def of_cases(self) -> NDArray[np.float64]:
        """Output of every case, from the same arithmetic as mixed rows."""
        rows = np.arange(self._cases.rows)
        return self(rows, np.zeros_like(rows), np.ones((len(rows), len(self._cases.names)), bool))

    def of_others(self) -> NDArray[np.float64]:
        """Output of every background row, from the same arithmetic as mixed rows."""
        rows = np.arange(self._others.rows)
        return self(np.zeros_like(rows), rows, np.zeros((len(rows), len(self._cases.names)), bool))

    def _raw(self, case, other, known) -> NDArray[np.float64]:
        columns = {
            name: np.where(known[:, j], self._cases[name][case], self._others[name][other])
            for j, name in enumerate(self._cases.names)
        }
        return self._output(Frame(columns))

    def _walked(self, case, other, place) -> NDArray[np.float64]:
        """Walks of whole raw rows; ``place``: when each feature is exchanged, shape (m, p)."""
        m, p = place.shape
        if self._structure is not None:
            known = (place[:, None, :] < np.arange(p + 1)[:, None]).reshape(-1, p)
            return self._in_code(np.repeat(case, p + 1), np.repeat(other, p + 1), known).reshape(m, p + 1)
        columns = {}
        for j, name in enumerate(self._cases.names):
            x, z = self._cases[name], self._others[name]
            if x.dtype.kind == "f":
                columns[name] = along(place[:, j].copy(), x[case], z[other], p)
            else:  # texts are exchanged by their number
                number = along(place[:, j].copy(), case.astype(float), (other + len(x)).astype(float), p)
                columns[name] = np.concatenate([x, z])[number.astype(np.int64)]
        return self._output(Frame(columns)).reshape(m, p + 1)

    def _in_code(self, case, other, known) -> NDArray[np.float64]:
        structure = self._structure
        sums = structure.mixed_sums(*self._encoded, case, other, known)
        return from_sums(sums, structure.link, self._output.scale, self._output.column)
