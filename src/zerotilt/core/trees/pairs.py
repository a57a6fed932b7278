"""Exact Shapley values of deep trees: each explained row goes down each tree together with all background rows.

A leaf counts for a pair of rows x and z where every player on its path is met
by x or by z. With A players met by x alone and B by z alone, its value weighs
(A−1)! B! / (A+B)! for each player of x and −A! (B−1)! / (A+B)! for each of z
(Lundberg et al. 2020). Branches that no background row can
reach together with x are never entered.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.stats.distributions import log_gamma
from zerotilt.core.trees.ensemble import Trees, extent, lowest, mask_of


@lru_cache(maxsize=64)
def _weights(most: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Weights of a leaf for a player of x and for one of z, by how many players each has, shapes (most, most)."""
    a, b = np.meshgrid(np.arange(most), np.arange(most), indexing="ij")
    both = log_gamma(a + b + 1)
    of_x = np.where(a > 0, np.exp(log_gamma(np.maximum(a, 1)) + log_gamma(b + 1) - both), 0.0)
    of_z = np.where(b > 0, np.exp(log_gamma(a + 1) + log_gamma(np.maximum(b, 1)) - both), 0.0)
    return of_x, of_z


@njit(cache=True, nogil=True, fastmath={"reassoc", "nsz", "contract"})
def _settle(alive, meets, order, known, x_meets, weights, value, of_x, of_z, word, bit, share, missing, number, out):
    """Add one leaf's contributions for the background rows that reach it together with x."""
    one = np.uint64(1)
    size = 0
    for w in range(len(alive)):
        left = alive[w]
        while left:
            b = lowest(left)
            word[size], bit[size] = w, b
            share[size] = weights[(w << 6) + np.int64(b)]
            number[size] = 0
            size += 1
            left &= left - one
    k = 0
    for i in range(known):
        player = order[i]
        if not x_meets[player]:
            k += 1
            continue
        own = meets[player]
        for r in range(size):
            misses = np.uint8(((own[word[r]] >> bit[r]) & one) ^ one)
            missing[i, r] = misses
            number[r] += misses
    against = 0.0
    for r in range(size):
        weight = share[r] * value
        against += of_z[number[r], k] * weight
        share[r] = weight * of_x[number[r], k]
    for i in range(known):
        player = order[i]
        if x_meets[player]:
            total = 0.0
            for r in range(size):
                total += share[r] * missing[i, r]
            out[player] += total
        else:
            out[player] -= against


@njit(cache=True, nogil=True)
def _explain(goes_x, goes_z, everyone, weights, root, player_of, players, yes, no, values, of_x, of_z, deepest, out):
    """Add contributions in one tree of each row against all background rows at once, into out (rows, players).

    ``goes_z`` is (nodes, words): one bit a background row. On the way down,
    ``alive`` holds the background rows still in the game (each player met by x
    or by them) and ``meets`` those that meet a player's conditions so far.
    """
    words = goes_z.shape[1]
    alive = np.zeros((deepest + 2, words), np.uint64)
    saved = np.zeros((deepest + 2, words), np.uint64)
    saved_x = np.zeros(deepest + 2, np.bool_)
    nodes, stages = np.zeros(deepest + 2, np.int32), np.zeros(deepest + 2, np.int8)
    meets = np.zeros((players, words), np.uint64)
    x_meets = np.ones(players, np.bool_)
    order, times = np.zeros(players + 1, np.int32), np.zeros(players, np.int32)
    rows = words << 6
    word, bit = np.zeros(rows, np.int64), np.zeros(rows, np.uint64)
    share, number = np.zeros(rows), np.zeros(rows, np.int64)
    missing = np.zeros((min(players, deepest + 1), rows), np.uint8)
    for case in range(len(goes_x)):
        goes = goes_x[case]
        meets[:] = ~np.uint64(0)
        x_meets[:] = True
        times[:] = 0
        known = 0
        for w in range(words):
            alive[0, w] = everyone[w]
        nodes[0], stages[0] = root, 0
        level = 0
        while level >= 0:
            node = nodes[level]
            if node < 0:
                value = values[-node - 1]
                if value != 0.0:
                    _settle(
                        alive[level], meets, order, known, x_meets, weights, value, of_x, of_z, word, bit, share,
                        missing, number, out[case],
                    )  # fmt: skip
                level -= 1
                continue
            player = player_of[node]
            own = meets[player]
            if stages[level]:  # back from a branch
                for w in range(words):
                    own[w] = saved[level, w]
                x_meets[player] = saved_x[level]
                times[player] -= 1
                if times[player] == 0:
                    known -= 1
                if stages[level] == 2:
                    level -= 1
                    continue
            taken = stages[level] == 0
            stages[level] += 1
            saved_x[level] = x_meets[player]
            x_meets[player] = x_meets[player] and goes[node] == taken
            if times[player] == 0:
                order[known] = player
                known += 1
            times[player] += 1
            turned = np.uint64(0) if taken else ~np.uint64(0)
            anyone = np.uint64(0)
            if x_meets[player]:
                for w in range(words):
                    saved[level, w] = own[w]
                    own[w] &= goes_z[node, w] ^ turned
                    alive[level + 1, w] = alive[level, w]
                anyone = np.uint64(1)
            else:
                for w in range(words):
                    saved[level, w] = own[w]
                    own[w] &= goes_z[node, w] ^ turned
                    alive[level + 1, w] = alive[level, w] & own[w]
                    anyone |= alive[level + 1, w]
            if anyone:
                level += 1
                nodes[level], stages[level] = yes[node] if taken else no[node], 0


@njit(cache=True, nogil=True)
def _goes(columns, node_from, node_to, column, threshold, mode, track, first, members, out):
    """Which rows go to each node's true branch, shape (nodes, rows); ``columns`` is (encoded columns, rows)."""
    for n in range(node_from, node_to):
        mask_of(
            columns[column[n]], mode[n], track[n], threshold[n], members, first[n], first[n + 1], out[n - node_from]
        )


def _as_words(goes: NDArray[np.uint8]) -> NDArray[np.uint64]:
    """One bit a row, shape (nodes, words)."""
    packed = np.packbits(goes, axis=1, bitorder="little")
    wide = np.zeros((len(packed), -(-packed.shape[1] // 8) * 8), np.uint8)
    wide[:, : packed.shape[1]] = packed
    return wide.view(np.uint64)


def explain(
    trees: Trees,
    owner: NDArray[np.int32],
    chosen: NDArray[np.intp],
    cases: NDArray[np.floating],
    background: NDArray[np.floating],
    weights: NDArray[np.float64],
    column: int,
    players: int,
) -> NDArray[np.float64]:
    """Contributions from the chosen trees to output ``column``, shape (cases, players + 1).

    Parameters
    ----------
    cases, background : encoded rows. weights : of the background rows, summing to one.
    owner : player of each encoded column; −1 counts as player ``players``.
    """
    of = np.where(owner < 0, players, owner)[trees.column].astype(np.int32)
    values = np.ascontiguousarray(trees.leaves[:, column])
    out = np.zeros((len(cases), players + 1))
    tests = (trees.column, trees.threshold, trees.mode, trees.track, trees.first, trees.members)
    by_column = [np.ascontiguousarray(rows.T) for rows in (cases, background)]
    everyone = _as_words(np.ones((1, len(background)), np.uint8))[0]
    padded = np.zeros(len(everyone) * 64)
    padded[: len(weights)] = weights
    for tree in chosen:
        root = int(trees.roots[tree])
        low, high, deepest = extent(root, trees.yes, trees.no)
        if high <= low:
            continue
        asked, local = np.unique(of[low:high], return_inverse=True)
        goes_x, goes_z = (np.empty((high - low, columns.shape[1]), np.uint8) for columns in by_column)
        for columns, found in zip(by_column, (goes_x, goes_z), strict=True):
            _goes(columns, low, high, *tests, found)
        yes, no = (np.where(to[low:high] >= 0, to[low:high] - low, to[low:high]) for to in (trees.yes, trees.no))
        of_x, of_z = _weights(min(len(asked), deepest) + 1)
        mine = np.zeros((len(cases), len(asked)))
        _explain(
            np.ascontiguousarray(goes_x.T).astype(np.bool_), _as_words(goes_z), everyone, padded, root - low,
            local.astype(np.int32), len(asked), yes.astype(np.int32), no.astype(np.int32), values, of_x, of_z,
            deepest, mine,
        )  # fmt: skip
        out[:, asked] += mine
    return out
