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

    @classmethod
    def by(cls, column: str, weights: NDArray[np.float64]) -> Weighing:
        """Of rows of these weights, shape (n,), none negative; 0 where none weighs anything.

        >>> Weighing.by("w", np.array([1.0, 1.0, 2.0])).effective
        2.6666666666666665
        """
        squared = float((weights**2).sum())
        return cls(column=column, effective=float(weights.sum()) ** 2 / squared if squared > 0 else 0.0)

    def said(self, row: str, rows: str) -> str:
        """
        >>> Weighing(column="survey_weight", effective=1203.4).said("claim", "claims")
        'Weighted by survey weight: as precise as 1,203 claims of equal weight.'
        """
        if self.effective is None:
            return f"Weighted by {words.title(self.column)}."
        return (
            f"Weighted by {words.title(self.column)}: as precise as "
            f"{words.plural(round(self.effective), row, rows)} of equal weight."
        )
