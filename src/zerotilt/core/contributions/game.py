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
GROUPS_IN_COLUMN, MOST_GROUPS = 8, 24
"""Into how many groups a number is cut when rows are drawn; and how many a text may have before they are joined."""
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
    def boosts(self) -> NDArray[np.float64]:
        """How much oftener than by weight a row is drawn for what is rare in it, summed over its columns, shape (rows,)."""
        return np.sum([_boost(self.frame[name], self.weights) for name in self.frame.names], axis=0)


def _boost(values: NDArray, weights: NDArray[np.float64]) -> NDArray[np.float64]:
    """1 / (groups × share of the row's group), where a column is cut into a few groups: each level, or equal widths."""
    if values.dtype.kind == "f":
        known = np.isfinite(values)
        low, high = (values[known].min(), values[known].max()) if known.any() else (0.0, 0.0)
        span = high - low
        codes = np.full(len(values), GROUPS_IN_COLUMN)
        if np.isfinite(span) and span > 0:
            codes[known] = np.minimum((values[known] - low) / span * GROUPS_IN_COLUMN, GROUPS_IN_COLUMN - 1).astype(int)
        elif known.any():
            codes[known] = 0
    else:
        codes = np.unique(values.astype(str), return_inverse=True)[1]
    share = np.bincount(codes, weights)
    if len(share) > MOST_GROUPS:  # levels as alike as these are told apart by how rare they are
        codes = np.searchsorted(np.logspace(-6, 0, MOST_GROUPS), share)[codes]
        share = np.bincount(codes, weights)
    present = share > 0
    return np.where(present, 1 / np.where(present, share, 1) / present.sum(), 0.0)[codes]


class Draws:
    """Background rows drawn so that what is rare is met early, each with the weight that makes means right.

    Half of the draws are by weight; the other half choose a column, or the
    output, then one of its groups, then a row in it (importance sampling with a
    defensive mixture: Hesterberg 1995). No row's weight exceeds two. Rows are
    laid out by their output, and a run of draws is spread evenly over them.
    """

    def __init__(self, reference: Background, outputs: NDArray[np.float64]):
        boosts = (reference.boosts + _boost(outputs, reference.weights)) / (len(reference.frame.names) + 1)
        chance = reference.weights * (1 + boosts) / 2
        self._order = np.argsort(outputs, kind="stable")
        self._ends = np.cumsum(chance[self._order])
        self._ends /= self._ends[-1]
        self.weight = np.divide(reference.weights, chance, out=np.zeros_like(chance), where=chance > 0)

    def draw(self, stream: np.random.Generator, size: int) -> NDArray[np.int64]:
        """Row numbers, shape (size,), in random order."""
        at = (stream.permutation(size) + stream.random(size)) / size
        return self._order[np.minimum(np.searchsorted(self._ends, at, "right"), len(self._order) - 1)]


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
    both sides; any other model gets whole raw rows, and so does a model that is
    no sum in one of these rows.
    """

    def __init__(self, output: Output, cases: Frame, others: Frame):
        self._structure = None
        if isinstance(output, Asked):
            output = output.believed(cases, others)
            self._structure = None if output.as_it_is else output.predictor.known_structure
        self._output, self._cases, self._others = output, cases, others
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
        assert structure is not None  # only what has one is asked in its code
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
        assert structure is not None  # only what has one is asked in its code
        sums = structure.mixed_sums(*self._encoded, case, other, known)
        return from_sums(sums, structure.link, self._output.scale, self._output.column)
