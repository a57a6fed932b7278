"""The number of fewest digits that parts the same rows: what borders are told as."""

from __future__ import annotations

import numpy as np


def roundest(low: float, high: float) -> float:
    """The number of fewest digits from ``low`` on and under ``high``.

    >>> roundest(9.97, 10.04), roundest(3.0, 4.0), roundest(-0.031, -0.0295)
    (10.0, 3.0, -0.03)
    """
    if low < 0 < high or low == 0:
        return 0.0
    if not np.isfinite(low) or not np.isfinite(high):
        return low
    size = max(abs(low), abs(high))
    for digits in range(1, 17):
        step = 10.0 ** (np.floor(np.log10(size)) - digits + 1)
        found = float(f"{np.ceil(low / step) * step:.{digits}g}")
        if low <= found < high:
            return found
    return low
