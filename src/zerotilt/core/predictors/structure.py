"""A model as a sum over encoded columns: base, trees and linear terms, and the scale on which they add up."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import output
from zerotilt.core.executor import side_by_side
from zerotilt.core.predictors import linear_walks
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.session import session_of
from zerotilt.core.trees import walks
from zerotilt.core.trees.ensemble import Trees, mix_and_add, no_trees

CHUNK_ROWS = 8_192
KEPT_ROWS = 32_768
"""Rows of a frame up to which they are kept encoded from when they are checked."""
AGREEMENT = 2e-5
"""Largest difference from the model's own output, as a share of its range; models compute in single precision."""


class Encoder:
    """Raw rows to the columns that trees and linear operators see: the graph's own first part."""

    def __init__(
        self,
        feed: Callable[[Frame], dict[str, NDArray]],
        sources: Sequence[str],
        part: bytes | None,
        inside: Sequence[str],
    ):
        self._feed, self.sources, self.part, self.inside = feed, list(sources), part, list(inside)
        self._start()

    def _start(self) -> None:
        self._session = session_of(self.part) if self.part else None
        self._accepted = {entry.name for entry in self._session.get_inputs()} if self._session else set()

    def __getstate__(self) -> dict:
        return {name: value for name, value in self.__dict__.items() if name not in ("_session", "_accepted")}

    def __setstate__(self, state: dict) -> None:
        self.__dict__.update(state)
        self._start()

    @property
    def plain(self) -> bool:
        """Whether raw numbers go in as they are."""
        return self._session is None

    def parts(self, frame: Frame) -> list[NDArray]:
        """What each source holds, in order."""
        fed = self._feed(frame)
        got = {name: fed[name] for name in self.sources if name in fed}
        if self._session is not None:
            given = {name: value for name, value in fed.items() if name in self._accepted}
            inside: list[Any] = list(self._session.run(self.inside, given))
            got |= dict(zip(self.inside, inside, strict=True))
        return [got[name] if got[name].ndim > 1 else got[name][:, None] for name in self.sources]

    def __call__(self, frame: Frame) -> NDArray[np.floating]:
        """Every encoded matrix beside the others, shape (rows, encoded columns)."""
        parts = self.parts(frame)
        number = np.float64 if np.dtype(np.float64) in {part.dtype for part in parts} else np.float32
        return parts[0] if len(parts) == 1 and parts[0].dtype == number else np.hstack(parts).astype(number)


@dataclass(frozen=True)
class Structure:
    """A model as base + trees + linear terms over encoded columns, on the scale ``link`` of its output.

    ``owner``: for each encoded column, which of the predictor's inputs it stems
    from, −1 for a constant. ``coefficients``: (encoded columns, k).
    """

    encode: Encoder
    owner: NDArray[np.int32]
    trees: Trees | None
    coefficients: NDArray[np.float64] | None
    base: NDArray[np.float64]
    link: output.Link
    reach: float = 1.0
    """Range of the output over the rows the structure was held against."""
    finite: tuple[str, ...] = ()
    """Raw columns that must be finite numbers for ``owner`` to be right."""

    def agrees(self, sums: NDArray[np.float64], outputs: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Of each row whether its sums (rows, k) are the model's own outputs (rows, k), to what single precision leaves.

        A probability near 0 or 1 is held to its log-odds: there a small difference is a large one.
        """
        got = output.unlinked(sums, self.link)
        allowed = AGREEMENT * np.maximum(self.reach, np.abs(outputs) if self.link != "log-odds" else 0.0)
        if self.link == "log-odds":
            allowed = np.minimum(allowed, 2e-7 + 1e-3 * outputs * (1 - outputs))
        return np.asarray((np.abs(got - outputs) <= allowed).all(axis=1))

    def holds_for(self, frame: Frame, outputs: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Of each row whether the structure gives the model's own outputs, shape (rows,)."""
        finite = np.ones(frame.rows, bool)
        for name in self.finite:
            finite &= np.abs(frame[name]) <= np.finfo(np.float32).max
        sums = self.of_frame(frame)[1] if frame.rows <= KEPT_ROWS else self.sums(frame)
        return finite & self.agrees(sums, outputs)

    def sums(self, frame: Frame) -> NDArray[np.float64]:
        """The output on the scale of ``link``, in double precision, shape (rows, k)."""
        out = np.empty((frame.rows, len(self.base)))

        def add(part: slice) -> None:
            out[part] = self.sums_of(self.encode(frame.take(part)))

        side_by_side(add, [slice(start, start + CHUNK_ROWS) for start in range(0, frame.rows, CHUNK_ROWS)])
        return out

    def sums_of(self, encoded: NDArray[np.floating]) -> NDArray[np.float64]:
        """The same from encoded rows."""
        out = self.trees.sums(encoded) if self.trees is not None else np.tile(self.base, (len(encoded), 1))
        if self.coefficients is not None:
            out += encoded.astype(np.float64) @ self.coefficients
        return out

    def mixed_sums(
        self,
        cases: NDArray[np.floating],
        others: NDArray[np.floating],
        case: NDArray[np.integer],
        other: NDArray[np.integer],
        known: NDArray[np.bool_],
    ) -> NDArray[np.float64]:
        """Sums of rows whose columns come from encoded cases where their raw column is known, else from others.

        ``case``, ``other``: row numbers, shape (m,); ``known``: by raw column, shape (m, p). Returns (m, k).
        """
        trees = self.trees if self.trees is not None else no_trees(len(self.base), cases.dtype)
        coefficients = self.coefficients if self.coefficients is not None else np.zeros((0, len(self.base)))
        out = np.tile(self.base, (len(case), 1))
        mix_and_add(
            cases, others, case, other, known, self.owner, *trees.arrays, trees.roots, trees.leaves, coefficients, out
        )
        return out

    def of_frame(self, frame: Frame) -> tuple[NDArray[np.floating], NDArray[np.float64]]:
        """Rows encoded and their sums (rows, k); kept for as long as somebody holds the frame."""
        if frame not in self._seen:
            pieces = [slice(start, start + CHUNK_ROWS) for start in range(0, max(frame.rows, 1), CHUNK_ROWS)]
            encoded = [self.encode(frame)] if len(pieces) == 1 else side_by_side(self._encoded(frame), pieces)
            sums = side_by_side(self.sums_of, encoded)
            self._seen[frame] = np.concatenate(encoded), np.concatenate(sums)
        return self._seen[frame]

    def _encoded(self, frame: Frame) -> Callable[[slice], NDArray[np.floating]]:
        return lambda part: self.encode(frame.take(part))

    @cached_property
    def _seen(self) -> WeakKeyDictionary[Frame, tuple[NDArray[np.floating], NDArray[np.float64]]]:
        return WeakKeyDictionary()

    @cached_property
    def _touched(self) -> dict[int, tuple[NDArray[np.int32], walks.Touched]]:
        """The player of each decision, and who is in which tree, by the number of players."""
        return {}

    def __getstate__(self) -> dict:
        """What was looked up for frames of this process stays behind."""
        return {name: value for name, value in vars(self).items() if name not in ("_seen", "_touched")}

    @cached_property
    def words(self) -> walks.Words | None:
        """The trees as words of leaves, where each has few and nothing else is added."""
        return walks.words(self.trees) if self.trees is not None and self.coefficients is None else None

    @property
    def walkable(self) -> bool:
        """Whether a walk costs what changes along it: linear terms alone, or trees as words."""
        return self.trees is None or self.words is not None

    def walked_sums(
        self,
        cases: NDArray[np.floating],
        others: NDArray[np.floating],
        case: NDArray[np.integer],
        other: NDArray[np.integer],
        orders: NDArray[np.integer],
    ) -> NDArray[np.float64]:
        """Sums along walks from others to cases, one raw column after the other, shape (m, p + 1, k); where walkable."""
        trees, players, words = self.trees, orders.shape[1], self.words
        out = np.empty((len(case), players + 1, len(self.base)))
        if trees is None:
            coefficients = self.coefficients if self.coefficients is not None else np.zeros((0, len(self.base)))
            start, columns = linear_walks.by_player(self.owner, players)
            linear_walks.walk(cases, others, case, other, orders, start, columns, coefficients, self.base, out)
            return out
        assert words is not None  # it is walkable
        if players not in self._touched:
            player = np.where(self.owner < 0, players, self.owner)[trees.column].astype(np.int32)
            self._touched[players] = player, walks.touched(words, player[words.node], players)
        player, touched = self._touched[players]
        cells = words.cells or walks.no_cells(trees.threshold.dtype)
        how = (
            self.owner, player, words.node, words.tree, words.clears, cells.start, cells.cuts, cells.answer, cells.left,
            trees.column, trees.threshold, trees.mode, trees.track, trees.first, trees.members,
        )  # fmt: skip
        walks.walk(cases, others, case, other, orders, how, words.value, trees.base, touched.start, touched.trees, out)
        return out
