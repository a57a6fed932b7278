"""Two versions on the same rows: the difference of every metric in every group, with its interval and test."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from zerotilt.core.groups.measure import means_of
from zerotilt.core.groups.metrics import Metric, metric_named
from zerotilt.core.groups.readout import Lens, Readout
from zerotilt.core.groups.tally import CELLS
from zerotilt.core.membership import JOIN, Grouping
from zerotilt.core.stats import distributions, intervals
from zerotilt.core.stats.intervals import Interval
from zerotilt.core.stats.paired import mcnemar, tango

Floats = NDArray[np.float64]
_Y, _D, _F = (np.arange(CELLS) >> bit & 1 == 1 for bit in range(3))
PAIRS = CELLS * CELLS


@dataclass(frozen=True)
class Changed:
    """Of one metric in k groups: the second version's less the first's, with its two-sided p-value; shapes (k,)."""

    interval: Interval
    p: Floats


def paired(here: Readout, there: Readout, grouping: Grouping, confidence: float) -> dict[str, Changed]:
    """Every metric that both are read in, by key.

    A rate among rows that both versions have in common, of rows that weigh alike: the score interval and McNemar's test
    (Tango 1998; McNemar 1947), group by group. Other rates, and with weights: the linearised variance of the difference of two
    ratios of the same rows, with half a row added to each way in which one can differ (as Agresti & Min 2005). Means: Student's of the differences row by row, AUC: DeLong et al. (1988), with half a row added to
    each way of moving, as large as those that move most; a root of means by the ends of what is under it. Macro rates: of the classes' differences (Zou & Donner 2008).

    Parameters
    ----------
    here, there : of the same n rows. grouping : of these rows.
    """
    k = len(grouping.labels)
    if grouping.codes is not None:
        return _of_codes(here, there, grouping.codes, k, confidence)
    each = [_of_codes(here, there, np.where(mask, 0, 1), 2, confidence) for mask in grouping.apart]
    return {
        key: Changed(
            Interval(*(np.array([float(one[key].interval[end][0]) for one in each]) for end in range(3))),
            np.array([float(one[key].p[0]) for one in each]),
        )
        for key in (each[0] if each else ())
    }


def _of_codes(here: Readout, there: Readout, codes: NDArray[np.int64], k: int, confidence: float) -> dict[str, Changed]:
    found: dict[str, Changed] = {}
    for first, second in zip(here.lenses, there.lenses, strict=True):
        table = _together(first, second, codes, k, here.weights)
        for key, metric in first.keys.items():
            if key in second.keys:
                found[key] = _rate(metric, table, here.weights is None, confidence)
    for name in here.macro:
        parts = [one for key, one in found.items() if key.startswith(name.removeprefix("macro_") + JOIN)]
        if parts:
            found[name] = _macro(parts, confidence)
    found |= _means(here, there, codes, k, confidence)
    if here.area and there.area:
        found["auc"] = _area(here, there, codes, k, confidence)
    return {key: found[key] for key in here.keys if key in found}


def _together(first: Lens, second: Lens, codes: NDArray[np.int64], k: int, weights: Floats | None) -> Floats:
    """Rows, Σw and Σw² by group and both versions' cells, shape (k, 8, 8, 3); rows that weigh nothing are not counted."""
    place = (codes * CELLS + first.cells) * CELLS + second.cells
    if weights is None:
        rows = np.bincount(place, minlength=k * PAIRS).astype(np.float64)
        sums = [rows, rows, rows]
    else:
        counts = (weights > 0).astype(float)
        sums = [np.bincount(place, one, k * PAIRS) for one in (counts, weights * counts, weights**2 * counts)]
    return np.stack(sums, axis=-1).astype(np.float64).reshape(k, CELLS, CELLS, 3)


HIT, MISS, OUT = 1, 0, 2
"""What a row is to a rate: counted, among those it is a rate of, or neither."""
HALF = 0.5
"""Rows that are added to each way in which a row can differ between the versions (as Agresti & Min 2005): where few differ, or
none, how far that is chance is not nothing."""


def _rate(metric: Metric, table: Floats, alike: bool, confidence: float) -> Changed:
    among, counted = metric.among(_Y, _D, _F), metric.counted(_Y, _D, _F)
    hit = among & counted
    a, b = among[:, None] & np.ones(CELLS, bool), np.ones((CELLS, 1), bool) & among
    rows = table[..., 0]
    found = _linearised(among, hit, table, confidence)
    common = alike & ~rows[:, a ^ b].any(axis=1)
    if not common.any():
        return found
    new, mended = (rows[:, one].sum(axis=1) for one in (~hit[:, None] & hit & a, hit[:, None] & ~hit & a))
    exact = Changed(tango(new, mended, rows[:, a].sum(axis=1), confidence), mcnemar(new, mended))
    ends = (np.where(common, one, other) for one, other in zip(exact.interval, found.interval, strict=True))
    return Changed(Interval(*ends), np.where(common, exact.p, found.p))


def _linearised(among: NDArray[np.bool_], hit: NDArray[np.bool_], table: Floats, confidence: float) -> Changed:
    """The difference of two ratios of the same rows by what each row moves it; half a row is added to every way to differ."""
    rows, mass, square = table[..., 0], table[..., 1], table[..., 2]
    state = np.where(among, np.where(hit, HIT, MISS), OUT)
    # what happened is the same in both versions
    pairs = {(int(state[i]), int(state[j])) for i in range(CELLS) for j in range(CELLS) if _Y[i] == _Y[j]}
    pairs = sorted(one for one in pairs if one[0] != one[1])
    sides = [np.broadcast_to(one, (CELLS, CELLS)) for one in (state[:, None], state[None, :])]
    either = (sides[0] != OUT) | (sides[1] != OUT)
    with np.errstate(invalid="ignore", divide="ignore"):
        weight = np.nan_to_num((square * either).sum(axis=(1, 2)) / (mass * either).sum(axis=(1, 2)))  # of one row
        plain, moved, extra = [], [], []
        for place, side in enumerate(sides):
            below, above = ((mass * which).sum(axis=(1, 2)) for which in (side != OUT, side == HIT))
            plain.append(above / below)
            base = below + HALF * weight * sum(one[place] != OUT for one in pairs)
            rate = (above + HALF * weight * sum(one[place] == HIT for one in pairs)) / base
            share = np.where(side == OUT, 0.0, (side == HIT) - rate[:, None, None]) / base[:, None, None]
            moved.append(share)
            extra.append([0.0 * rate if one[place] == OUT else ((one[place] == HIT) - rate) / base for one in pairs])
        variance = (square * (moved[1] - moved[0]) ** 2).sum(axis=(1, 2))
        variance += sum(HALF * weight**2 * (two - one) ** 2 for one, two in zip(*extra, strict=True))
        n = (rows * either).sum(axis=(1, 2))
        return _about(plain[1] - plain[0], variance, n, confidence)


def _about(value: Floats, variance: Floats, n: Floats, confidence: float) -> Changed:
    """A difference with Student's interval on n − 1 degrees of freedom; no ends where nothing varies: how far that is chance
    is then not known."""
    with np.errstate(invalid="ignore", divide="ignore"):
        error = np.sqrt(variance)
        free = np.maximum(n - 1, 1)
        half = distributions.t_quantile(0.5 + confidence / 2, free) * error
        p = 2 * distributions.t_tail(np.abs(value) / error, free)
    p = np.where(error > 0, p, np.where(value == 0, 1.0, np.nan))
    known = np.isfinite(value) & (n > 1)
    ends = (np.where(known & (error > 0), one, np.nan) for one in (value - half, value + half))
    return Changed(Interval(value, *ends), np.where(known, p, np.nan))


def _macro(parts: list[Changed], confidence: float) -> Changed:
    value, low, high = (np.array([one.interval[end] for one in parts]) for end in range(3))
    middle = value.mean(axis=0)
    down, up = (np.sqrt(((value - side) ** 2).sum(axis=0)) / len(parts) for side in (low, high))
    interval = Interval(middle, middle - down, middle + up)
    return Changed(interval, intervals.tested(interval, confidence))


def _means(here: Readout, there: Readout, codes: NDArray[np.int64], k: int, confidence: float) -> dict[str, Changed]:
    names = [name for name in here.means if name in there.means]
    if not names:
        return {}
    out: dict[str, Changed] = {}
    mass = np.ones(len(codes)) if here.weights is None else here.weights
    for name in names:
        found = _mean(there.means[name] - here.means[name], mass, codes, k, confidence)
        interval = found.interval
        if metric_named(name).kind == "root":
            roots = [
                np.sqrt(
                    np.maximum(means_of({name: one.means[name]}, here.weights, codes, k, confidence)[name].value, 0)
                )
                for one in (here, there)
            ]
            with np.errstate(invalid="ignore", divide="ignore"):
                interval = Interval(
                    *(np.where(roots[0] + roots[1] > 0, end / (roots[0] + roots[1]), end) for end in interval)
                )
        out[name] = Changed(interval, found.p)
    return out


def _mean(difference: Floats, mass: Floats, codes: NDArray[np.int64], k: int, confidence: float) -> Changed:
    """Of differences row by row. Half a row that moves as those do that move most is added to each of both ways."""
    kept = mass > 0
    code, w, moved = codes[kept], mass[kept], difference[kept]
    rows, whole = np.bincount(code, minlength=k), np.bincount(code, w, k)
    with np.errstate(invalid="ignore", divide="ignore"):
        middle = np.bincount(code, w * moved, k) / whole
        square = np.bincount(code, (w * (moved - middle[code])) ** 2, k)
        variance = square / whole**2 * rows / np.maximum(rows - 1, 1)
        variance += 2 * HALF * _large(moved) * (_unit(w) / whole) ** 2
    return _about(middle, variance, rows, confidence)


def _large(moved: Floats) -> float:
    """The mean square of differences of all groups, each counted by its own square: that of those which move most, however
    few they are; in a small group there may be none of them."""
    square = moved[np.isfinite(moved)] ** 2
    total = float(square.sum())
    return float((square**2).sum()) / total if total > 0 else 0.0


def _unit(mass: Floats) -> float:
    """What one row weighs, by weight."""
    return float((mass**2).sum() / mass.sum()) if mass.size else 1.0


def _area(here: Readout, there: Readout, codes: NDArray[np.int64], k: int, confidence: float) -> Changed:
    mass = np.ones(len(codes)) if here.weights is None else here.weights
    _, happened = here.events
    below = [placements(*one.ranking, happened, mass, codes, k) for one in (here, there)]
    whole, mean, square, rows = spread_of(below[1] - below[0], happened, mass, codes, k)
    with np.errstate(invalid="ignore", divide="ignore"):
        variance = square / whole**2 * rows / np.maximum(rows - 1, 1)
        large = _large((below[1] - below[0])[mass > 0])
        variance += HALF * large * (_unit(mass[mass > 0]) / whole) ** 2
    return _about(mean[1], variance.sum(axis=0), rows.min(axis=0), confidence)  # both sides have the same mean


@njit(cache=True, nogil=True, error_model="numpy")
def spread_of(difference, happened, mass, codes, k):
    """Of both sides of each group, shapes (2, k): Σw, the mean, Σw²(v − mean)², and rows that weigh something."""
    whole, mean, square, rows = np.zeros((2, k)), np.zeros((2, k)), np.zeros((2, k)), np.zeros((2, k))
    for i in range(len(codes)):
        if mass[i] > 0:
            side, g = 1 if happened[i] else 0, codes[i]
            whole[side, g] += mass[i]
            mean[side, g] += mass[i] * difference[i]
            rows[side, g] += 1
    mean /= whole
    for i in range(len(codes)):
        if mass[i] > 0:
            side, g = 1 if happened[i] else 0, codes[i]
            square[side, g] += (mass[i] * (difference[i] - mean[side, g])) ** 2
    return whole, mean, square, rows


@njit(cache=True, nogil=True)
def placements(order, ends, happened, mass, codes, k):
    """Of each row the share, by mass, of its group's rows of the other side that it is ranked right against; ties half."""
    n = len(order)
    whole = np.zeros((2, k))
    for i in range(n):
        whole[1 if happened[i] else 0, codes[i]] += mass[i]
    passed = np.zeros((2, k))
    tied = np.zeros((2, k))
    out = np.zeros(n)
    first = 0
    for place in range(n):
        i = order[place]
        tied[1 if happened[i] else 0, codes[i]] += mass[i]
        if ends[place]:
            for at in range(first, place + 1):
                j = order[at]
                g = codes[j]
                if happened[j]:
                    right = passed[0, g] + tied[0, g] / 2
                    out[j] = right / whole[0, g] if whole[0, g] > 0 else np.nan
                else:
                    right = whole[1, g] - passed[1, g] - tied[1, g] / 2
                    out[j] = right / whole[1, g] if whole[1, g] > 0 else np.nan
            for at in range(first, place + 1):
                j = order[at]
                side, g = 1 if happened[j] else 0, codes[j]
                passed[side, g] += tied[side, g]
                tied[side, g] = 0.0
            first = place + 1
    return out
