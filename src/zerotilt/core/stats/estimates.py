"""A number and how sure it is."""

from __future__ import annotations

import numpy as np

from zerotilt.core.frozen import Frozen

LOSS_CLIP = 1e-15


class Estimate(Frozen):
    """A number with its interval; null where it is not defined."""

    value: float | None
    low: float | None
    high: float | None


def estimate(value: float, low: float, high: float) -> Estimate:
    """NaN has no place in a result: what is not defined is null."""
    numbers = [float(one) for one in (value, low, high)]
    if not np.isfinite(numbers[0]):
        return Estimate(value=None, low=None, high=None)
    return Estimate(
        **dict(zip(("value", "low", "high"), (n if np.isfinite(n) else None for n in numbers), strict=True))
    )
