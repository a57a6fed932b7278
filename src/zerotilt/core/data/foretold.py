"""How well columns foretell something: one alone, or all together, always on rows that were not learnt from."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.stats import intervals
from zerotilt.core.stats.distributions import normal_tail
from zerotilt.core.subject import Subject

BINS, LEVELS = 16, 40
"""Bins of equal counts of a number; levels of their own of a text, the others together."""
FOLDS = 5
PENALTY = 10.0
"""Of squared coefficients, in rows."""
MOST_KINDS = 2_000
"""Bins and levels of all columns together."""
MOST_TOGETHER = 6_000
"""Rows from which all columns together are learnt and judged."""


class Foretold(NamedTuple):
    """Area under the ROC curve, with its interval."""

    value: float
    low: float
    high: float


def kinds_of(subject: Subject, name: str) -> NDArray[np.int64]:
    """Of every row of the context the bin or level of a column, shape (n,); missing has one of its own."""
    table, numbers = subject.table, subject.rows.numbers
    if table.is_number(name) or table.is_date(name):
        values = table.numbers(name)[numbers]
        known = np.sort(values[np.isfinite(values)])
        places = np.rint(np.arange(1, BINS) / BINS * (len(known) - 1)).astype(np.int64) if len(known) else []
        edges = np.unique(known[places]) if len(known) else np.empty(0)
        return np.where(np.isfinite(values), np.searchsorted(edges, values, "right"), len(edges) + 1)
    levels, codes = table.coded(name)
    codes = codes[numbers]
    counts = np.bincount(codes[codes >= 0], minlength=len(levels))
    place = np.full(len(levels) + 1, min(LEVELS, len(levels)))
    largest = np.argsort(-counts, kind="stable")[:LEVELS]
    place[largest] = np.arange(len(largest))
    place[-1] = len(largest) + 1  # missing
    return place[codes]


def halves(n: int, seed: int) -> NDArray[np.int64]:
    """A seeded half for every row, shape (n,)."""
    return np.random.default_rng([seed, n]).permutation(n) % 2


def by_one(kinds: NDArray[np.int64], happened: NDArray[np.bool_], half: NDArray[np.int64]) -> NDArray[np.float64]:
    """A score for every row: by how much more it happened in its bin or level than overall, counted in the other half."""
    many = int(kinds.max(initial=0)) + 1
    scores = np.empty(len(kinds))
    for own in (0, 1):
        there = half != own
        base = happened[there].mean() if there.any() else 0.5
        rows = np.bincount(kinds[there], minlength=many)
        hits = np.bincount(kinds[there], happened[there], minlength=many)
        # one row of no news, so that a rare level says little; less the base, which differs between the halves by chance
        rate = (hits + base) / (rows + 1) - base
        scores[half == own] = rate[kinds[half == own]]
    return scores


def all_together(
    columns: Sequence[NDArray[np.int64]], targets: NDArray[np.bool_], rows: NDArray[np.int64], seed: int
) -> NDArray[np.float64]:
    """Scores of targets by least squares with a penalty over all bins and levels, in folds, shape (rows, targets).

    Parameters
    ----------
    columns : kinds of every row, one array a column. targets : shape (n, targets). rows : places read.
    """
    blocks = []
    most = max(2, MOST_KINDS // max(len(columns), 1))
    for kinds in columns:
        codes = np.unique(kinds[rows], return_inverse=True)[1]
        many = int(codes.max(initial=0)) + 1
        if many > most:  # of many columns neighbours are put together, so that the sums stay small
            codes = codes * most // many
        block = np.zeros((len(rows), int(codes.max(initial=0)) + 1), np.float32)
        block[np.arange(len(rows)), codes] = 1
        blocks.append(block[:, 1:])
    x = np.concatenate([np.ones((len(rows), 1), np.float32), *blocks], axis=1)
    y = targets[rows].astype(np.float32)
    fold = np.random.default_rng([seed, 7]).permutation(len(rows)) % FOLDS
    whole, aims = x.T @ x, x.T @ y
    scores = np.empty(y.shape)
    ridge = PENALTY * np.eye(x.shape[1], dtype=np.float32)
    ridge[0, 0] = 1e-3
    for one in range(FOLDS):
        out = fold == one
        left, right = whole - x[out].T @ x[out], aims - x[out].T @ y[out]
        base = right[0] / max(float(left[0, 0]), 1.0)
        scores[out] = x[out] @ np.linalg.solve((left + ridge).astype(float), right) - base
    return scores


def by_chance(value: float, scores: NDArray[np.float64], happened: NDArray[np.bool_]) -> float:
    """How likely an area of scores that were learnt in folds is at least as large where there is nothing to learn.

    What one row says of another, that one says of it: every pair counts twice, and the area varies twice as much as one
    of ranks that owe nothing to one another (Mann & Whitney 1947, with ties). NaN where only one of both happened.
    """
    n1, n0 = int(happened.sum()), int((~happened).sum())
    n = n1 + n0
    if not n1 or not n0 or not np.isfinite(value):
        return float("nan")
    _, counts = np.unique(scores, return_counts=True)
    ties = float((counts.astype(float) ** 3 - counts).sum()) / (n * (n - 1))
    spread = np.sqrt(max((n + 1 - ties) / (12 * n1 * n0), 1e-18))
    return float(normal_tail((value - 0.5) / (spread * np.sqrt(2))))


def area(scores: NDArray[np.float64], happened: NDArray[np.bool_], confidence: float) -> Foretold:
    """The area of scores learnt from other rows; NaN where only one of both happened."""
    value, variance = intervals.auc(scores, happened)
    n1, n0 = int(happened.sum()), int((~happened).sum())
    if not n1 or not n0 or not np.isfinite(value):
        return Foretold(np.nan, np.nan, np.nan)
    found = intervals.area(value, variance, n1, n0, confidence)
    return Foretold(float(value), float(found.low), float(found.high))
