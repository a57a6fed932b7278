"""One output of a predictor on one scale, as a function of rows."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.output import Scale
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.protocol import Predictor


@dataclass(frozen=True)
class Asked:
    """f(x) of the context: can be sent elsewhere and asked about any rows."""

    predictor: Predictor
    scale: Scale
    column: int

    def __call__(self, frame: Frame) -> NDArray[np.float64]:
        """Shape (frame.rows,)."""
        return self.predictor.on_scale(frame, self.scale, self.column)
