"""Means of values that hang together: what is joined is summed before the error is worked out."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from zerotilt.core.stats import intervals
from zerotilt.core.stats.intervals import Interval

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]


def joined(rows: Whole, others: Whole) -> Whole:
    """A number for each row, the same for those that are joined through the row beside each; both of shape (n,)."""
    known, place = np.unique(np.concatenate([rows, others]), return_inverse=True)
    edges = place[: len(rows)], place[len(rows) :]
    graph = coo_array((np.ones(len(rows)), edges), shape=(len(known), len(known)))
    return connected_components(graph, directed=False)[1][edges[0]].astype(np.int64)


def mean(values: Floats, mass: Floats, cluster: Whole, rate: bool, confidence: float) -> Interval:
    """Weighted mean with its interval, of values that hang together within clusters (Liang & Zeger 1986).

    Of zeros and ones the interval is Wilson's, with as many rows as carry that variance (Korn & Graubard 1998).

    Parameters
    ----------
    values, mass, cluster : shape (n,); weights are not negative, and some are above zero. rate : values are 0 and 1.
    """
    kept = mass > 0
    values, mass = values[kept], mass[kept]
    total, middle = float(mass.sum()), float(np.average(values, weights=mass))
    sums = np.bincount(np.unique(cluster[kept], return_inverse=True)[1], weights=mass * (values - middle))
    many, spread = len(sums), float((sums**2).sum())
    told = spread > (1e-12 * total * max(1.0, abs(middle))) ** 2
    error = np.sqrt(spread * many / max(many - 1, 1)) / total if told else 0.0
    if not rate:
        skew = float((sums**3).mean()) / (spread / many) ** 1.5 if told else 0.0
        return intervals.mean(middle, error, skew, many, confidence)
    # where all are alike, nothing tells how they vary: as many as there are clusters
    rows = min(middle * (1 - middle) / error**2, intervals.effective(mass)) if told else many
    rows = rows * (float(intervals.estimated(many, confidence)) if many > 1 else 1.0)
    return intervals.wilson(middle * rows, rows, confidence)
