"""The game behind Shapley values: v(S) is the mean output with the features in S from the case and the rest from the background."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.predictors import Frame

EVALUATIONS_AT_ONCE = 65_536
Output = Callable[[Frame], NDArray[np.float64]]


def mixed(
    output: Output,
    cases: Frame,
    background: Frame,
    case: NDArray[np.integer],
    other: NDArray[np.integer],
    known: NDArray[np.bool_],
) -> NDArray[np.float64]:
    """Output of rows mixed from cases and background.

    Parameters
    ----------
    case, other : row numbers in ``cases`` and ``background``, shape (m,).
    known : which features come from the case, shape (m, p), in the order of ``cases.names``.

    Returns
    -------
    shape (m,)
    """
    out = np.empty(len(case))
    for start in range(0, len(case), EVALUATIONS_AT_ONCE):
        part = slice(start, start + EVALUATIONS_AT_ONCE)
        columns = {}
        for j, name in enumerate(cases.names):
            values = background[name][other[part]]
            mask = known[part, j]
            values[mask] = cases[name][case[part][mask]]
            columns[name] = values
        out[part] = output(Frame(columns))
    return out
