"""Is there data to say so? Combinations that lie farther from any real row than real rows lie from each other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.distance import Space, nearest, space
from zerotilt.core.predictors import Frame
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


def support_in(subject: Subject) -> Support:
    """The same of a context's rows; learnt once for a model and these rows, whatever of it is read."""
    made: dict[str, Support] = vars(subject.model).setdefault("_supports", {})
    key = subject.context.row_set.digest()
    if key not in made:
        made[key] = support_of(subject.frame, 0)
    return made[key]
