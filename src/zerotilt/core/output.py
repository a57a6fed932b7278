"""The scale a prediction is read on."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

CLIP = 1e-6


def transform(probability: NDArray[np.float64], scale: Literal["probability", "log-odds"]) -> NDArray[np.float64]:
    """Probability as it is, or its log-odds ln(p / (1 − p)) with p kept a millionth away from 0 and 1."""
    if scale == "probability":
        return probability
    kept = np.clip(probability, CLIP, 1 - CLIP)
    return np.log(kept) - np.log1p(-kept)
