"""How much each row moves a metric: standard errors of changes between two readings that share rows."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.groups.metrics import class_of, metric_named
from zerotilt.core.groups.readout import Readout
from zerotilt.core.membership import JOIN
from zerotilt.core.stats import distributions, intervals
from zerotilt.core.stats.intervals import Interval

Floats = NDArray[np.float64]


def influence(readout: Readout, key: str, mask: NDArray[np.bool_]) -> tuple[float, Floats]:
    """A metric of the rows in ``mask``, and by how much each of them moves it, shape (rows in mask,).

    The sum of squares is the metric's sampling variance to first order (Hampel
    1974); of two metrics of the same rows, that of the differences is the
    variance of their difference. NaN and zeros where the metric is not defined.
    """
    w = np.ones(int(mask.sum())) if readout.weights is None else readout.weights[mask]
    kind = metric_named(key).kind
    if kind == "rate":
        lens = next(lens for lens in readout.lenses if key in lens.keys)
        metric, sides = lens.keys[key], (lens.y[mask], lens.d[mask], lens.favoured[mask])
        among = w * metric.among(*sides)
        return _ratio(among * metric.counted(*sides), among)
    if kind == "macro":
        parts = [
            influence(readout, one, mask)
            for lens in readout.lenses
            for one in lens.keys
            if one.startswith(key.removeprefix("macro_") + JOIN) and class_of(one)
        ]
        return float(np.mean([value for value, _ in parts])), np.mean([moves for _, moves in parts], axis=0)
    if kind == "area":
        return _area(readout, mask, w)
    if kind == "calibration":
        return float("nan"), np.zeros(len(w))
    value, moves = _ratio(w * readout.means[key][mask], w)
    if kind == "root":
        root = np.sqrt(value)
        return float(root), moves / (2 * root) if root > 0 else np.zeros(len(w))
    return value, moves


def _ratio(top: Floats, bottom: Floats) -> tuple[float, Floats]:
    whole = bottom.sum()
    if not whole > 0:
        return float("nan"), np.zeros(len(top))
    value = top.sum() / whole
    return float(value), (top - value * bottom) / whole


def _area(readout: Readout, mask: NDArray[np.bool_], w: Floats) -> tuple[float, Floats]:
    scores, happened = readout.events
    scores, happened = scores[mask], happened[mask]
    if not w[happened].sum() > 0 or not w[~happened].sum() > 0:
        return float("nan"), np.zeros(len(w))
    sides = intervals.placements(scores, happened, w)
    moves = np.zeros(len(w))
    value = float(np.average(sides[0], weights=w[happened]))
    for side, placed in ((happened, sides[0]), (~happened, sides[1])):
        moves[side] = w[side] * (placed - value) / w[side].sum()
    return value, moves


def log_change(pairs: list[tuple[float, Floats]], shared: bool, confidence: float) -> tuple[Interval, float]:
    """The change of a ratio from one reading to another, as a factor, and its p-value.

    Parameters
    ----------
    pairs : group and reference in the first reading, then in the second, from :func:`influence`.
    shared : both readings are of the same rows.
    """
    values = [value for value, _ in pairs]
    if any(not np.isfinite(value) or value <= 0 for value in values):
        return Interval(*(np.array(np.nan),) * 3), float("nan")
    change = np.log(values[2]) - np.log(values[3]) - np.log(values[0]) + np.log(values[1])
    moves = [one / value for value, one in pairs]
    error = _error(moves, shared)
    half = intervals.normal_quantile(confidence) * error
    return Interval(*(np.array(np.exp(change + side)) for side in (0, -half, half))), _p(change, error)


def change(pairs: list[tuple[float, Floats]], shared: bool, confidence: float) -> tuple[Interval, float]:
    """The change of a difference from one reading to another, and its p-value."""
    values = [value for value, _ in pairs]
    gap = values[2] - values[3] - values[0] + values[1]
    if not np.isfinite(gap):
        return Interval(*(np.array(np.nan),) * 3), float("nan")
    error = _error([moves for _, moves in pairs], shared)
    half = intervals.normal_quantile(confidence) * error
    return Interval(*(np.array(gap + side) for side in (0, -half, half))), _p(gap, error)


def _error(moves: list[Floats], shared: bool) -> float:
    if shared:
        return float(
            np.sqrt(sum(((after - before) ** 2).sum() for before, after in zip(moves[:2], moves[2:], strict=True)))
        )
    return float(np.sqrt(sum((one**2).sum() for one in moves)))


def _p(change: float, error: float) -> float:
    if error <= 0:
        return 1.0 if abs(change) < 1e-12 else 0.0
    return float(2 * distributions.normal_tail(abs(change) / error))
