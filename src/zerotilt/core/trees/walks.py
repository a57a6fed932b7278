"""Sums of small trees along a walk that exchanges one player after the other.

A tree of at most 64 leaves is a word with one bit a leaf, in the order in which
the true branch comes first. Every decision that a row answers with no clears
the leaves of its true branch; the lowest bit left is the row's leaf (Lucchese
et al. 2015). The clearings of each player are gathered once for x and once for
z, so that a step along the walk is one AND a tree.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.trees.ensemble import Trees, holds, lowest

MOST_LEAVES = 64


@dataclass(frozen=True)
class Words:
    """Trees as words of leaves."""

    node: NDArray[np.int32]
    """Nodes that are reached, tree after tree."""
    tree: NDArray[np.int32]
    clears: NDArray[np.uint64]
    """What a no at each of these nodes leaves over."""
    value: NDArray[np.float64]
    """Value of the leaf of each bit, shape (k, trees, 64)."""


def words(trees: Trees) -> Words | None:
    """The words of an ensemble; None when a tree has more than 64 leaves."""
    node, tree, clears = [], [], []
    leaf = np.zeros((len(trees.roots), MOST_LEAVES), np.int32)
    yes, no = trees.yes.tolist(), trees.no.tolist()
    for t, root in enumerate(trees.roots.tolist()):
        order: list[int] = []
        pending: list[tuple[int, int]] = [(root, -1)]
        began: dict[int, int] = {}
        while pending:
            at, closes = pending.pop()
            if closes >= 0:  # the true branch of this node is done
                mask = ((1 << len(order)) - 1) ^ ((1 << began[closes]) - 1)
                node.append(closes)
                tree.append(t)
                clears.append(((1 << 64) - 1) & ~mask)
                continue
            if at < 0:
                order.append(-at - 1)
                if len(order) > MOST_LEAVES:
                    return None
                continue
            began[at] = len(order)
            pending += [(no[at], -1), (0, at), (yes[at], -1)]
        leaf[t, : len(order)] = order
    value = np.ascontiguousarray(trees.leaves[leaf].transpose(2, 0, 1))
    return Words(np.array(node, np.int32), np.array(tree, np.int32), np.array(clears, np.uint64), value)


@njit(cache=True, nogil=True)
def _gather(row, player_of, node, tree, clears, column, threshold, mode, track, first, members, left):
    """What each player's answers leave over in every tree, into left (players + 1, trees)."""
    left[:] = ~np.uint64(0)
    for i in range(len(node)):
        n = node[i]
        if not holds(mode[n], track[n], row[column[n]], threshold[n], members, first[n], first[n + 1]):
            left[player_of[n], tree[i]] &= clears[i]


@njit(cache=True, nogil=True, fastmath={"reassoc", "nsz", "contract"})
def _added(known, rest, value):
    """The values of the leaves that are left in every tree."""
    total = 0.0
    for t in range(len(known)):
        total += value[t, lowest(known[t] & rest[t])]
    return total


@njit(cache=True, nogil=True)
def walk(
    cases, others, case, other, orders, player_of, players, node, tree, clears, value, column, threshold, mode, track,
    first, members, base, out,
):  # fmt: skip
    """Sums with the first 0, 1, … players of each order taken from the case, into out (m, players + 1, k).

    Walks of one case, and of one background row, come one after the other, so
    that their words are made once.
    """
    k, trees, _ = value.shape
    of_x = np.empty((players + 1, trees), np.uint64)
    of_z = np.empty((players + 1, trees), np.uint64)
    rest = np.empty((players + 1, trees), np.uint64)
    known = np.empty(trees, np.uint64)
    last_x = last_z = -1
    for m in range(len(case)):
        if case[m] != last_x:
            last_x = case[m]
            _gather(cases[last_x], player_of, node, tree, clears, column, threshold, mode, track, first, members, of_x)
        if other[m] != last_z:
            last_z = other[m]
            _gather(others[last_z], player_of, node, tree, clears, column, threshold, mode, track, first, members, of_z)
        rest[players] = of_z[players]  # what belongs to no player is alike in both
        for step in range(players - 1, -1, -1):
            after, mine, here = rest[step + 1], of_z[orders[m, step]], rest[step]
            for t in range(trees):
                here[t] = after[t] & mine[t]
        known[:] = ~np.uint64(0)
        for step in range(players + 1):
            if step:
                mine = of_x[orders[m, step - 1]]
                for t in range(trees):
                    known[t] &= mine[t]
            for c in range(k):
                out[m, step, c] = base[c] + _added(known, rest[step], value[c])
