"""Trees as flat arrays: where a row lands, and what the leaves add up to."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from llvmlite import ir
from numba import njit
from numba.extending import intrinsic
from numpy.typing import NDArray

LEQ, LT, GTE, GT, EQ, NEQ, MEMBER = range(7)
MODES = ("BRANCH_LEQ", "BRANCH_LT", "BRANCH_GTE", "BRANCH_GT", "BRANCH_EQ", "BRANCH_NEQ", "BRANCH_MEMBER")


@intrinsic
def lowest(typing: Any, word: Any = None) -> Any:
    """Place of the lowest bit that is set in a 64-bit word; 64 where none is."""

    def made(context, builder, signature, arguments):
        return builder.cttz(arguments[0], ir.Constant(ir.IntType(1), 0))

    return word(word), made


@njit(cache=True, nogil=True, inline="always")
def holds(mode, track, value, threshold, members, first, last):
    """Whether a row goes to a node's true branch. ``track``: a missing value does.

    The comparison is made in the number type of value and threshold, which is
    the model's own, so that a value exactly on a split goes where the model
    sends it.
    """
    if value != value:
        return track or mode == NEQ
    if mode == LEQ:
        return value <= threshold
    if mode == LT:
        return value < threshold
    if mode == GTE:
        return value >= threshold
    if mode == GT:
        return value > threshold
    if mode == EQ:
        return value == threshold
    if mode == NEQ:
        return value != threshold
    for place in range(first, last):  # noqa: SIM110  compiled; a generator is not
        if members[place] == value:
            return True
    return False


@njit(cache=True, nogil=True)
def mask_of(values, mode, track, threshold, members, first, last, out):
    """Which rows of a column go to a node's true branch."""
    if mode == LEQ and track:
        for r in range(len(out)):
            out[r] = not (values[r] > threshold)
    elif mode == LEQ:
        for r in range(len(out)):
            out[r] = values[r] <= threshold
    elif mode == LT and not track:
        for r in range(len(out)):
            out[r] = values[r] < threshold
    elif mode == GT and not track:
        for r in range(len(out)):
            out[r] = values[r] > threshold
    elif mode == GTE and not track:
        for r in range(len(out)):
            out[r] = values[r] >= threshold
    elif mode == EQ and not track:
        for r in range(len(out)):
            out[r] = values[r] == threshold
    elif mode == NEQ:
        for r in range(len(out)):
            out[r] = values[r] != threshold
    else:
        for r in range(len(out)):
            out[r] = holds(mode, track, values[r], threshold, members, first, last)


@dataclass(frozen=True)
class Trees:
    """Trees over the columns of an encoded matrix, in one block of arrays.

    Nodes and leaves are numbered through all trees. A child c ≥ 0 is node c;
    c < 0 is leaf −c − 1. Shapes: nodes (N,), leaves (L, k), roots (T,).
    """

    roots: NDArray[np.int32]
    column: NDArray[np.int32]
    threshold: NDArray[np.floating]
    mode: NDArray[np.int8]
    track: NDArray[np.bool_]
    yes: NDArray[np.int32]
    no: NDArray[np.int32]
    first: NDArray[np.int32]
    """Where a node's own members begin in ``members``; as long as the nodes and one more."""
    members: NDArray[np.floating]
    leaves: NDArray[np.float64]
    base: NDArray[np.float64]

    @property
    def outputs(self) -> int:
        return self.leaves.shape[1]

    @cached_property
    def depth(self) -> int:
        """Most decisions on the way to a leaf."""
        return max((extent(int(root), self.yes, self.no)[2] for root in self.roots), default=0)

    def sums(self, encoded: NDArray[np.floating]) -> NDArray[np.float64]:
        """Base and leaf values added up, shape (rows, k)."""
        out = np.tile(self.base, (len(encoded), 1))
        _add_leaves(encoded, *self.arrays, self.roots, self.leaves, out)
        return out

    def landed(self, encoded: NDArray[np.floating]) -> NDArray[np.int32]:
        """The leaf of every row in every tree, shape (rows, trees)."""
        return _landed(encoded, *self.arrays, self.roots)

    def held(self, encoded: NDArray[np.floating], weights: NDArray[np.float64]) -> NDArray[np.float64]:
        """The weight of the rows that land in each leaf, shape (leaves,)."""
        return _held(encoded, weights, *self.arrays, self.roots, len(self.leaves))

    @property
    def arrays(self):
        """The decision arrays in the order all kernels take them."""
        return (self.column, self.threshold, self.mode, self.track, self.yes, self.no, self.first, self.members)

    def with_leaves(self, leaves: NDArray[np.float64], base: NDArray[np.float64]) -> Trees:
        return replace(self, leaves=np.ascontiguousarray(leaves, dtype=np.float64), base=np.asarray(base, np.float64))


@njit(cache=True, nogil=True)
def _land(row, node, column, threshold, mode, track, yes, no, first, members):
    while node >= 0:
        goes = holds(mode[node], track[node], row[column[node]], threshold[node], members, first[node], first[node + 1])
        node = yes[node] if goes else no[node]
    return -node - 1


@njit(cache=True, nogil=True)
def _held(encoded, weights, column, threshold, mode, track, yes, no, first, members, roots, leaves):
    out = np.zeros(leaves)
    for r in range(len(encoded)):
        for t in range(len(roots)):
            out[_land(encoded[r], roots[t], column, threshold, mode, track, yes, no, first, members)] += weights[r]
    return out


@njit(cache=True, nogil=True)
def _add_leaves(encoded, column, threshold, mode, track, yes, no, first, members, roots, leaves, out):
    for r in range(len(encoded)):
        for t in range(len(roots)):
            leaf = _land(encoded[r], roots[t], column, threshold, mode, track, yes, no, first, members)
            for k in range(leaves.shape[1]):
                out[r, k] += leaves[leaf, k]


@njit(cache=True, nogil=True)
def _landed(encoded, column, threshold, mode, track, yes, no, first, members, roots):
    out = np.empty((len(encoded), len(roots)), np.int32)
    for r in range(len(encoded)):
        for t in range(len(roots)):
            out[r, t] = _land(encoded[r], roots[t], column, threshold, mode, track, yes, no, first, members)
    return out


@njit(cache=True, nogil=True)
def add_up(landed, kept, leaves):
    """Leaf values of some trees added up, shape (rows, k); ``kept``: which trees."""
    out = np.zeros((len(landed), leaves.shape[1]))
    for r in range(len(landed)):
        for t in kept:
            for k in range(leaves.shape[1]):
                out[r, k] += leaves[landed[r, t], k]
    return out


@njit(cache=True, nogil=True)
def mix_and_add(
    cases, others, case, other, known, owner, column, threshold, mode, track, yes, no, first, members, roots, leaves,
    coefficients, out,
):  # fmt: skip
    """Add up leaves and linear terms of rows mixed from two matrices, into out (rows, k).

    A column that no raw column moves (owner −1) is alike in both.
    """
    row = np.empty(cases.shape[1], cases.dtype)
    for r in range(len(case)):
        a, b = cases[case[r]], others[other[r]]
        for c in range(len(row)):
            row[c] = a[c] if owner[c] >= 0 and known[r, owner[c]] else b[c]
        for t in range(len(roots)):
            leaf = _land(row, roots[t], column, threshold, mode, track, yes, no, first, members)
            for k in range(leaves.shape[1]):
                out[r, k] += leaves[leaf, k]
        for c in range(len(coefficients)):
            for k in range(out.shape[1]):
                out[r, k] += row[c] * coefficients[c, k]


def no_trees(outputs: int, number: np.dtype) -> Trees:
    """An empty ensemble."""
    none = np.zeros(0, np.int32)
    return Trees(
        roots=none,
        column=none,
        threshold=np.zeros(0, number),
        mode=np.zeros(0, np.int8),
        track=np.zeros(0, bool),
        yes=none,
        no=none,
        first=np.zeros(1, np.int32),
        members=np.zeros(0, number),
        leaves=np.zeros((0, outputs)),
        base=np.zeros(outputs),
    )


def joined(parts: Sequence[Trees]) -> Trees:
    """Several ensembles over one encoded matrix as one; their outputs must be alike, their bases add up."""
    nodes = np.cumsum([0] + [len(part.column) for part in parts])
    leaves = np.cumsum([0] + [len(part.leaves) for part in parts])
    members = np.cumsum([0] + [len(part.members) for part in parts])

    def moved(children: NDArray[np.int32], i: int) -> NDArray[np.int32]:
        return np.where(children >= 0, children + nodes[i], children - leaves[i]).astype(np.int32)

    def all_of(name: str) -> NDArray:
        return np.concatenate([getattr(part, name) for part in parts])

    return Trees(
        roots=np.concatenate([moved(part.roots, i) for i, part in enumerate(parts)]),
        column=all_of("column"),
        threshold=all_of("threshold"),
        mode=all_of("mode"),
        track=all_of("track"),
        yes=np.concatenate([moved(part.yes, i) for i, part in enumerate(parts)]),
        no=np.concatenate([moved(part.no, i) for i, part in enumerate(parts)]),
        first=np.concatenate([*[part.first[:-1] + members[i] for i, part in enumerate(parts)], members[-1:]]).astype(
            np.int32
        ),
        members=all_of("members"),
        leaves=all_of("leaves"),
        base=np.sum([part.base for part in parts], axis=0),
    )


@njit(cache=True, nogil=True)
def extent(root, yes, no):
    """First node, one past the last node, and depth of a tree."""
    if root < 0:
        return 0, 0, 0
    low, high, deepest = root, root, 0
    stack, depths = np.empty(len(yes) + 2, np.int32), np.empty(len(yes) + 2, np.int32)
    stack[0], depths[0] = root, 1
    top = 1
    while top:
        top -= 1
        node, depth = stack[top], depths[top]
        if node < 0:
            continue
        low, high, deepest = min(low, node), max(high, node), max(deepest, depth)
        stack[top], depths[top] = yes[node], depth + 1
        stack[top + 1], depths[top + 1] = no[node], depth + 1
        top += 2
    return low, high + 1, deepest
