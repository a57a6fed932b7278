"""Which leaves of which trees are met by tables, and of what size."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.trees.ensemble import Trees

MOST_BITS = 8


"""Bits of a table shared by leaves."""


MOST_PLAYERS = 11


"""Players on the way to one leaf; deeper leaves go another way."""


MOST_ENTRIES = 200_000_000


"""Numbers in all tables of a model: 1.6 GB."""


OPERATION_SECONDS, DESCENT_SECONDS, WORTHLESS_SECONDS = 1.5e-9, 4e-7, 2e-3


"""One operation of filling a table; one explained row against one background row down one tree; not worth thinking about."""


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
