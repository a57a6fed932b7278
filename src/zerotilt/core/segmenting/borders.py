"""Where a column is cut: borders of equal width or equal counts, and those between which a value changes most."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.stats.roundest import roundest

Floats = NDArray[np.float64]
MOST_PLACES = 200
CLOSE = 0.005
"""Of a column's range: so near to where it would lie a border with fewer digits stays."""


def equal_width(values: Floats, parts: int) -> list[float]:
    """Borders between ``parts`` stretches of one width, from the least known value to the greatest."""
    known = values[np.isfinite(values)]
    if not len(known) or known.min() == known.max():
        return []
    return _different(np.linspace(known.min(), known.max(), parts + 1)[1:-1], known)


def equal_counts(values: Floats, parts: int, weights: Floats) -> list[float]:
    """Borders between ``parts`` parts of about as many rows (weight, where rows weigh); values that tie stay together.

    The border is the largest value of its part: rows up to it belong to it.
    """
    counting = np.isfinite(values) & (weights > 0)
    known, mass = values[counting], weights[counting]
    if not len(known):
        return []
    order = np.argsort(known, kind="stable")
    along = np.cumsum(mass[order])
    wanted = along[-1] * np.arange(1, parts) / parts
    # a sum that falls just short of its share by rounding has reached it
    places = np.searchsorted(along, wanted * (1 - 1e-12), "left")
    return _different(known[order][np.minimum(places, len(known) - 1)], known)


def _different(borders: Floats, known: Floats) -> list[float]:
    """Each border once, and only those that leave rows on both sides."""
    return [_brief(float(one), known) for one in np.unique(borders) if known.min() <= one < known.max()]


def _brief(border: float, known: Floats) -> float:
    """A border in as few digits as leave the same rows on either side, where it hardly moves for it: it is said, too.

    >>> _brief(0.670709123171108, np.array([0.1, 0.670709123171108, 0.68]))
    0.671
    """
    below, above = float(known[known <= border].max()), float(known[known > border].min())
    near = CLOSE * float(np.ptp(known))
    return roundest(max(below, border - near), min(above, border + near))


def where_it_changes(values: Floats, target: Floats, weights: Floats, parts: int, least: int) -> list[float]:
    """Borders for which the target differs least within its parts and most between them (Fisher 1958).

    Every choice of up to ``parts`` − 1 borders among up to 200 places is weighed, each part with at least ``least`` rows.
    There are fewer where one part more gains less than Schwarz' criterion asks of it: 2 ln n times the variance of a row
    (Yao 1988).
    """
    counting = np.isfinite(values) & np.isfinite(target) & (weights > 0)
    v, t, w = values[counting], target[counting], weights[counting]
    if len(v) < 2 * least:
        return []
    order = np.argsort(v, kind="stable")
    v, t, w = v[order], t[order], w[order]
    ends = np.flatnonzero(np.diff(v))  # the last row of each distinct value but the greatest
    if len(ends) > MOST_PLACES:
        wanted = np.linspace(0, len(v), MOST_PLACES + 2)[1:-1]
        ends = np.unique(ends[np.minimum(np.searchsorted(ends, wanted), len(ends) - 1)])
    chosen = fewest_apart(np.concatenate([ends + 1, [len(v)]]), t, w, parts, least)
    return [_brief(float(v[one - 1]), v) for one in chosen]


def fewest_apart(ends: NDArray[np.int64], target: Floats, weights: Floats, parts: int, least: int) -> list[int]:
    """Ends of the parts but the last, among ``ends`` (rows up to each), so that squares within parts are least."""
    at = np.concatenate([[0], ends])
    mass, first, second = (
        np.concatenate([[0.0], np.cumsum(one)])[at] for one in (weights, weights * target, weights * target**2)
    )
    m = len(at)
    low, high = np.meshgrid(np.arange(m), np.arange(m), indexing="ij")
    weight = mass[high] - mass[low]
    with np.errstate(invalid="ignore", divide="ignore"):
        within = (second[high] - second[low]) - (first[high] - first[low]) ** 2 / weight
    cost = np.where((high > low) & (at[high] - at[low] >= least), np.maximum(within, 0.0), np.inf)
    best, came = [cost[0]], []
    for _ in range(parts - 1):
        through = best[-1][:, None] + cost
        came.append(np.argmin(through, axis=0))
        best.append(through[came[-1], np.arange(m)])
    n = len(target)
    asked = 2 * np.log(n) * float(cost[0, -1]) / (n - 1)
    worth = [one[-1] + asked * k for k, one in enumerate(best)]
    k, place, chosen = int(np.argmin(worth)), m - 1, []
    for step in range(k - 1, -1, -1):
        place = int(came[step][place])
        chosen.append(int(at[place]))
    return chosen[::-1]
