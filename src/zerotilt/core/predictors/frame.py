"""Model inputs of some rows: one array a column, in the columns people know."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from zerotilt.core.stats.distinct import Distinct, distinct


class Frame:
    """Columns of equal length: float64 (NaN is missing) or text ("" is missing).

    A frame is never changed; ``take`` and ``replace`` give new ones that share
    the untouched arrays.
    """

    def __init__(self, columns: Mapping[str, NDArray]):
        self.columns = dict(columns)
        self.rows = len(next(iter(self.columns.values()))) if self.columns else 0
        self._distinct: dict[str, Distinct] = {}

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(self.columns)

    def __getitem__(self, name: str) -> NDArray:
        return self.columns[name]

    def __getstate__(self) -> dict[str, Any]:
        """For sending elsewhere: texts as levels and codes, which are sent many times faster than texts."""
        packed = {
            name: pa.array(values, pa.string()).dictionary_encode() if values.dtype == object else values
            for name, values in self.columns.items()
        }
        return {"rows": self.rows, "columns": packed}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.rows = state["rows"]
        self._distinct = {}
        self.columns = {
            name: np.array([*values.dictionary.to_pylist(), None], object)[values.indices.to_numpy()]
            if isinstance(values, pa.DictionaryArray)
            else values
            for name, values in state["columns"].items()
        }

    def distinct(self, name: str) -> Distinct:
        """The distinct values of a column, as text; found once."""
        if name not in self._distinct:
            self._distinct[name] = distinct(self.columns[name])
        return self._distinct[name]

    def take(self, rows: NDArray[np.integer] | slice) -> Frame:
        return Frame({name: values[rows] for name, values in self.columns.items()})

    def replace(self, name: str, values: NDArray) -> Frame:
        return Frame(self.columns | {name: values})
