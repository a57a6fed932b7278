"""A Python function as a predictor, for notebooks and tests."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.meaning import Task
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.protocol import Predictor, checked_numbers
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.core.tasks import kind_of

FUNCTION = "the function"


class FunctionPredictor(Predictor):
    """Wraps ``function(frame) -> probabilities or values`` over the named columns.

    The function gives shape (rows,) or (rows, k); with several classes one
    column a class, in the order of ``classes``. Truth values come as 0 and 1,
    dates as days since 1970.
    """

    def __init__(
        self,
        inputs: Sequence[str],
        function: Callable[[Frame], NDArray[np.float64]],
        task: Task = Task.binary,
        classes: Sequence[str] = (),
    ):
        self.inputs = tuple(inputs)
        self.task = task
        self.classes = tuple(classes) if kind_of(task).classed else ()
        self._function = function

    def frame(self, table: Table, rows: NDArray[np.int64]) -> Frame:
        return Frame(
            {
                name: np.array([value or "" for value in table.texts(name)[rows]], dtype=object)
                if table.is_text(name)
                else table.numbers(name)[rows]
                for name in self.inputs
            }
        )

    def outputs(self, frame: Frame) -> NDArray[np.float64]:
        values = np.asarray(self._function(frame), dtype=np.float64)
        if values.ndim == 1:
            values = values[:, None]
        if values.shape != (frame.rows, self.width):
            raise Refused(
                f"It gave an array of shape {values.shape} for {frame.rows} rows; expected ({frame.rows}, {self.width}).",
                where=FUNCTION,
                todo="Give one number a row, or one a row and class.",
            )
        return checked_numbers(values, self.task, FUNCTION)
