"""What every predictor offers to the methods."""

from __future__ import annotations

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.predictors.frame import Frame
from zerotilt.core.table import Table


class Predictor(Protocol):
    """A model of two classes that can be asked about any rows."""

    inputs: tuple[str, ...]
    notes: tuple[str, ...]

    def frame(self, table: Table, rows: NDArray[np.int64]) -> Frame:
        """The model's inputs for some rows of a table."""
        ...

    def score(self, frame: Frame) -> NDArray[np.float64]:
        """Probability of the event, shape (frame.rows,), each within 0 and 1."""
        ...
