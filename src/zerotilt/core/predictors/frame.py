"""Model inputs of some rows: one array a column, in the columns people know."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray


class Frame:
    """Columns of equal length: float64 (NaN is missing) or text ("" is missing).

    A frame is never changed; ``take`` and ``replace`` give new ones that share
    the untouched arrays.
    """

    def __init__(self, columns: Mapping[str, NDArray]):
        self.columns = dict(columns)
        self.rows = len(next(iter(self.columns.values()))) if self.columns else 0

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(self.columns)

    def __getitem__(self, name: str) -> NDArray:
        return self.columns[name]

    def take(self, rows: NDArray[np.integer] | slice) -> Frame:
        return Frame({name: values[rows] for name, values in self.columns.items()})

    def replace(self, name: str, values: NDArray) -> Frame:
        return Frame(self.columns | {name: values})
