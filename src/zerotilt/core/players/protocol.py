"""What is explained of a case: its players, and the rows mixed of it and others."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.predictors import Frame

EVALUATIONS_AT_ONCE = 65_536
Output = Callable[[Frame], NDArray[np.float64]]


class Players(Protocol):
    """How raw rows are divided into what is explained, and what a model says of rows mixed of them.

    Columns are one kind; words of a text and regions of an image are others. A
    method that explains asks nothing else about a row.
    """

    @property
    def names(self) -> tuple[str, ...]:
        """Of the p players, in their order."""
        ...

    def __call__(
        self, case: NDArray[np.integer], other: NDArray[np.integer], known: NDArray[np.bool_]
    ) -> NDArray[np.float64]:
        """Output of each mixed row, shape (m,).

        Parameters
        ----------
        case, other : row numbers in cases and others, shape (m,).
        known : which players come from the case, shape (m, p).
        """
        ...

    def walks(
        self, case: NDArray[np.integer], other: NDArray[np.integer], orders: NDArray[np.integer]
    ) -> NDArray[np.float64]:
        """Output with the first 0, 1, … p players of an order from the case, shape (m, p + 1); ``orders``: (m, p)."""
        ...

    def of_cases(self) -> NDArray[np.float64]:
        """Output of every case, from the same arithmetic as mixed rows."""
        ...

    def of_others(self) -> NDArray[np.float64]:
        """Output of every background row, from the same arithmetic as mixed rows."""
        ...


Divide = Callable[[Output, Frame, Frame], Players]
"""Makes players of an output, cases, and the rows that stand for what is not known."""
