"""The rows of a context: which they are, what happened in them, and how much each weighs."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import rows as row_sets
from zerotilt.core.meaning import RowSet, Spec
from zerotilt.core.predictors import Predictor
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.core.tasks import kind_of


@dataclass(frozen=True)
class Rows:
    """All arrays have shape (n,). Nothing here depends on which class is read."""

    spec: Spec
    table: Table
    predictor: Predictor | None
    which: RowSet

    @cached_property
    def numbers(self) -> NDArray[np.int64]:
        """Row numbers of the table, from 0, ascending."""
        return row_sets.select(self.spec, self.table, self.which)

    @property
    def n(self) -> int:
        return len(self.numbers)

    @cached_property
    def classes(self) -> tuple[str, ...]:
        """The classes where there are more than two, in their order: the model's where there is one."""
        kind = kind_of(self.spec.task)
        if kind.classed and self.predictor is not None:
            return self.predictor.classes
        return kind.classes(self.spec, self.table)

    @cached_property
    def outcome(self) -> NDArray:
        """What happened: whether the event did (bool), the class (its number in ``classes``), or the value.

        Raises
        ------
        Refused : no column says it, or it cannot be used.
        """
        kind = kind_of(self.spec.task)
        found = kind.outcome(self.spec, self.table)[0][self.numbers]
        if kind.classed and self.predictor is not None:
            own = kind.classes(self.spec, self.table)
            return np.array([self.classes.index(level) for level in own])[found]
        return found

    @property
    def outcome_if_known(self) -> NDArray | None:
        """The same; None where no column says it."""
        return self.outcome if self.spec.knows_outcome else None

    @cached_property
    def weights(self) -> NDArray[np.float64] | None:
        found = row_sets.weights(self.spec, self.table)
        return None if found is None else found[self.numbers]

    @cached_property
    def mass(self) -> NDArray[np.float64]:
        """The weight of every row; one where the table has none."""
        return np.ones(self.n) if self.weights is None else self.weights

    def drawn(self, rng: np.random.Generator, most: int) -> NDArray[np.intp]:
        """Places of up to ``most`` rows in random order; rows that weigh nothing are never drawn.

        Raises
        ------
        Refused : no row weighs anything.
        """
        counting = np.flatnonzero(self.mass > 0)
        if not len(counting):
            raise Refused("All of these rows have a weight of zero.", todo="Choose rows with a weight.")
        return counting[rng.permutation(len(counting))[:most]]
