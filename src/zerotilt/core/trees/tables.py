"""Exact Shapley values of tree ensembles from tables, at a cost that does not depend on the background's size.

A leaf's indicator is a product over the players on its path: whether x meets
the player's conditions, or z does. Only the pattern of met conditions matters,
so background rows are counted by pattern once, and a table gives the
contributions for every pattern of x (methods section 4). Leaves of one small
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

MOST_BITS = 8
"""Bits of a table shared by leaves."""
MOST_PLAYERS = 11
"""Players on the way to one leaf; deeper leaves go another way."""
MOST_ENTRIES = 200_000_000
"""Numbers in all tables of a model: 1.6 GB."""
OPERATION_SECONDS, DESCENT_SECONDS, WORTHLESS_SECONDS = 1.5e-9, 4e-7, 2e-3
"""One operation of filling a table; one explained row against one background row down one tree; not worth thinking about."""
BLOCK = 256
GROUPS_AT_ONCE = 256


@dataclass(frozen=True)
class Plan:
    """Which leaves share a table, laid out flat for the kernels. Made once for a model, whatever the background."""

    nodes: NDArray[np.int32]
    tree_nodes: NDArray[np.int32]
    """Where each tree's own nodes begin in ``nodes``."""
    tree_groups: NDArray[np.int32]
    bits: NDArray[np.int32]
    """Where each group's bits begin; each bit is a run of conditions."""
    conditions: NDArray[np.int32]
    """Where each bit's conditions begin."""
    node: NDArray[np.int32]
    """Of each condition: the node's place among its tree's own."""
    flip: NDArray[np.uint8]
    """Of each condition: 1 where the false branch is meant."""
    players: NDArray[np.int32]
    """Where each group's players begin in ``player``."""
    player: NDArray[np.int32]
    tables: NDArray[np.int64]
    """Where each group's table begins."""
    counts: NDArray[np.int64]
    """Where each group's counts of background patterns begin."""
    group_leaves: NDArray[np.int32]
    leaf: NDArray[np.int32]
    leaf_players: NDArray[np.int32]
    """Where each leaf's players begin in the three arrays below."""
    place: NDArray[np.int32]
    """The player's place among its group's."""
    care: NDArray[np.int32]
    want: NDArray[np.int32]
    """A player's conditions are met where code & care == want."""

    @property
    def entries(self) -> int:
        """Numbers held by all tables."""
        return int(self.tables[-1])


def by_table(
    trees: Trees, owner: NDArray[np.int32], cases: float, background: int
) -> tuple[NDArray[np.bool_], NDArray[np.float64]]:
    """Which trees are explained from tables, and the seconds that each costs in all; both of shape (trees,).

    A tree goes another way where a path has more than ``MOST_PLAYERS`` players,
    where the tables of the trees before it fill the memory they may take, or
    where so few rows are explained that walking them down is quicker.
    """
    most, entries, operations = _weigh(trees.roots, trees.column, trees.yes, trees.no, owner.astype(np.int32))
    possible = most <= MOST_PLAYERS
    possible &= np.cumsum(np.where(possible, entries, 0)) <= MOST_ENTRIES
    table = operations * OPERATION_SECONDS
    descent = np.full(len(most), cases * background * DESCENT_SECONDS)
    chosen = possible & (table <= np.maximum(descent, WORTHLESS_SECONDS))
    return chosen, np.where(chosen, table, descent)


@njit(cache=True, nogil=True)
def _weigh(roots, column, yes, no, owner):
    """Most players on a path, numbers in tables, and operations to fill them, of each tree."""
    out, entries, operations = np.zeros(len(roots), np.int32), np.zeros(len(roots)), np.zeros(len(roots))
    seen = np.zeros(owner.max() + 2 if len(owner) else 1, np.int32)
    stack = np.empty(len(column) + 2, np.int32)
    depth_of = np.empty(len(column) + 2, np.int32)
    path = np.empty(len(column) + 2, np.int32)
    for t in range(len(roots)):
        top, length, distinct = 0, 0, 0
        stack[0], depth_of[0] = roots[t], 0
        top = 1
        while top:
            top -= 1
            node, depth = stack[top], depth_of[top]
            while length > depth:  # leave the branches that are done
                length -= 1
                seen[path[length]] -= 1
                if seen[path[length]] == 0:
                    distinct -= 1
            if node < 0:
                out[t] = max(out[t], distinct)
                size = 2.0 ** min(distinct, 60) * max(distinct, 1)
                entries[t] += max(size, (1 << MOST_BITS) * distinct / 4)  # a table is shared by about four leaves
                operations[t] += size * distinct * ((distinct + 1) // 2) + (1 << MOST_BITS) * distinct
                continue
            player = owner[column[node]] + 1
            if seen[player] == 0:
                distinct += 1
            seen[player] += 1
            path[length] = player
            length += 1
            stack[top], depth_of[top] = no[node], length
            stack[top + 1], depth_of[top + 1] = yes[node], length
            top += 2
        while length:
            length -= 1
            seen[path[length]] -= 1
    return out, entries, operations


def plan(trees: Trees, owner: NDArray[np.int32], chosen: NDArray[np.intp], players: int) -> Plan:
    """Group the leaves of the chosen trees.

    Parameters
    ----------
    owner : player of each encoded column; −1 counts as player number ``players``,
        a column that no raw column moves.
    """
    of = np.where(owner < 0, players, owner)[trees.column].tolist()
    yes, no = trees.yes.tolist(), trees.no.tolist()
    flat: dict[str, list] = {name: [] for name in ("nodes", "node", "flip", "player", "leaf", "place", "care", "want")}
    starts: dict[str, list[int]] = {
        name: [0]
        for name in ("tree_nodes", "tree_groups", "bits", "conditions", "players", "tables", "counts", "group_leaves",
                     "leaf_players")
    }  # fmt: skip
    for tree in chosen:
        root = int(trees.roots[tree])
        local: dict[int, int] = {}
        if root >= 0:
            _group(root, {}, of, yes, no, local, flat, starts)
        flat["nodes"] += list(local)
        starts["tree_nodes"].append(len(flat["nodes"]))
        starts["tree_groups"].append(len(starts["bits"]) - 1)
    kinds = {"flip": np.uint8}
    wide = ("tables", "counts")
    return Plan(
        **{name: np.array(values, kinds.get(name, np.int32)) for name, values in flat.items()},
        **{name: np.array(values, np.int64 if name in wide else np.int32) for name, values in starts.items()},
    )


def _group(node: int, path: dict[int, list], of, yes, no, local, flat, starts) -> None:
    """Make the subtree at ``node`` one group, or split it. ``path``: conditions so far, by player."""
    inner = _inside(node, yes, no, MOST_BITS - len(path))
    if inner is None:
        ways = ((yes[node], 0), (no[node], 1))
        for child, flipped in ways:
            conditions = {player: list(entries) for player, entries in path.items()}
            conditions.setdefault(of[node], []).append((node, flipped))
            if child >= 0 or len(conditions) > MOST_BITS:
                _group(child, conditions, of, yes, no, local, flat, starts)
            else:
                _close(child, conditions, [], of, yes, no, local, flat, starts)
        return
    _close(node, path, inner, of, yes, no, local, flat, starts)


def _inside(node: int, yes, no, most: int) -> list[int] | None:
    """The decisions of a subtree, None when there are more than ``most``."""
    if node < 0:
        return []
    found, stack = [], [node]
    while stack:
        at = stack.pop()
        if at < 0:
            continue
        found.append(at)
        if len(found) > most:
            return None
        stack += [no[at], yes[at]]
    return found


def _close(node: int, path: dict[int, list], inner: list[int], of, yes, no, local, flat, starts) -> None:
    on_path = list(path)
    order = [*on_path, *(p for p in dict.fromkeys(of[at] for at in inner) if p not in path)]
    place = {player: i for i, player in enumerate(order)}
    bit_of = {at: len(on_path) + i for i, at in enumerate(inner)}
    for player in on_path:
        for at, flipped in path[player]:
            flat["node"].append(local.setdefault(at, len(local)))
            flat["flip"].append(flipped)
        starts["conditions"].append(len(flat["node"]))
    for at in inner:
        flat["node"].append(local.setdefault(at, len(local)))
        flat["flip"].append(0)
        starts["conditions"].append(len(flat["node"]))
    bits = len(on_path) + len(inner)
    starts["bits"].append(len(starts["conditions"]) - 1)
    flat["player"] += order
    starts["players"].append(len(flat["player"]))
    starts["tables"].append(starts["tables"][-1] + (len(order) << bits))
    starts["counts"].append(starts["counts"][-1] + (1 << bits))
    first = {player: (1 << i, 1 << i) for i, player in enumerate(on_path)}
    stack = [(node, first)]
    while stack:
        at, met = stack.pop()
        if at >= 0:
            bit = 1 << bit_of[at]
            care, want = met.get(of[at], (0, 0))
            stack.append((no[at], met | {of[at]: (care | bit, want)}))
            stack.append((yes[at], met | {of[at]: (care | bit, want | bit)}))
            continue
        flat["leaf"].append(-at - 1)
        for player, (care, want) in met.items():
            flat["place"].append(place[player])
            flat["care"].append(care)
            flat["want"].append(want)
        starts["leaf_players"].append(len(flat["place"]))
    starts["group_leaves"].append(len(flat["leaf"]))


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
            work[:size] = shares[:size]
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
