"""The game behind Shapley values: v(S) is the mean output with the features in S from the case and the rest from the background."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.predictors import Frame
from zerotilt.core.refusal import Refused

GROUPS_IN_COLUMN, MOST_GROUPS = 8, 24
"""Into how many groups a number is cut when rows are drawn; and how many a text may have before they are joined."""


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
        found = np.zeros(self.rows)
        for name in self.frame.names:
            values = self.frame[name]
            codes = _widths(values) if values.dtype.kind == "f" else self.frame.distinct(name).codes
            found += _boost(codes, self.weights)
        return found


def _widths(values: NDArray[np.float64]) -> NDArray[np.int64]:
    """Which of a few stretches of equal width each number lies in; missing has a place of its own."""
    known = np.isfinite(values)
    every = bool(known.all())
    held = values if every else values[known]
    low, high = (held.min(), held.max()) if len(held) else (0.0, 0.0)
    span = high - low
    inside = np.zeros(len(held), np.int64)
    if np.isfinite(span) and span > 0:
        inside = np.minimum((held - low) / span * GROUPS_IN_COLUMN, GROUPS_IN_COLUMN - 1).astype(np.int64)
    if every:
        return inside
    codes = np.full(len(values), GROUPS_IN_COLUMN)
    codes[known] = inside
    return codes


def _boost(codes: NDArray[np.int64], weights: NDArray[np.float64]) -> NDArray[np.float64]:
    """1 / (groups × share of the row's group), shape (rows,)."""
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
        boosts = (reference.boosts + _boost(_widths(outputs), reference.weights)) / (len(reference.frame.names) + 1)
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
