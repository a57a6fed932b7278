"""Which columns say the same: association of every pair, whatever their kinds, and the sets it makes."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import stats
from scipy.cluster import hierarchy
from scipy.spatial.distance import squareform

from zerotilt.core.predictors import Frame

MOST_ROWS = 20_000


def association(frame: Frame, seed: int = 0) -> NDArray[np.float64]:
    """Strength of association of every pair of columns, 0 to 1, shape (p, p).

    Two numbers: |Spearman's ρ|. Two texts: Cramér's V, corrected for chance
    (Bergsma 2013). A number and a text: the correlation ratio η. Missing numbers
    take the median; a missing text is a level. A seeded sample of 20,000 rows
    where there are more.
    """
    if frame.rows > MOST_ROWS:
        frame = frame.take(np.sort(np.random.default_rng(seed).choice(frame.rows, MOST_ROWS, replace=False)))
    p = len(frame.names)
    ranks: dict[int, NDArray] = {}
    codes: dict[int, NDArray] = {}
    for j, name in enumerate(frame.names):
        values = frame[name]
        if values.dtype.kind == "f":
            known = values[np.isfinite(values)]
            filled = np.where(np.isfinite(values), values, np.median(known) if len(known) else 0.0)
            ranks[j] = stats.rankdata(filled)
        else:
            codes[j] = np.unique(values.astype(str), return_inverse=True)[1]
    out = np.eye(p)
    for a in range(p):
        for b in range(a + 1, p):
            if a in ranks and b in ranks:
                found = _correlation(ranks[a], ranks[b])
            elif a in codes and b in codes:
                found = _cramer(codes[a], codes[b])
            else:
                found = _ratio(codes[a] if a in codes else codes[b], ranks[a] if a in ranks else ranks[b])
            out[a, b] = out[b, a] = found
    return out


def _correlation(a: NDArray, b: NDArray) -> float:
    spread = a.std() * b.std()
    return float(min(abs(np.mean((a - a.mean()) * (b - b.mean())) / spread), 1.0)) if spread else 0.0


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


def _ratio(codes: NDArray, values: NDArray) -> float:
    total = values.var()
    if not total:
        return 0.0
    sizes = np.bincount(codes)
    means = np.bincount(codes, values) / np.maximum(sizes, 1)
    return float(np.sqrt(min((sizes * (means - values.mean()) ** 2).sum() / len(values) / total, 1.0)))


def linked(frame: Frame, least: float = 0.7, seed: int = 0) -> list[tuple[str, ...]]:
    """Sets of columns of which every two are associated by at least ``least`` (complete linkage on 1 − association)."""
    if len(frame.names) < 2:
        return []
    distance = np.clip(1 - association(frame, seed), 0, 1)
    np.fill_diagonal(distance, 0)
    tree = hierarchy.linkage(squareform(distance, checks=False), "complete")
    label = hierarchy.fcluster(tree, 1 - least, "distance")
    sets = [tuple(name for name, own in zip(frame.names, label, strict=True) if own == one) for one in np.unique(label)]
    return [one for one in sets if len(one) > 1]
