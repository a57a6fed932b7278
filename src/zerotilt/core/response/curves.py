"""Curves along one feature: the grid, all ICE values, and what the mean does."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.meaning import Kind
from zerotilt.core.output import Scale, from_sums
from zerotilt.core.players import EVALUATIONS_AT_ONCE, Output
from zerotilt.core.predictors import Frame
from zerotilt.core.predictors.structure import Structure
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.trees.curves import POINTS_AT_ONCE, Axes, axes, sweep
from zerotilt.core.work import Work

Direction = Literal["rises", "falls", "bends", "flat", "by level"]
MOST_LEVELS = 30
SWEPT_ROWS = 512
NEAR = 0.05
"""Share of the drawn range within which a row is near a point."""
SCARCE_SHARE, SCARCE_ROWS = 0.005, 10


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


def grid_of(
    subject: Subject,
    feature: str,
    points: int,
    percentiles: tuple[float, float] = (1, 99),
    region: tuple[float | None, float | None] = (None, None),
) -> Grid:
    """Distinct quantiles of a numeric feature between two percentiles, or every level; missing has a place of its own.

    ``region``: a stretch of a numeric axis in place of the percentiles, cut to where there are rows.

    Raises
    ------
    Refused : the region holds no row, or ends before it begins.
    """
    values = subject.frame[feature]
    if values.dtype.kind == "f":
        known = values[np.isfinite(values)]
        if not len(known):
            return Grid(np.array([np.nan]), ("missing",), np.array([np.nan]), True, 0)
        rising = np.sort(known)
        low, high = _nearest(rising, np.divide(percentiles, 100))
        if region != (None, None):
            low, high = _region(subject, feature, known, region)
        inside = rising[np.searchsorted(rising, low) : np.searchsorted(rising, high, "right")]
        places = _apart(inside)
        if len(places) > points:  # few distinct values are all drawn; quantiles would skip the rare ones
            places = _apart(_nearest(inside, np.linspace(0, 1, points)))
        if len(known) < len(values):
            places = np.append(places, np.nan)
        labels = tuple(subject.editor.label(feature, float(place)) for place in places)
        return Grid(places, labels, places, True, 0)
    levels, _, sizes = subject.frame.distinct(feature)
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


def support_at(values: NDArray, grid: Grid) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """Rows within a twentieth of the drawn range of each point, or at each level; and whether they are too few."""
    least = max(SCARCE_ROWS, math.ceil(SCARCE_SHARE * len(values)))
    if grid.positions is None:
        counts = np.array([(values == level).sum() for level in grid.values])
        return counts, counts < least
    known = np.sort(values[np.isfinite(values)])
    finite = grid.positions[np.isfinite(grid.positions)]
    reach = NEAR * (finite.max() - finite.min()) if len(finite) else 0.0
    near = np.searchsorted(known, grid.positions + reach, "right") - np.searchsorted(
        known, grid.positions - reach, "left"
    )
    counts = np.where(np.isnan(grid.positions), len(values) - len(known), near)
    return counts, counts < least


def told_of(shown: NDArray[np.bool_], scarce: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Points that sentences speak of, shape (points,): not the thin ends of an axis, at which hardly any row lies.

    Where rows are so few that less than half of the axis would be left, or one point, all of it is spoken of.
    """
    held = np.flatnonzero(shown & ~scarce)
    found = shown.copy()
    if len(held) > 1 and 2 * (held[-1] - held[0] + 1) >= shown.sum():
        found[: held[0]] = found[held[-1] + 1 :] = False
    return found


def _nearest(rising: NDArray[np.float64], shares: NDArray[np.float64]) -> NDArray[np.float64]:
    """Quantiles of values that rise already, each the nearest value; what NumPy's "nearest" takes, in less time."""
    return rising[np.rint(shares * (len(rising) - 1)).astype(np.int64)]


def _apart(rising: NDArray[np.float64]) -> NDArray[np.float64]:
    """Values that rise already, each once."""
    return rising[np.concatenate([[True], rising[1:] != rising[:-1]])] if len(rising) else rising


def _region(subject: Subject, feature: str, known, region: tuple[float | None, float | None]) -> tuple[float, float]:
    low = known.min() if region[0] is None else region[0]
    high = known.max() if region[1] is None else region[1]
    ends = f"{subject.editor.label(feature, float(known.min()))} to {subject.editor.label(feature, float(known.max()))}"
    if low > high:
        raise Refused(f"region: it begins at {low:g} and ends at {high:g}.", todo="Give the smaller value first.")
    if not ((known >= low) & (known <= high)).any():
        raise Refused(
            f"region: no row has {words.title(feature)} between {subject.editor.label(feature, low)} and {subject.editor.label(feature, high)}; "
            f"the rows reach from {ends}.",
            todo="Choose a region in which there are rows.",
        )
    return low, high


@dataclass(frozen=True)
class _Swept:
    """What one pass over trees needs."""

    structure: Structure
    scale: Scale
    column: int
    axes: Axes
    rows: Frame


def all_curves(
    subject: Subject, rows: Frame, values: Mapping[str, NDArray], work: Work | None = None
) -> dict[str, NDArray[np.float64]]:
    """ICE curves (Goldstein et al. 2015) of every row along each of several features, each (rows, values).

    Trees are read for all features in one pass, exactly, whatever the scale, and linear terms exchanged; any other
    model is asked at every point.
    """
    work = work or Work()
    structure, _ = subject.predictions.structure
    if structure is not None and structure.trees is None and structure.coefficients is not None:
        line = _Line(structure, structure.coefficients, subject.scale, subject.column, rows)
        return dict(zip(values, work.spread(_lines, line, list(values.items()), "features read"), strict=True))
    if structure is None or structure.trees is None or structure.coefficients is not None:
        return {name: ice(subject.asked, rows, name, points, work) for name, points in values.items()}
    out = {name: np.empty((rows.rows, len(points))) for name, points in values.items()}
    for first in range(0, max(map(len, values.values())), POINTS_AT_ONCE):
        parts = {name: points[first : first + POINTS_AT_ONCE] for name, points in values.items()}
        encoded = [_encoded(structure, rows, name, parts.get(name)) for name in rows.names]
        made = axes(structure.trees, structure.owner, encoded)
        shared = _Swept(structure, subject.scale, subject.column, made, rows)
        pieces = [(start, min(start + SWEPT_ROWS, rows.rows)) for start in range(0, rows.rows, SWEPT_ROWS)]
        done = work.spread(_sweep, shared, pieces, "rows read along the features", [b - a for a, b in pieces])
        for (start, end), found in zip(pieces, done, strict=True):
            for j, name in enumerate(rows.names):
                if name in out:
                    mine = found[:, made.starts[j] : made.starts[j + 1]]
                    out[name][start:end, first : first + mine.shape[1]] = mine
    return out


@dataclass(frozen=True)
class _Line:
    """What curves of a sum of linear terms need."""

    structure: Structure
    coefficients: NDArray[np.float64]
    scale: Scale
    column: int
    rows: Frame


def _lines(shared: _Line, piece: tuple[str, NDArray]) -> NDArray[np.float64]:
    """Of each row's sum only one feature's terms change along it."""
    (name, points), structure, rows = piece, shared.structure, shared.rows
    own, sums = structure.of_frame(rows)
    columns = np.flatnonzero(structure.owner == rows.names.index(name))
    terms = shared.coefficients[columns]
    along = _encoded(structure, rows, name, points)[:, columns].astype(np.float64) @ terms
    rest = sums - own[:, columns].astype(np.float64) @ terms
    flat = from_sums((rest[:, None] + along).reshape(-1, sums.shape[1]), structure.link, shared.scale, shared.column)
    return flat.reshape(rows.rows, len(points))


def _encoded(structure: Structure, rows: Frame, name: str, points: NDArray | None) -> NDArray[np.floating]:
    """Encoded rows at a feature's points; none for a feature that is left out."""
    base = rows.take(np.zeros(0 if points is None else len(points), int))
    return structure.encode(base if points is None else base.replace(name, points))


def _sweep(shared: _Swept, piece: tuple[int, int]) -> NDArray[np.float64]:
    sums = sweep(shared.structure.trees, shared.structure.encode(shared.rows.take(slice(*piece))), shared.axes)
    n, points, k = sums.shape
    flat = from_sums(sums.reshape(n * points, k), shared.structure.link, shared.scale, shared.column)
    return flat.reshape(n, points)


def ice(output: Output, rows: Frame, feature: str, values: NDArray, work: Work | None = None) -> NDArray[np.float64]:
    """Output of every row with the feature set to every value, by asking at every point, shape (rows, values)."""
    work = work or Work()
    step = max(1, EVALUATIONS_AT_ONCE // len(values))
    pieces = [(start, min(start + step, rows.rows)) for start in range(0, rows.rows, step)]
    shared = (output, rows, feature, values)
    done = work.spread(_ask, shared, pieces, "rows read along the feature", [b - a for a, b in pieces])
    return np.concatenate([np.empty((0, len(values))), *done])


def _ask(shared: tuple[Output, Frame, str, NDArray], piece: tuple[int, int]) -> NDArray[np.float64]:
    output, rows, feature, values = shared
    part = rows.take(slice(*piece))
    wide = part.take(np.repeat(np.arange(part.rows), len(values)))
    return output(wide.replace(feature, np.tile(values, part.rows))).reshape(part.rows, len(values))


def centred(curves: NDArray[np.float64], at: int = 0) -> NDArray[np.float64]:
    """Curves less their own value at one point (Goldstein et al. 2015)."""
    return curves - curves[:, at : at + 1]


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


def feature_named(subject: Subject, name: str) -> str:
    """A feature of the model; its first one when no name is given.

    Raises
    ------
    Refused : it is none of the model's.
    """
    features = subject.model.inputs
    if name and name not in features:
        raise Refused(
            f"feature: “{name}” is not a feature of the model; it has {words.listing(list(features))}.",
            todo="Choose one of the model's features.",
        )
    return name or features[0]
