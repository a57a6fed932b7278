"""Curves along one feature: the grid, all ICE values, and what the mean does."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.contributions.game import EVALUATIONS_AT_ONCE, Output
from zerotilt.core.predictors import Frame
from zerotilt.core.spec import Kind
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

Direction = Literal["rises", "falls", "bends", "flat", "by level"]
MOST_LEVELS = 30


@dataclass(frozen=True)
class Grid:
    """Points of one feature: model values, their labels, and whether they lie on a scale."""

    values: NDArray
    labels: tuple[str, ...]
    positions: NDArray[np.float64] | None
    """Places on a numeric axis, NaN for missing; None for levels."""
    ordered: bool
    left_out: int
    """Levels that are not on the grid because there are too many."""


def grid_of(subject: Subject, feature: str, points: int, percentiles: tuple[float, float] = (1, 99)) -> Grid:
    """Distinct quantiles of a numeric feature between two percentiles, or every level; missing has a place of its own."""
    values = subject.frame[feature]
    if values.dtype.kind == "f":
        known = values[np.isfinite(values)]
        if not len(known):
            return Grid(np.array([np.nan]), ("missing",), np.array([np.nan]), True, 0)
        low, high = np.quantile(known, np.divide(percentiles, 100), method="nearest")
        places = np.unique(known[(known >= low) & (known <= high)])
        if len(places) > points:  # few distinct values are all drawn; quantiles would skip the rare ones
            shares = np.linspace(*np.divide(percentiles, 100), points)
            places = np.unique(np.quantile(known, shares, method="nearest"))
        if len(known) < len(values):
            places = np.append(places, np.nan)
        labels = tuple("missing" if np.isnan(place) else f"{place:.4g}" for place in places)
        return Grid(places, labels, places, True, 0)
    levels, sizes = np.unique(values.astype(str), return_counts=True)
    by_size = [str(level) for level in levels[np.argsort(-sizes, kind="stable")]]
    column = subject.spec.column(feature)
    chosen = by_size[:MOST_LEVELS]
    if column.order:
        kept = [level for level in column.order if level in set(chosen)]
        chosen = kept + [level for level in chosen if level not in set(kept)]
    chosen.sort(key=lambda level: level == "")
    return Grid(
        np.array(chosen, dtype=object),
        tuple(level or "missing" for level in chosen),
        None,
        column.kind is Kind.ordered,
        len(levels) - len(chosen),
    )


def ice(output: Output, rows: Frame, feature: str, values: NDArray, work: Work | None = None) -> NDArray[np.float64]:
    """Output of every row with the feature set to every value (Goldstein et al. 2015), shape (rows, values)."""
    work = work or Work()
    out = np.empty((rows.rows, len(values)))
    step = max(1, EVALUATIONS_AT_ONCE // len(values))
    work.begin(rows.rows, "rows read along the feature")
    for start in range(0, rows.rows, step):
        part = rows.take(slice(start, start + step))
        wide = part.take(np.repeat(np.arange(part.rows), len(values)))
        found = output(wide.replace(feature, np.tile(values, part.rows)))
        out[start : start + part.rows] = found.reshape(part.rows, len(values))
        work.advance(part.rows)
    return out


def mean_curve(output: Output, rows: Frame, feature: str, values: NDArray) -> NDArray[np.float64]:
    """Partial dependence (Friedman 2001): the mean of the ICE curves, shape (values,)."""
    return ice(output, rows, feature, values).mean(axis=0)


def direction(curve: NDArray[np.float64], ordered: bool, spread: float) -> Direction:
    """What the mean curve does. Steps back of less than a tenth of its range do not make it bend;
    a range under a fiftieth of the output's standard deviation is flat."""
    reach = float(curve.max() - curve.min())
    if reach <= 0.02 * spread:
        return "flat"
    if not ordered:
        return "by level"
    falls_back = float((np.maximum.accumulate(curve) - curve).max())
    rises_back = float((curve - np.minimum.accumulate(curve)).max())
    if falls_back <= 0.1 * reach:
        return "rises"
    if rises_back <= 0.1 * reach:
        return "falls"
    return "bends"
