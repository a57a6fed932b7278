"""Rows drawn so that outcomes are balanced, with what was drawn from where."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray


def resampled(
    outcome: NDArray,
    part: NDArray,
    balanced: NDArray[np.bool_],
    how: Literal["over", "under"],
    rng: np.random.Generator,
) -> NDArray[np.int64]:
    """Places of rows so that every outcome has as many rows in each part that is balanced.

    Over: every row stays, and rows of a rarer outcome are drawn again, none twice more often than another by more than
    one. Under: rows of a more frequent outcome are drawn without putting back. An outcome that a part does not have at all
    is not made: where a part has one outcome alone, it stays as it is.

    Parameters
    ----------
    outcome, part : shape (n,). balanced : which rows stand in parts that are balanced, shape (n,).

    Returns
    -------
    Places, shape (rows drawn,), ascending; a row that was drawn again stands there again.
    """
    times = np.ones(len(outcome), np.int64)
    _, parts = np.unique(part, return_inverse=True)
    _, outcomes = np.unique(outcome, return_inverse=True)
    for one in np.unique(parts[balanced]):
        mine = np.flatnonzero((parts == one) & balanced)
        sizes = np.bincount(outcomes[mine])
        there = np.flatnonzero(sizes)
        if len(there) < 2:
            continue
        wanted = sizes.max() if how == "over" else sizes[there].min()
        for value in there:
            own = rng.permutation(mine[outcomes[mine] == value])
            times[own] = wanted // len(own) + (np.arange(len(own)) < wanted % len(own))
    return np.repeat(np.arange(len(outcome)), times)
