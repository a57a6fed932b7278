"""The scale an output is read on."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

CLIP = 1e-6
Scale = Literal["probability", "log-odds", "value"]
Link = Literal["identity", "log-odds", "logarithm"]


DUST = 1e-9
"""Of the size of what it is a part of: so little is what sums of rounded numbers leave."""


def settled(value: float, size: float) -> float:
    """A difference that is nothing but rounding, beside outputs of such a size, as nothing.

    >>> settled(2.7e-14, 20.6), settled(-0.3, 20.6)
    (0.0, -0.3)
    """
    return 0.0 if abs(value) <= DUST * size else value


def transform(probability: NDArray[np.float64], scale: Scale) -> NDArray[np.float64]:
    """Probability as it is, or its log-odds ln(p / (1 − p)) with p kept a millionth away from 0 and 1."""
    if scale != "log-odds":
        return probability
    kept = np.clip(probability, CLIP, 1 - CLIP)
    return np.log(kept) - np.log1p(-kept)


def log_odds(probabilities: NDArray[np.float64], clip: float = CLIP) -> NDArray[np.float64]:
    """Log-odds of each column, shape (rows, k).

    One column: ln(p / (1 − p)). Several classes: ln p of the class less the mean
    ln p of the others, which is the same for two classes and, unlike the
    log-odds of one class against the sum of the rest, a sum wherever the model
    takes a softmax of sums (Aitchison 1982, centred log-ratio times k / (k − 1)).
    """
    kept = np.clip(probabilities, clip, 1 - clip) if clip else probabilities
    with np.errstate(divide="ignore", invalid="ignore"):
        if probabilities.shape[1] == 1:
            return np.log(kept) - np.log1p(-kept)
        logs = np.log(kept)
        k = logs.shape[1]
        return (logs - logs.mean(axis=1, keepdims=True)) * (k / (k - 1))


def linked(values: NDArray[np.float64], link: Link) -> NDArray[np.float64]:
    """Outputs, shape (rows, k), on the scale of a link; not kept away from 0 and 1."""
    if link == "log-odds":
        return log_odds(values, clip=0)
    if link == "logarithm":
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.log(values)
    return values


def unlinked(sums: NDArray[np.float64], link: Link) -> NDArray[np.float64]:
    """The inverse of :func:`linked`: back to probabilities or values, shape (rows, k)."""
    if link == "log-odds":
        if sums.shape[1] == 1:
            return 1 / (1 + np.exp(-sums))
        k = sums.shape[1]
        grown = np.exp((sums - sums.max(axis=1, keepdims=True)) * ((k - 1) / k))
        return grown / grown.sum(axis=1, keepdims=True)
    return np.exp(sums) if link == "logarithm" else sums


def from_sums(sums: NDArray[np.float64], link: Link, scale: Scale, column: int) -> NDArray[np.float64]:
    """One output on a scale from sums on the scale of a link, (rows, k) to (rows,)."""
    if scale == "log-odds" and link == "log-odds":
        return sums[:, column]
    values = unlinked(sums, link)
    return log_odds(values)[:, column] if scale == "log-odds" else values[:, column]
