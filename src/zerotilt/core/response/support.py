"""Is there data to say so? Combinations that lie farther from any real row than real rows lie from each other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.distance import Space, nearest, nearest_placed, space
from zerotilt.core.predictors import Frame
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject

REAL_ROWS = 2_000
SHARE = 0.99


@dataclass(frozen=True)
class Support:
    """What real rows look like, from a seeded sample of them.

    ``limit``: 99% of real rows have a neighbour nearer than this (Gower distance).
    """

    where: Space
    real: Frame
    limit: float

    def far(self, asked: Frame) -> NDArray[np.bool_]:
        """Which rows lie farther from any real row than 99% of real rows do, shape (rows,)."""
        return nearest(self.where, self.real, asked)[0] > self.limit


def support_of(frame: Frame, seed: int, most: int = REAL_ROWS) -> Support:
    """Learn it from rows."""
    if frame.rows > most:
        frame = frame.take(np.sort(np.random.default_rng(seed).choice(frame.rows, most, replace=False)))
    where = space(frame)
    limit = float(np.quantile(nearest(where, frame)[0], SHARE)) if frame.rows > 1 else 0.0
    return Support(where, frame, limit)


MOST_PLACED = 4_000_000
"""Cells of rows that are kept placed: 32 MB."""


def nearest_in(subject: Subject, one: Frame, without: int) -> tuple[float, int]:
    """Distance from one row of model inputs to the nearest row of the context, and which of its rows that is.

    Parameters
    ----------
    without : number in the table of a row that does not count: the case itself, which is the nearest to most that is
        written over it.

    Raises
    ------
    Refused : there is no other row.
    """
    support = support_in(subject)
    others = np.flatnonzero(subject.rows.numbers != without)
    if not len(others):
        raise Refused("There is no other row to hold the case against.", todo="Choose more rows.")
    if subject.n * len(subject.frame.names) > MOST_PLACED:
        near, which = nearest(support.where, subject.frame.take(others), one)
    else:
        # placed once for a model and these rows, whatever is tried after
        made: dict[str, NDArray[np.float64]] = vars(subject.model).setdefault("_placed", {})
        key = subject.context.row_set.digest()
        if key not in made:
            made[key] = support.where.place(subject.frame)
        near, which = nearest_placed(support.where, made[key][others], support.where.place(one))
    return float(near[0]), int(others[which[0]])


def support_in(subject: Subject) -> Support:
    """The same of a context's rows; learnt once for a model and these rows, whatever of it is read."""
    made: dict[str, Support] = vars(subject.model).setdefault("_supports", {})
    key = subject.context.row_set.digest()
    if key not in made:
        made[key] = support_of(subject.frame, 0)
    return made[key]
