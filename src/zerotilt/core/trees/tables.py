"""Exact Shapley values of tree ensembles from tables, at a cost that does not depend on the background's size.

A leaf's indicator is a product over the players on its path: whether x meets
the player's conditions, or z does. Only the pattern of met conditions matters,
so background rows are counted by pattern once, and a table gives the
contributions for every pattern of x. Leaves of one small
subtree share a table: its index holds one bit for each player on the way to
the subtree and one for each decision inside it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.executor import side_by_side
from zerotilt.core.trees.ensemble import Trees, mask_of
from zerotilt.core.trees.table_plan import MOST_PLAYERS, Plan

BLOCK = 256
GROUPS_AT_ONCE = 256


@njit(cache=True, nogil=True)
def _code(masks, first_bit, last_bit, conditions, node, flip, met, code):
    """The pattern of each row in one group."""
    code[:] = 0
    for bit in range(first_bit, last_bit):
        shift = bit - first_bit
        begin, end = conditions[bit], conditions[bit + 1]
        if end - begin == 1:
            own, turned = masks[node[begin]], flip[begin]
            for r in range(len(code)):
                code[r] |= np.uint16(own[r] ^ turned) << shift
            continue
        met[:] = 1
        for c in range(begin, end):
            own, turned = masks[node[c]], flip[c]
            for r in range(len(code)):
                met[r] &= own[r] ^ turned
        for r in range(len(code)):
            code[r] |= np.uint16(met[r]) << shift


@njit(cache=True, nogil=True)
def _masks(block, nodes, column, threshold, mode, track, first, members, masks):
    for i in range(len(nodes)):
        n = nodes[i]
        mask_of(block[column[n]], mode[n], track[n], threshold[n], members, first[n], first[n + 1], masks[i])


@njit(cache=True, nogil=True)
def _count(
    encoded, weights, nodes, tree_nodes, tree_groups, bits, conditions, node, flip, counts_at,
    column, threshold, mode, track, first, members, most_nodes, counts,
):  # fmt: skip
    """Add the weight of background rows to the pattern they show in each group."""
    rows = len(encoded)
    masks = np.empty((most_nodes, BLOCK), np.uint8)
    met, code = np.empty(BLOCK, np.uint8), np.empty(BLOCK, np.uint16)
    for start in range(0, rows, BLOCK):
        size = min(BLOCK, rows - start)
        block = encoded[start : start + size].T.copy()
        for t in range(len(tree_nodes) - 1):
            _masks(
                block, nodes[tree_nodes[t] : tree_nodes[t + 1]], column, threshold, mode, track, first, members,
                masks[:, :size],
            )  # fmt: skip
            for g in range(tree_groups[t], tree_groups[t + 1]):
                _code(masks[:, :size], bits[g], bits[g + 1], conditions, node, flip, met[:size], code[:size])
                at = counts_at[g]
                for r in range(size):
                    counts[at + code[r]] += weights[start + r]


@njit(cache=True, nogil=True)
def _leaf_table(shares, d, points, scales, table, work):
    """Contributions of one leaf of value 1 for every pattern of x, into table (d, 2**d).

    φⱼ(a) = Σ_b share(b) ∫₀¹ (aⱼ − bⱼ) ∏ᵢ≠ⱼ (bᵢ + t (aᵢ − bᵢ)) dt; the integrand is a
    polynomial of degree d − 1 in t, for which Gauss–Legendre with ⌈d/2⌉ points is
    exact. For each t it is a product over players, so patterns are passed
    through one player at a time.
    """
    size = 1 << d
    table[:d, :size] = 0.0
    for q in range(len(points)):
        t = points[q]
        for j in range(d):
            # not by slices: what is said when they differ takes longer to compile than all the rest
            for s in range(size):
                work[s] = shares[s]
            for i in range(d):
                bit = 1 << i
                for s in range(size):
                    if s & bit == 0:
                        unmet, full = work[s], work[s | bit]
                        if i == j:
                            work[s], work[s | bit] = -full, unmet
                        else:
                            work[s], work[s | bit] = (1.0 - t) * full, t * unmet + full
            for s in range(size):
                table[j, s] += scales[q] * work[s]


@njit(cache=True, nogil=True)
def _fill(groups_from, groups_to, bits, players, tables_at, counts_at, counts, group_leaves, leaf, leaf_players, place,
          care, want, values, points, scales, table):  # fmt: skip
    """Tables of a run of groups from their counts; returns the mean of their leaves over the background."""
    mean = 0.0
    own = np.empty((MOST_PLAYERS + 1, 1 << (MOST_PLAYERS + 1)))
    shares = np.empty(1 << (MOST_PLAYERS + 1))
    work = np.empty(1 << (MOST_PLAYERS + 1))
    pattern = np.empty(1 << (MOST_PLAYERS + 1), np.int32)
    for g in range(groups_from, groups_to):
        size = 1 << (bits[g + 1] - bits[g])
        at, rows = tables_at[g], counts_at[g]
        for entry in range(group_leaves[g], group_leaves[g + 1]):
            value = values[leaf[entry]]
            begin = leaf_players[entry]
            d = leaf_players[entry + 1] - begin
            if value == 0.0:
                continue
            shares[: 1 << d] = 0.0
            for code in range(size):
                found = 0
                for i in range(d):
                    if code & care[begin + i] == want[begin + i]:
                        found |= 1 << i
                pattern[code] = found
                shares[found] += counts[rows + code]
            mean += value * shares[(1 << d) - 1]
            q = (d + 1) // 2
            _leaf_table(shares, d, points[q, :q], scales[q, :q], own, work)
            for i in range(d):
                to = at + place[begin + i] * size
                for code in range(size):
                    table[to + code] += value * own[i, pattern[code]]
    return mean


@njit(cache=True, nogil=True)
def _look_up(
    encoded, nodes, tree_nodes, tree_groups, bits, conditions, node, flip, players, player, tables_at, table,
    column, threshold, mode, track, first, members, most_nodes, out,
):  # fmt: skip
    """Add the contributions of every row, into out (rows, players)."""
    rows, p = out.shape
    masks = np.empty((most_nodes, BLOCK), np.uint8)
    met, code = np.empty(BLOCK, np.uint8), np.empty(BLOCK, np.uint16)
    gathered = np.empty((p, BLOCK))
    for start in range(0, rows, BLOCK):
        size = min(BLOCK, rows - start)
        block = encoded[start : start + size].T.copy()
        gathered[:] = 0.0
        for t in range(len(tree_nodes) - 1):
            _masks(
                block, nodes[tree_nodes[t] : tree_nodes[t + 1]], column, threshold, mode, track, first, members,
                masks[:, :size],
            )  # fmt: skip
            for g in range(tree_groups[t], tree_groups[t + 1]):
                _code(masks[:, :size], bits[g], bits[g + 1], conditions, node, flip, met[:size], code[:size])
                width = 1 << (bits[g + 1] - bits[g])
                at = tables_at[g]
                for i in range(players[g], players[g + 1]):
                    mine = gathered[player[i]]
                    for r in range(size):
                        mine[r] += table[at + code[r]]
                    at += width
        for r in range(size):
            for j in range(p):
                out[start + r, j] += gathered[j, r]


_POINTS = np.zeros((MOST_PLAYERS, MOST_PLAYERS))
_SCALES = np.zeros((MOST_PLAYERS, MOST_PLAYERS))
for _q in range(1, (MOST_PLAYERS + 1) // 2 + 1):
    _x, _w = np.polynomial.legendre.leggauss(_q)
    _POINTS[_q, :_q], _SCALES[_q, :_q] = (_x + 1) / 2, _w / 2


@dataclass(frozen=True)
class Tables:
    """A plan filled for one background and one output; adding up what :meth:`look_up` gives explains a row."""

    trees: Trees
    plan: Plan
    players: int
    table: NDArray[np.float64]
    mean: float
    """Mean of the trees' sum over the background, the base left out."""

    def look_up(self, encoded: NDArray[np.floating]) -> NDArray[np.float64]:
        """Contributions, shape (rows, players + 1); the last belongs to no raw column."""
        out = np.zeros((len(encoded), self.players + 1))
        _look_up(
            encoded, *_decisions(self.plan), self.plan.players, self.plan.player, self.plan.tables, self.table,
            *_tests(self.trees), _most_nodes(self.plan), out,
        )  # fmt: skip
        return out


def counted(trees: Trees, made: Plan, encoded: NDArray[np.floating], weights: NDArray[np.float64]) -> NDArray:
    """Weight of background rows by pattern; parts of a background add up, shape (patterns of all groups,)."""
    counts = np.zeros(int(made.counts[-1]))
    _count(encoded, weights, *_decisions(made), made.counts, *_tests(trees), _most_nodes(made), counts)
    return counts


def filled(trees: Trees, made: Plan, counts: NDArray[np.float64], column: int, players: int) -> Tables:
    """Tables of output ``column`` for a background given by its counts (summing to one over each group)."""
    table = np.zeros(made.entries)
    groups = len(made.bits) - 1
    runs = [(start, min(start + GROUPS_AT_ONCE, groups)) for start in range(0, groups, GROUPS_AT_ONCE)]
    values = np.ascontiguousarray(trees.leaves[:, column])

    def fill(run: tuple[int, int]) -> float:
        return _fill(
            *run, made.bits, made.players, made.tables, made.counts, counts, made.group_leaves, made.leaf,
            made.leaf_players, made.place, made.care, made.want, values, _POINTS, _SCALES, table,
        )  # fmt: skip

    # each group fills its own part of the table
    mean = sum(side_by_side(fill, runs))
    alone = -trees.roots[trees.roots < 0] - 1  # trees of one leaf have no group
    return Tables(trees, made, players, table, mean + float(trees.leaves[alone, column].sum()))


def _decisions(made: Plan):
    return (made.nodes, made.tree_nodes, made.tree_groups, made.bits, made.conditions, made.node, made.flip)


def _tests(trees: Trees):
    return (trees.column, trees.threshold, trees.mode, trees.track, trees.first, trees.members)


def _most_nodes(made: Plan) -> int:
    return max(int(np.diff(made.tree_nodes).max(initial=0)), 1)
