"""Outputs of rows in which some columns hold another row's values, from the model's structure: nothing is run again."""

from __future__ import annotations

import contextlib
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import output
from zerotilt.core.predictors import Frame, Predictor
from zerotilt.core.predictors.structure import Structure
from zerotilt.core.trees import curves
from zerotilt.core.trees.ensemble import MEMBER, Trees, add_up, extent, mask_of, no_trees

ROWS_AT_ONCE = 4_096
LANDED = 20_000_000
"""Rows times trees up to which it is kept where every row lands."""
PARTS = 6
"""Sets of columns whose trees are kept: a few more than threads ask for at a time."""


@dataclass(frozen=True)
class Exchange:
    """A model's structure over some rows.

    Two rows whose values no decision of the trees tells apart give alike, so there are far fewer givers than rows; and
    only the trees that look at the columns are walked again.
    """

    structure: Structure
    encoded: NDArray[np.floating]
    names: tuple[str, ...]

    @staticmethod
    def of(predictor: Predictor, frame: Frame) -> Exchange | None:
        """None where the model has no structure, or it is not the model's own output in all of these rows."""
        structure = predictor.structure_for(frame)
        if structure is None:
            return None
        return Exchange(structure, structure.of_frame(frame)[0], tuple(frame.names))

    @cached_property
    def own(self) -> NDArray[np.float64]:
        """Outputs of the rows as they are, from the same arithmetic, shape (n, k)."""
        return output.unlinked(self._sums, self.structure.link)

    @cached_property
    def _sums(self) -> NDArray[np.float64]:
        return self.structure.sums_of(self.encoded)

    @cached_property
    def _trees(self) -> Trees:
        number = self.encoded.dtype
        return self.structure.trees or no_trees(len(self.structure.base), number)

    def givers(self, names: Sequence[str]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Rows one of each kind that these columns tell apart, and of each row its kind, shape (n,)."""
        code = np.zeros(len(self.encoded), np.int64)
        for column in self._columns(names):
            own = self._told_apart(column)
            code = np.unique(code * (int(own.max(initial=0)) + 1) + own, return_inverse=True)[1]
        return np.unique(code, return_index=True)[1], code

    def given(self, names: Sequence[str], givers: NDArray[np.int64]) -> NDArray[np.float64]:
        """Outputs of every row with the columns of every giver, shape (givers, n, k)."""
        n, many = len(self.encoded), len(givers)
        if len(names) == 1 and self.structure.coefficients is None:
            return self._swept(self.names.index(names[0]), givers)
        receives = np.tile(np.arange(n), many)
        return self._mixed(names, receives, np.repeat(givers, n)).reshape(many, n, -1)

    def shuffled(self, names: Sequence[str], order: NDArray[np.int64]) -> NDArray[np.float64]:
        """Outputs of every row with the columns of one giver each, shape (n, k)."""
        return self._mixed(names, np.arange(len(self.encoded)), order)

    def _columns(self, names: Sequence[str]) -> NDArray[np.intp]:
        """Encoded columns that stem from raw ones."""
        return np.flatnonzero(np.isin(self.structure.owner, [self.names.index(name) for name in names]))

    @cached_property
    def _landed(self) -> NDArray[np.int32] | None:
        """Where every row lands in every tree; None where that is too much to keep."""
        small = len(self.encoded) * len(self._trees.roots) <= LANDED
        return self._trees.landed(self.encoded) if small else None

    @cached_property
    def _nodes(self) -> list[slice]:
        """The nodes of each tree."""
        trees = self._trees
        return [slice(*extent(int(root), trees.yes, trees.no)[:2]) for root in trees.roots]

    def _touching(self, columns: NDArray[np.intp]) -> tuple[Trees, NDArray[np.float64]]:
        """The trees that look at some of these encoded columns, with no base, and what they give every row as it is."""
        trees = self._trees
        looks = np.isin(trees.column, columns)
        kept = np.flatnonzero([bool(looks[nodes].any()) for nodes in self._nodes])
        part = replace(trees, roots=trees.roots[kept], base=np.zeros_like(trees.base))
        if self._landed is None:
            return part, part.sums(self.encoded)
        return part, add_up(self._landed, kept, trees.leaves)

    def _told_apart(self, column: int) -> NDArray[np.int64]:
        """Which values of an encoded column the model tells apart, as a number for each row, shape (n,)."""
        values, place = np.unique(self.encoded[:, column], return_inverse=True)
        coefficients = self.structure.coefficients
        if coefficients is not None and coefficients[column].any():
            return place
        trees = self._trees
        changes = np.zeros(max(len(values) - 1, 0), bool)
        asked: set[tuple] = set()
        goes = np.empty(len(values), bool)
        for node in np.flatnonzero(trees.column == column):
            mode, track, cut = trees.mode[node], trees.track[node], trees.threshold[node]
            if mode != MEMBER:
                if (mode, track, cut) in asked:
                    continue
                asked.add((mode, track, cut))
            mask_of(values, mode, track, cut, trees.members, trees.first[node], trees.first[node + 1], goes)
            changes |= goes[1:] != goes[:-1]
        return np.concatenate([[0], np.cumsum(changes)])[place]

    def _swept(self, player: int, givers: NDArray[np.int64]) -> NDArray[np.float64]:
        trees, as_they_are = self._touching(self._columns([self.names[player]]))
        rest = self._sums - as_they_are
        nobody = self.encoded[:0]
        out = np.empty((len(givers), *rest.shape))
        for start in range(0, len(givers), curves.POINTS_AT_ONCE):
            part = slice(start, start + curves.POINTS_AT_ONCE)
            points = [self.encoded[givers[part]] if j == player else nobody for j in range(len(self.names))]
            axes = curves.axes(trees, self.structure.owner, points)
            for first in range(0, len(rest), ROWS_AT_ONCE):
                rows = slice(first, first + ROWS_AT_ONCE)
                swept = curves.sweep(trees, self.encoded[rows], axes)
                out[part, rows] = swept.transpose(1, 0, 2) + rest[rows]
        return output.unlinked(out.reshape(-1, rest.shape[1]), self.structure.link).reshape(out.shape)

    def _part(self, names: tuple[str, ...]) -> tuple[Structure, NDArray[np.float64]]:
        """The trees that look at some columns, and what they give every row as it is, shape (n, k).

        One shuffle of the same columns comes after another, in several threads: what was made last is kept.
        """
        kept: OrderedDict[tuple[str, ...], tuple[Structure, NDArray[np.float64]]]
        kept = vars(self).setdefault("_parts", OrderedDict())
        if names not in kept:
            trees, as_they_are = self._touching(self._columns(names))
            part = replace(self.structure, trees=trees, base=np.zeros_like(self.structure.base), coefficients=None)
            kept[names] = part, as_they_are
            while len(kept) > PARTS:
                with contextlib.suppress(KeyError):
                    kept.popitem(last=False)
        return kept.get(names) or self._part(names)

    def _mixed(self, names: Sequence[str], receives, gives) -> NDArray[np.float64]:
        columns = self._columns(names)
        part, as_they_are = self._part(tuple(names))
        sums = self._sums[receives]
        if part.trees is not None and len(part.trees.roots):
            known = np.ones((1, len(self.names)), bool)
            known[0, [self.names.index(name) for name in names]] = False
            for start in range(0, len(receives), ROWS_AT_ONCE * 16):
                piece = slice(start, start + ROWS_AT_ONCE * 16)
                asked = receives[piece], gives[piece], np.repeat(known, len(receives[piece]), axis=0)
                sums[piece] += part.mixed_sums(self.encoded, self.encoded, *asked)
            sums -= as_they_are[receives]
        if self.structure.coefficients is not None:
            terms = self.encoded[:, columns].astype(np.float64) @ self.structure.coefficients[columns]
            sums += terms[gives] - terms[receives]
        return output.unlinked(sums, self.structure.link)
