"""One output of a predictor on one scale, as a function of rows."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.output import Scale, log_odds
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.protocol import Predictor


@dataclass(frozen=True)
class Asked:
    """f(x) of the context: can be sent elsewhere and asked about any rows."""

    predictor: Predictor
    scale: Scale
    column: int
    as_it_is: bool = False
    """Whether log-odds come from the model's own probabilities, although it is read as a sum."""

    def __call__(self, frame: Frame) -> NDArray[np.float64]:
        """Shape (frame.rows,)."""
        if self.as_it_is and self.scale == "log-odds":
            return log_odds(self.predictor.outputs(frame))[:, self.column]
        return self.predictor.on_scale(frame, self.scale, self.column)

    def believed(self, *frames: Frame) -> Asked:
        """The same, asked as a sum only where that sum is the model's own output in every row of these frames."""
        if self.predictor.known_structure is None or self.predictor.structure_for(*frames) is not None:
            return self
        return replace(self, as_it_is=True)
