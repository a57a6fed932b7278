"""That figures are weighted, and what that leaves of the rows: said once beside every figure that is."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.frozen import Frozen


class Weighing(Frozen):
    """By which column rows are weighted, and as how many of equal weight they count."""

    column: str
    effective: float | None = Field(default=None, description="(Σw)² / Σw², Kish 1965; null where it was not kept")
    nothing: int = Field(default=0, description="Rows of weight zero, which count in no figure")

    @classmethod
    def by(cls, column: str, weights: NDArray[np.float64]) -> Weighing:
        """Of rows of these weights, shape (n,), none negative; 0 where none weighs anything.

        >>> Weighing.by("w", np.array([1.0, 1.0, 2.0])).effective
        2.6666666666666665
        """
        squared = float((weights**2).sum())
        effective = float(weights.sum()) ** 2 / squared if squared > 0 else 0.0
        return cls(column=column, effective=effective, nothing=int((weights == 0).sum()))

    def said(self, row: str, rows: str) -> str:
        """
        >>> Weighing(column="survey_weight", effective=1203.4).said("claim", "claims")
        'Weighted by survey weight: as precise as 1,203 claims of equal weight.'
        >>> Weighing(column="w", effective=9.0, nothing=1).said("row", "rows")
        'Weighted by w: as precise as 9 rows of equal weight. 1 row weighs nothing and counts in no figure.'
        """
        if self.effective is None:
            return f"Weighted by {words.title(self.column)}."
        some = "weighs nothing and counts" if self.nothing == 1 else "weigh nothing and count"
        none = f" {words.plural(self.nothing, row, rows)} {some} in no figure." if self.nothing else ""
        return (
            f"Weighted by {words.title(self.column)}: as precise as "
            f"{words.plural(round(self.effective), row, rows)} of equal weight.{none}"
        )
