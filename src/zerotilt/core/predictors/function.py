"""A Python function as a predictor, for notebooks and tests."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.predictors.frame import Frame
from zerotilt.core.table import Table


class FunctionPredictor:
    """Wraps ``function(frame) -> probabilities`` over the named columns."""

    def __init__(self, inputs: Sequence[str], function: Callable[[Frame], NDArray[np.float64]]):
        self.inputs = tuple(inputs)
        self.notes: tuple[str, ...] = ()
        self._function = function

    def frame(self, table: Table, rows: NDArray[np.int64]) -> Frame:
        return Frame(
            {
                name: table.numbers(name)[rows]
                if table.is_number(name)
                else np.array([value or "" for value in table.texts(name)[rows]], dtype=object)
                for name in self.inputs
            }
        )

    def score(self, frame: Frame) -> NDArray[np.float64]:
        return np.asarray(self._function(frame), dtype=np.float64)
