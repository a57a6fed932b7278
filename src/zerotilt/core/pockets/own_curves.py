"""What the model knows of a place: its curves there and elsewhere, and how far its features move the output."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core.frozen import Frozen
from zerotilt.core.response.curves import Grid, all_curves, grid_of, support_at
from zerotilt.core.stats import weighing
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

MOST_CURVES, POINTS, MOST_READ = 6, 20, 200


class PlacePoint(Frozen):
    """The mean output of both sides with one feature at one value."""

    position: float | None = Field(description="On a numeric axis; null for a level and for missing")
    label: str
    inside: float
    outside: float
    rows: int = Field(description="Rows of the place near this value, or at this level")
    scarce: bool = Field(description="Too few of the place's rows lie there")


class PlaceCurve(Frozen):
    """Mean ICE curves of the rows of a place and of all others, along one feature."""

    feature: str
    numeric: bool
    told_by: bool = Field(description="A condition of the place is about it")
    points: tuple[PlacePoint, ...]


def own_curves(
    subject: Subject, features: Sequence[str], told_by: set[str], inside: NDArray[np.bool_], counted: NDArray[np.bool_],
    seed: int, work: Work,
) -> tuple[PlaceCurve, ...]:  # fmt: skip
    """Partial dependence of both sides (Friedman 2001), of 200 rows each at most.

    Parameters
    ----------
    features : along which, at most six. inside, counted : shape (n,); which rows lie in the place, and which are read.
    """
    if subject.predictor is None:
        return ()
    rng = np.random.default_rng(seed)
    heavy = counted & (subject.rows.mass > 0)
    sides = [np.sort(rng.permutation(np.flatnonzero(one & heavy))[:MOST_READ]) for one in (inside, ~inside)]
    if not all(len(one) for one in sides):
        return ()
    grids = {name: grid_of(subject, name, POINTS) for name in features[:MOST_CURVES]}
    read = np.concatenate(sides)
    found = all_curves(subject, subject.frame.take(read), {name: grid.values for name, grid in grids.items()}, work)
    first, mass = len(sides[0]), subject.rows.mass[read]
    return tuple(
        _curve(subject, name, grid, name in told_by, found[name], first, mass, inside) for name, grid in grids.items()
    )


def _curve(subject: Subject, name: str, grid: Grid, told_by: bool, found, first: int, mass, inside) -> PlaceCurve:
    means = [weighing.mean(found[part], mass[part]) for part in (slice(None, first), slice(first, None))]
    rows, scarce = support_at(subject.frame[name][inside], grid)
    positions = np.full(len(grid.values), np.nan) if grid.positions is None else grid.positions
    return PlaceCurve(
        feature=name,
        numeric=grid.positions is not None,
        told_by=told_by,
        points=tuple(
            PlacePoint(
                position=float(positions[i]) if np.isfinite(positions[i]) else None,
                label=label,
                inside=float(means[0][i]),
                outside=float(means[1][i]),
                rows=int(rows[i]),
                scarce=bool(scarce[i]),
            )
            for i, label in enumerate(grid.labels)
        ),
    )
