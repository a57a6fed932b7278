"""Numbers moved towards distributions that are alike in all groups, ranks within each group kept."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.steps.remedy import Control, Remedy

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
KNOTS = 256
"""Quantiles of a group between which values are moved along straight lines; fewer values are moved one by one."""
LEAST = 10
"""Rows with which a group's distribution is known well enough to be moved, and to be moved to."""


@dataclass(frozen=True)
class Groups:
    """Of n rows each its group: names, and places among them, shape (n,)."""

    names: tuple[str, ...]
    codes: NDArray[np.int64]

    @classmethod
    def of(cls, group: NDArray | Groups) -> Groups:
        """Of names, shape (n,); told apart once for all columns that are moved."""
        if isinstance(group, Groups):
            return group
        names, codes = np.unique(np.asarray(group).astype(str), return_inverse=True)
        return cls(tuple(str(one) for one in names), codes)

    def among(self, rows: NDArray) -> Groups:
        return Groups(self.names, self.codes[rows])


@dataclass(frozen=True)
class Repair:
    """How one column's values are moved in every group; groups that are not known are left as they are.

    Arithmetic is in single precision and in the order in which the model file does it, so that both give the same bits:
    ``base + (x − lower) · slope``, where the stretch is how many of the group's knots x has reached.
    """

    groups: tuple[str, ...]
    knots: Singles
    """Shape (groups + 1, K), endless where there are fewer; the last row, of no group, has none."""
    lower: Singles
    """Shape (groups + 1, K + 1), of every stretch."""
    base: Singles
    slope: Singles

    def moved(self, values: NDArray, group: NDArray | Groups) -> Singles:
        """Values and their groups, shape (n,)."""
        x = np.asarray(values, np.float32)
        here = Groups.of(group)
        out = x.copy()
        for g, name in enumerate(self.groups):
            if name not in here.names:
                continue
            mine = np.flatnonzero(here.codes == here.names.index(name))
            stretch = np.searchsorted(self.knots[g], x[mine], side="right")
            stretch[np.isnan(x[mine])] = 0
            out[mine] = self.base[g][stretch] + (x[mine] - self.lower[g][stretch]) * self.slope[g][stretch]
        return out


def fitted(values: NDArray, group: NDArray | Groups, level: float) -> Repair:
    """The repair of one column (Feldman et al. 2015, geometric repair).

    A value of a group stands at a share of its ranks; it is moved ``level`` of the way to the median, over groups, of the
    values that stand at the same share. Equal values of a group move together, so that where many rows share one a distance
    stays. Missing values stay missing; groups of fewer than ten values are neither moved nor asked.

    Parameters
    ----------
    values : shape (n,), NaN where missing. group : shape (n,). level : 0 to 1.
    """
    x, here = np.asarray(values, np.float32).astype(float), Groups.of(group)
    known = np.isfinite(x)
    held = {name: np.sort(x[known & (here.codes == g)]) for g, name in enumerate(here.names)}
    held = {name: own for name, own in held.items() if len(own) >= LEAST}
    groups = tuple(held)
    bends = [_knots(one) for one in held.values()]
    wide = max((len(one[0]) for one in bends), default=0)
    shape = len(groups) + 1, wide
    knots = np.full(shape, np.inf, np.float32)
    lower, base = (np.zeros((shape[0], wide + 1), np.float32) for _ in range(2))
    slope = np.ones((shape[0], wide + 1), np.float32)
    for g, (at, share) in enumerate(bends):
        to = np.median([_standing(other, share) for other in held.values()], axis=0)
        end = np.maximum.accumulate(((1 - level) * at + level * to).astype(np.float32))
        k, at = len(at), at.astype(np.float32)
        knots[g, :k] = at
        lower[g, 0], base[g, 0] = at[0], end[0]
        lower[g, 1 : k + 1], base[g, 1 : k + 1] = at, end
        slope[g, 1:k] = _below(end, at)
    return Repair(groups, knots, lower, base, slope)


def _below(end: Singles, at: Singles) -> Singles:
    """Slopes with which no stretch, rounded, ends above where the next begins: so no two values are turned round."""
    slope = np.diff(end) / np.diff(at)
    for _ in range(8):
        above = end[:-1] + np.diff(at) * slope > end[1:]
        slope = np.where(above, np.nextafter(slope, np.float32(0)), slope)
    return slope


def _knots(ordered: Floats) -> tuple[Floats, Floats]:
    """Distinct values at which the movement bends, and at which share of the ranks each stands; of some values in order."""
    at, first, sizes = np.unique(ordered, return_index=True, return_counts=True)
    share = (first + sizes / 2) / len(ordered)
    if len(at) > KNOTS:
        kept = np.unique(np.searchsorted(share, np.linspace(share[0], share[-1], KNOTS)))
        at, share = at[kept], share[kept]
    return at, share


def _standing(ordered: Floats, share: Floats) -> Floats:
    """The values that stand at some shares of the ranks (Hazen 1914)."""
    return np.interp(share * len(ordered) - 0.5, np.arange(len(ordered)), ordered)


class Repairing(Frozen):
    """Numbers moved towards distributions that are alike in all groups (Feldman et al. 2015)."""

    by: str = Field(max_length=500, description="Column that makes the groups")
    level: float = Field(default=1.0, ge=0, le=1, description="0 leaves values as they are; at 1 groups are alike")
    columns: tuple[str, ...] = Field(default=(), max_length=5_000, description="All numbers when empty")


def _said(asked: Repairing) -> str:
    what = words.listing([words.title(one) for one in asked.columns]) if asked.columns else "all numbers"
    return f"{what} moved {asked.level * 100:g}% of the way to being alike in every {words.title(asked.by)}"


REMEDY = Remedy(
    name="repair",
    title="numbers moved",
    where="values",
    settings=Repairing | None,
    nothing=None,
    said=_said,
    does="Numbers are moved, within each group, towards what all groups have at the same rank (Feldman et al. 2015).",
    assumes="It takes for granted that groups would be alike in every number if all were right.",
    hurts="It hurts people whose number truly differs and matters.",
    law="It needs the group of everybody who is decided about, which the law forbids in many places. A repaired value is not what "
    "anybody told; the file moves values itself, and explanations are of values as they are.",
    written="repair = { by, level, columns }",
    by=lambda asked: asked.by,
    levelled=True,
    form={
        "by": Control("numbers made alike in every", "levelled groups"),
        "level": Control("% of the way", "number", scale=100, several=True, usual="100"),
    },
)
