"""One case: its inputs, with values written over, and how its values are read by people."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.predictions import Predictions
from zerotilt.core.predictors import Frame
from zerotilt.core.refusal import Refused

YEARS = 1800, 2100
"""Whole numbers of which all lie within these could be years."""
FEW = 100


@dataclass(frozen=True)
class Editor:
    """Cases of one table as a model takes them."""

    predictions: Predictions

    def case(self, row: int, edits: Mapping[str, str] | None = None) -> Frame:
        """The model's inputs of one row of the table, numbered from 0, with some values written over.

        Parameters
        ----------
        edits : values as they would stand in the table; an empty text is missing.

        Raises
        ------
        Refused : there is no such row, or an edit names no feature or no fitting value.
        """
        self.require(row)
        table = self.predictions.rows.table
        frame = self.predictions.model.frame(table, np.array([row]))
        for name, text in (edits or {}).items():
            if name not in frame.names:
                raise Refused(
                    f"edits: “{name}” is not a feature of the model; it has {words.listing(list(frame.names))}."
                )
            frame = frame.replace(name, self._edited(name, text, frame[name].dtype))
        return frame

    def require(self, row: int) -> None:
        """Refuse a row that the table has not."""
        rows = self.predictions.rows.table.rows
        if not 0 <= row < rows:
            raise Refused(
                f"row: {row + 1} was given; the table has {words.count(rows)} rows.",
                todo="Choose a case of this table.",
            )

    def _edited(self, name: str, text: str, kind: np.dtype) -> NDArray:
        if kind.kind != "f":
            return np.array([text], dtype=object)
        try:
            if text and self.is_date(name):
                return np.array([float(np.datetime64(text, "D").astype(int))])
            number = float(text) if text else np.nan
            if text and not np.isfinite(number):
                raise ValueError(text)
            return np.array([number])
        except ValueError:
            what = "a date as 2026-01-31" if self.is_date(name) else "a number"
            raise Refused(
                f"edits: “{text}” was given for “{name}”; it takes {what}.", where=f"column “{name}”"
            ) from None

    def name_of(self, row: int) -> str:
        """A row of the table by its identifier, else by its number from 1."""
        return row_sets.name(self.predictions.rows.spec, self.predictions.rows.table, row)

    def label(self, feature: str, value: float | str) -> str:
        """A model input as people read it: a number in few digits, a day as a date, a level as it is."""
        if isinstance(value, str):
            return value or "missing"
        if np.isnan(value):
            return "missing"
        if self.is_date(feature):
            return str(np.datetime64(int(value), "D"))
        return f"{value:g}" if self.holds_years(feature) else words.quantity(value)

    def holds_years(self, feature: str) -> bool:
        """Whether all numbers of a model input could be years, which are written without a thousands mark."""
        table = self.predictions.rows.table
        if feature not in self._years:
            known = table.numbers(feature) if feature in table.names and table.is_number(feature) else np.empty(0)
            # most columns hold no years, and a few of their numbers say so
            self._years[feature] = _years(known[:FEW]) is not False and bool(_years(known))
        return self._years[feature]

    @cached_property
    def _years(self) -> dict[str, bool]:
        return {}

    def is_date(self, feature: str) -> bool:
        """Whether a model input is a day, counted from 1970."""
        table = self.predictions.rows.table
        return feature in table.names and table.is_date(feature)


def _years(values: NDArray[np.float64]) -> bool | None:
    """Whether all of these could be years; None where none is known."""
    known = values[np.isfinite(values)]
    return bool(((known >= YEARS[0]) & (known <= YEARS[1]) & (known % 1 == 0)).all()) if len(known) else None
