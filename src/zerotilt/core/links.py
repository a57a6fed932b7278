"""Which columns say the same: association of every pair, whatever their kinds, and the sets it makes."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.predictors import Frame
from zerotilt.core.stats.ranks import mean_ranks

MOST_ROWS = 20_000
MOST_PAIRED_CELLS = 200_000_000
"""Rows times pairs of text columns, beyond which fewer rows are read."""


def association(frame: Frame, seed: int = 0) -> NDArray[np.float64]:
    """Strength of association of every pair of columns, 0 to 1, shape (p, p).

    Two numbers: |Spearman's ρ|. Two texts: Cramér's V, corrected for chance
    (Bergsma 2013). A number and a text: the correlation ratio, corrected for chance
    (Kelley 1935). Missing numbers
    take the median; a missing text is a level. A seeded sample of 20,000 rows
    where there are more, of fewer where there are very many text columns.
    """
    p = len(frame.names)
    texts = [j for j, name in enumerate(frame.names) if frame[name].dtype.kind != "f"]
    most = int(np.clip(MOST_PAIRED_CELLS // max(len(texts) ** 2, 1), 1_000, MOST_ROWS))
    if frame.rows > most:
        frame = frame.take(np.sort(np.random.default_rng(seed).choice(frame.rows, most, replace=False)))
    numbers = [j for j in range(p) if j not in set(texts)]
    unit = _unit_ranks(frame, numbers)
    codes = [_codes(frame, j) for j in texts]
    out = np.eye(p)
    out[np.ix_(numbers, numbers)] = np.minimum(np.abs(unit.T @ unit), 1.0)
    for place, a in enumerate(texts):
        if numbers:
            out[a, numbers] = out[numbers, a] = _ratios(codes[place], unit)
        for before, b in enumerate(texts[:place]):
            out[a, b] = out[b, a] = _cramer(codes[place], codes[before])
    np.fill_diagonal(out, 1.0)
    return out


def association_with(frame: Frame, name: str) -> NDArray[np.float64]:
    """Strength of association of one column with every column, as :func:`association`, shape (p,)."""
    texts = [j for j, other in enumerate(frame.names) if frame[other].dtype.kind != "f"]
    numbers = [j for j in range(len(frame.names)) if j not in set(texts)]
    own = frame.names.index(name)
    unit = _unit_ranks(frame, numbers)
    out = np.zeros(len(frame.names))
    if own in texts:
        mine = _codes(frame, own)
        if numbers:
            out[numbers] = _ratios(mine, unit)
        out[texts] = [_cramer(mine, _codes(frame, j)) for j in texts]
    else:
        mine = unit[:, [numbers.index(own)]]
        out[numbers] = np.minimum(np.abs(mine.T @ unit)[0], 1.0)
        out[texts] = [_ratios(_codes(frame, j), mine)[0] for j in texts]
    out[own] = 1.0
    return out


def _unit_ranks(frame: Frame, columns: Sequence[int]) -> NDArray[np.float64]:
    """Ranks of numbers, centred and of length one, shape (rows, columns); missing ones take the median."""
    ranks = np.empty((frame.rows, len(columns)))
    for place, j in enumerate(columns):
        values = frame[frame.names[j]]
        known = values[np.isfinite(values)]
        filled = np.where(np.isfinite(values), values, np.median(known) if len(known) else 0.0)
        ranks[:, place] = mean_ranks(filled)
    ranks -= ranks.mean(axis=0)
    length = np.sqrt((ranks**2).sum(axis=0))
    return ranks / np.where(length > 0, length, 1)


def _codes(frame: Frame, column: int) -> NDArray[np.int64]:
    return frame.distinct(frame.names[column]).codes


def _cramer(a: NDArray, b: NDArray) -> float:
    rows, columns = int(a.max()) + 1, int(b.max()) + 1
    table = np.bincount(a * columns + b, minlength=rows * columns).reshape(rows, columns).astype(float)
    n = table.sum()
    expected = np.outer(table.sum(axis=1), table.sum(axis=0)) / n
    phi = float(((table - expected) ** 2 / np.where(expected > 0, expected, 1)).sum() / n)
    if min(rows, columns) < 2 or n < 2:
        return 0.0
    phi = max(phi - (rows - 1) * (columns - 1) / (n - 1), 0.0)
    least = min(rows - (rows - 1) ** 2 / (n - 1), columns - (columns - 1) ** 2 / (n - 1)) - 1
    return float(min(np.sqrt(phi / least), 1.0)) if least > 0 else 0.0


def _ratios(codes: NDArray, unit: NDArray[np.float64]) -> NDArray[np.float64]:
    """Correlation ratio of one text with each column of centred numbers of length one, shape (columns,).

    Corrected for chance (ε; Kelley 1935): uncorrected, a text of a level in each row would go with every number.
    """
    sizes = np.bincount(codes)
    order = np.argsort(codes, kind="stable")
    sums = np.add.reduceat(unit[order], np.concatenate([[0], np.cumsum(sizes)[:-1]]), axis=0)
    n, levels = len(codes), np.count_nonzero(sizes)
    if levels >= n:
        return np.zeros(unit.shape[1])
    between = np.minimum((sums**2 / sizes[:, None]).sum(axis=0), 1.0)
    return np.sqrt(np.maximum(1 - (1 - between) * (n - 1) / (n - levels), 0.0))


def linked(frame: Frame, least: float = 0.7, seed: int = 0) -> list[tuple[str, ...]]:
    """Sets of columns of which every two are associated by at least ``least`` (complete linkage on 1 − association)."""
    return sets_of(frame.names, association(frame, seed), least)


def sets_of(names: Sequence[str], strength: NDArray[np.float64], least: float) -> list[tuple[str, ...]]:
    """The same, from the associations of the named columns, shape (p, p)."""
    if len(names) < 2:
        return []
    distance = np.clip(1 - strength, 0, 1)
    np.fill_diagonal(distance, 0)
    from scipy.cluster import hierarchy
    from scipy.spatial.distance import squareform

    tree = hierarchy.linkage(squareform(distance, checks=False), "complete")
    label = hierarchy.fcluster(tree, 1 - least, "distance")
    sets = [tuple(name for name, own in zip(names, label, strict=True) if own == one) for one in np.unique(label)]
    return [one for one in sets if len(one) > 1]
