"""All ICE curves of all features of a tree ensemble in one pass over each row.

Along one feature's axis a row keeps its own leaf, or leaves its path at one
decision on that feature and lands in a leaf that no other feature keeps it
from. Each such leaf adds the difference of its value from the row's own over
the grid points that lead there; the differences are summed
along the axis at the end.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.trees.ensemble import Trees, holds, lowest

POINTS_AT_ONCE = 64


@dataclass(frozen=True)
class Axes:
    """Grid points of several players in the model's own encoding, at most 64 each.

    ``starts``: where each player's points begin among all, shape (players + 1,).
    ``masks``: for each node, which points of its own player go to the true
    branch, one bit a point; ``player``: the node's player, −1 where it has no axis.
    """

    starts: NDArray[np.int32]
    masks: NDArray[np.uint64]
    player: NDArray[np.int32]
    full: NDArray[np.uint64]
    """All points of each player."""


def axes(trees: Trees, owner: NDArray[np.int32], points: list[NDArray[np.floating]]) -> Axes:
    """Lay out grids for a sweep.

    Parameters
    ----------
    points : for each player, encoded rows at its grid points, shape (≤ 64, encoded
        columns); no rows for a player that is left out.
    """
    starts = np.cumsum([0, *[len(part) for part in points]]).astype(np.int32)
    player = owner[trees.column].astype(np.int32)
    drawn = np.diff(starts) > 0
    player = np.where((player >= 0) & drawn[player], player, -1).astype(np.int32)
    width = trees.threshold.dtype
    together = np.concatenate(points) if points else np.zeros((0, 0), width)
    masks = np.zeros(len(player), np.uint64)
    _point_masks(
        together,
        starts,
        player,
        trees.column,
        trees.threshold,
        trees.mode,
        trees.track,
        trees.first,
        trees.members,
        masks,
    )
    full = np.array([(1 << int(size)) - 1 for size in np.diff(starts)], np.uint64)
    return Axes(starts, masks, player, full)


@njit(cache=True, nogil=True)
def _point_masks(points, starts, player, column, threshold, mode, track, first, members, masks):
    for n in range(len(player)):
        j = player[n]
        if j < 0:
            continue
        found = np.uint64(0)
        for g in range(starts[j], starts[j + 1]):
            if holds(mode[n], track[n], points[g, column[n]], threshold[n], members, first[n], first[n + 1]):
                found |= np.uint64(1) << np.uint64(g - starts[j])
        masks[n] = found


@njit(cache=True, nogil=True)
def _sweep(
    encoded, column, threshold, mode, track, yes, no, first, members, roots, leaves, base, player_of, starts, masks,
    full, deepest, out,
):  # fmt: skip
    """Sums of every row at every grid point, into out (rows, all points, k)."""
    k = leaves.shape[1]
    players = len(full)
    one = np.uint64(1)
    path, way = np.empty(deepest + 2, np.int32), np.empty(deepest + 2, np.bool_)
    nodes, left = np.empty(2 * deepest + 4, np.int32), np.empty(2 * deepest + 4, np.uint64)
    so_far = full.copy()
    whole = np.empty(k)
    change = np.zeros((starts[players] + players + 1, k))
    for r in range(len(encoded)):
        row = encoded[r]
        whole[:] = base
        change[:] = 0.0
        for t in range(len(roots)):
            node, length = roots[t], 0
            while node >= 0:
                goes = holds(
                    mode[node], track[node], row[column[node]], threshold[node], members, first[node], first[node + 1]
                )
                path[length], way[length] = node, goes
                length += 1
                node = yes[node] if goes else no[node]
            own = -node - 1
            for c in range(k):
                whole[c] += leaves[own, c]
            for step in range(length):
                at = path[step]
                j = player_of[at]
                if j < 0:
                    continue
                aside = masks[at] if not way[step] else ~masks[at]
                aside &= so_far[j]
                so_far[j] ^= aside
                if not aside:
                    continue
                origin = starts[j] + j
                nodes[0], left[0] = no[at] if way[step] else yes[at], aside
                top = 1
                while top:
                    top -= 1
                    node, points = nodes[top], left[top]
                    while node >= 0:
                        if player_of[node] == j:
                            there = points & masks[node]
                            points &= ~masks[node]
                            if not points:
                                node, points = yes[node], there
                                continue
                            if there:
                                nodes[top], left[top] = yes[node], there
                                top += 1
                            node = no[node]
                        elif holds(
                            mode[node], track[node], row[column[node]], threshold[node], members, first[node],
                            first[node + 1],
                        ):  # fmt: skip
                            node = yes[node]
                        else:
                            node = no[node]
                    leaf = -node - 1
                    while points:  # each run of neighbouring points
                        begin = lowest(points)
                        end = begin + lowest(~(points >> begin))
                        points = points & ~((one << end) - one) if end < 64 else np.uint64(0)
                        for c in range(k):
                            more = leaves[leaf, c] - leaves[own, c]
                            change[origin + begin, c] += more
                            change[origin + end, c] -= more
            for step in range(length):
                j = player_of[path[step]]
                if j >= 0:
                    so_far[j] = full[j]
        for j in range(players):
            for c in range(k):
                total = whole[c]
                for g in range(starts[j], starts[j + 1]):
                    total += change[g + j, c]
                    out[r, g, c] = total


def sweep(trees: Trees, encoded: NDArray[np.floating], made: Axes) -> NDArray[np.float64]:
    """Sums of every row with each player in turn moved to each of its grid points, shape (rows, all points, k)."""
    out = np.empty((len(encoded), int(made.starts[-1]), trees.outputs))
    _sweep(
        encoded, *trees.arrays, trees.roots, trees.leaves, trees.base, made.player, made.starts, made.masks, made.full,
        trees.depth, out,
    )  # fmt: skip
    return out
