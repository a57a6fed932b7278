"""Sums of small trees along a walk that exchanges one player after the other.

A tree of at most 64 leaves is a word with one bit a leaf, in the order in which
the true branch comes first. Every decision that a row answers with no clears
the leaves of its true branch; the lowest bit left is the row's leaf (Lucchese
et al. 2015). The clearings of each player are gathered once for x and once for
z, so that a step along the walk is a few ANDs in each tree that its player is in.

Between two neighbouring thresholds of a column every value answers alike. What
the answers of each such cell leave over is made once, so that to gather them is
to find the cell.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.trees.ensemble import MEMBER, Trees, holds, lowest

MOST_LEAVES = 64
MOST_BYTES = 64 * 2**20
"""Of answers kept by cell; beyond, every decision is made again."""
FEW = 4
"""Times as long as in all trees at once a step takes in trees looked up one by one."""


@dataclass(frozen=True)
class Words:
    """Trees as words of leaves."""

    node: NDArray[np.int32]
    """Nodes that are reached, tree after tree."""
    tree: NDArray[np.int32]
    clears: NDArray[np.uint64]
    """What a no at each of these nodes leaves over."""
    value: NDArray[np.float64]
    """Value of the leaf of each bit, shape (k, trees, leaves of the largest)."""
    cells: Cells | None
    """None where they would take too much memory."""


@dataclass(frozen=True)
class Cells:
    """Values of every encoded column that answer alike.

    With m cuts a column has 2m + 2 cells: below the first, on it, between it and
    the next …, beyond the last, and missing. Those that answer alike share an answer.
    """

    start: NDArray[np.int32]
    """Where the cuts of each column begin, shape (columns + 1,)."""
    cuts: NDArray[np.floating]
    answer: NDArray[np.int32]
    """Of each cell which answer, columns one after the other."""
    left: NDArray[np.uint64]
    """What an answer leaves over in every tree, shape (answers, trees)."""


def words(trees: Trees) -> Words | None:
    """The words of an ensemble; None when a tree has more than 64 leaves."""
    node, tree, clears = [], [], []
    leaves: list[list[int]] = []
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
        leaves.append(order)
    # no wider than it must be: what the walks look up fits into the nearest cache where trees are small
    leaf = np.zeros((len(leaves), max(map(len, leaves), default=1)), np.int32)
    for t, order in enumerate(leaves):
        leaf[t, : len(order)] = order
    value = np.ascontiguousarray(trees.leaves[leaf].transpose(2, 0, 1))
    found = np.array(node, np.int32), np.array(tree, np.int32), np.array(clears, np.uint64)
    return Words(*found, value, _cells(trees, *found))


def no_cells(number: np.dtype) -> Cells:
    """What stands for cells where there are none."""
    none = np.zeros(0, np.int32)
    return Cells(none, np.zeros(0, number), none, np.zeros((0, 0), np.uint64))


def _cells(trees: Trees, node: NDArray[np.int32], tree: NDArray[np.int32], clears: NDArray[np.uint64]) -> Cells | None:
    column = trees.column[node]
    if (trees.mode[node] == MEMBER).any():  # sets of values have no neighbours
        return None
    width = int(trees.column.max(initial=-1)) + 1
    cuts = [np.unique(trees.threshold[node[column == c]]) for c in range(width)]
    start = np.cumsum([0, *map(len, cuts)]).astype(np.int32)
    many = 2 * int(start[-1]) + 2 * width
    if many * len(trees.roots) * 8 > MOST_BYTES:
        return None
    together = np.concatenate(cuts) if cuts else np.zeros(0, trees.threshold.dtype)
    order = np.argsort(column, kind="stable")
    first = np.searchsorted(column[order], np.arange(width + 1)).astype(np.int32)
    left = np.full((many, len(trees.roots)), ~np.uint64(0))
    _answer(
        start, together, first, node[order], tree[order], clears[order], trees.threshold, trees.mode, trees.track, left
    )
    new = np.ones(many, bool)
    new[1:] = (left[1:] != left[:-1]).any(axis=1)
    return Cells(start, together, (np.cumsum(new) - 1).astype(np.int32), left[new])


@njit(cache=True, nogil=True)
def _answer(start, cuts, first, node, tree, clears, threshold, mode, track, left):
    """What each cell's answers leave over, from a value within it."""
    at = 0
    for c in range(len(start) - 1):
        m = start[c + 1] - start[c]
        for cell in range(2 * m + 2):
            if cell == 2 * m + 1:
                value = cuts.dtype.type(np.nan)
            elif cell % 2:
                value = cuts[start[c] + cell // 2]
            elif cell:
                value = np.nextafter(cuts[start[c] + cell // 2 - 1], cuts.dtype.type(np.inf))
            else:
                value = cuts.dtype.type(-np.inf)
            for i in range(first[c], first[c + 1]):
                n = node[i]
                if not holds(mode[n], track[n], value, threshold[n], threshold, 0, 0):
                    left[at, tree[i]] &= clears[i]
            at += 1


@njit(cache=True, nogil=True)
def _cell(value, cuts, low, high):
    """Which of a column's cells a value is in; its cuts are from low to high."""
    if value != value:
        return 2 * (high - low) + 1
    below, above = low, high
    while below < above:
        middle = (below + above) // 2
        if cuts[middle] < value:
            below = middle + 1
        else:
            above = middle
    on = below < high and cuts[below] == value
    return 2 * (below - low) + (1 if on else 0)


@njit(cache=True, nogil=True)
def _find(row, owner, players, start, cuts, answer, kept, left):
    """The same as :func:`_gather`, from the cells that a row's values are in."""
    left[:] = ~np.uint64(0)
    for c in range(len(start) - 1):
        if start[c] == start[c + 1]:
            continue
        found = kept[answer[2 * start[c] + 2 * c + _cell(row[c], cuts, start[c], start[c + 1])]]
        mine = left[owner[c] if owner[c] >= 0 else players]
        for t in range(len(found)):
            mine[t] &= found[t]


@njit(cache=True, nogil=True)
def _gather(row, player_of, node, tree, clears, column, threshold, mode, track, first, members, left):
    """What each player's answers leave over in every tree, into left (players + 1, trees)."""
    left[:] = ~np.uint64(0)
    for i in range(len(node)):
        n = node[i]
        goes = np.uint64(holds(mode[n], track[n], row[column[n]], threshold[n], members, first[n], first[n + 1]))
        # no branch on the answer, which nothing predicts
        left[player_of[n], tree[i]] &= clears[i] | (np.uint64(0) - goes)


@dataclass(frozen=True)
class Touched:
    """Which trees ask for which player, one player after the other."""

    start: NDArray[np.int32]
    """Where the trees of each player begin, shape (players + 1,)."""
    trees: NDArray[np.int32]


def touched(words: Words, player: NDArray[np.integer], players: int) -> Touched:
    """``player``: of each of the nodes of ``words``; ``players`` where it is nobody's."""
    pairs = np.unique(np.stack([player, words.tree])[:, player < players], axis=1)
    return Touched(np.searchsorted(pairs[0], np.arange(players + 1)).astype(np.int32), pairs[1].astype(np.int32))


@njit(cache=True, nogil=True)
def _picked(left, begin, touches, out):
    """What each player's answers leave over in the trees that ask for it."""
    for player in range(len(begin) - 1):
        mine = left[player]
        for place in range(begin[player], begin[player + 1]):
            out[place] = mine[touches[place]]


@njit(cache=True, nogil=True)
def _found(row, how, left):
    """What each player's answers leave over in every tree, however it is found; ``how``: as :func:`walk` is given it."""
    (
        owner, player_of, node, tree, clears, start, cuts, answer, kept,
        column, threshold, mode, track, first, members,
    ) = how  # fmt: skip
    players = len(left) - 1
    if len(kept):
        _find(row, owner, players, start, cuts, answer, kept, left)
    else:
        _gather(row, player_of, node, tree, clears, column, threshold, mode, track, first, members, left)


@njit(cache=True, nogil=True, fastmath={"reassoc", "nsz", "contract"})
def _added(known, rest, value):
    """The values of the leaves that are left in every tree."""
    total = 0.0
    for t in range(len(known)):
        total += value[t, lowest(known[t] & rest[t])]
    return total


@njit(cache=True, nogil=True)
def _every_tree(of_x, of_z, order, value, base, before, rest, out):
    """Steps of one walk where most trees ask for most players; ``before`` and ``rest`` are written over."""
    players, trees = len(order), len(before)
    rest[players] = of_z[players]  # what belongs to no player is alike in both
    for step in range(players - 1, -1, -1):
        after, mine, here = rest[step + 1], of_z[order[step]], rest[step]
        for t in range(trees):
            here[t] = after[t] & mine[t]
    before[:] = ~np.uint64(0)
    for step in range(players + 1):
        if step:
            mine, other, alike = of_x[order[step - 1]], of_z[order[step - 1]], True
            for t in range(trees):
                before[t] &= mine[t]
                alike &= mine[t] == other[t]
            if alike:
                out[step] = out[step - 1]
                continue
        for c in range(len(base)):
            out[step, c] = base[c] + _added(before, rest[step], value[c])


@njit(cache=True, nogil=True)
def _start(of_z, nobody, touches, value, base, after, at_z, from_z):
    """The leaf of z in every tree, and what they add up to."""
    after[:] = nobody
    for place in range(len(touches)):
        after[touches[place]] &= of_z[place]
    from_z[:] = base
    for t in range(len(after)):
        at_z[t] = lowest(after[t])
        for c in range(len(base)):
            from_z[c] += value[c, t, at_z[t]]


@njit(cache=True, nogil=True)
def _its_trees(of_x, of_z, nobody, order, begin, touches, value, from_z, at_z, before, after, rest, leaf, out):
    """Steps of one walk where each player is asked for by few trees, which alone are looked at."""
    after[:] = nobody
    for step in range(len(order) - 1, -1, -1):
        for place in range(begin[order[step]], begin[order[step] + 1]):
            rest[place] = after[touches[place]]
            after[touches[place]] &= of_z[place]
    before[:] = ~np.uint64(0)
    leaf[:] = at_z
    out[0] = from_z
    for step in range(len(order)):
        out[step + 1] = out[step]
        for place in range(begin[order[step]], begin[order[step] + 1]):
            t = touches[place]
            before[t] &= of_x[place]
            if of_x[place] != of_z[place]:
                now = lowest(before[t] & rest[place])
                for c in range(len(from_z)):
                    out[step + 1, c] += value[c, t, now] - value[c, t, leaf[t]]
                leaf[t] = now


@njit(cache=True, nogil=True)
def walk(cases, others, case, other, orders, how, value, base, begin, touches, out):
    """Sums with the first 0, 1, … players of each order taken from the case, into out (m, players + 1, k).

    Walks of one case, and of one background row, come one after the other, so
    that their words are made once. A step is what the players before it leave
    over in x, and those after it in z. ``how``: what answers are found by, which
    :func:`_found` names.
    """
    k, trees, _ = value.shape
    players = orders.shape[1]
    few = len(touches) * FEW < players * trees
    of_x, of_z = np.empty((players + 1, trees), np.uint64), np.empty((players + 1, trees), np.uint64)
    rest = np.empty((1 if few else players + 1, trees), np.uint64)
    before, after = np.empty(trees, np.uint64), np.empty(trees, np.uint64)
    some_x, some_z = np.empty(len(touches), np.uint64), np.empty(len(touches), np.uint64)
    some_rest = np.empty(len(touches), np.uint64)
    leaf, at_z = np.empty(trees, np.int64), np.empty(trees, np.int64)
    from_z = np.empty(k)
    last_x = last_z = -1
    for m in range(len(case)):
        if case[m] != last_x:
            last_x = case[m]
            _found(cases[last_x], how, of_x)
            if few:
                _picked(of_x, begin, touches, some_x)
        if other[m] != last_z:
            last_z = other[m]
            _found(others[last_z], how, of_z)
            if few:
                _picked(of_z, begin, touches, some_z)
                _start(some_z, of_z[players], touches, value, base, after, at_z, from_z)
        if few:
            _its_trees(
                some_x, some_z, of_z[players], orders[m], begin, touches, value, from_z, at_z, before, after, some_rest,
                leaf, out[m],
            )  # fmt: skip
        else:
            _every_tree(of_x, of_z, orders[m], value, base, before, rest, out[m])
