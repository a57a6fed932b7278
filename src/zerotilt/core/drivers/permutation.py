"""Permutation importance: the loss added when one column's values are shuffled among the rows."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.groups import intervals
from zerotilt.core.groups.metrics import losses
from zerotilt.core.predictors import Frame, Predictor
from zerotilt.core.work import Work

Loss = Literal["log_loss", "brier_score", "auc", "error_rate"]


class Permuted(NamedTuple):
    value: NDArray[np.float64]
    """Mean added loss of each feature, shape (p,)."""
    error: NDArray[np.float64]
    """Its standard error over rows and repeats, shape (p,)."""
    loss: float
    """The loss as is."""


def permute(
    predictor: Predictor,
    frame: Frame,
    outcome: NDArray[np.bool_],
    loss: Loss,
    threshold: float,
    repeats: int,
    seed: int,
    work: Work,
    weights: NDArray[np.float64] | None = None,
) -> Permuted:
    """Importance of each feature (Breiman 2001; Fisher, Rudin & Dominici 2019).

    The standard error joins two sources: which rows are in the table (spread of
    the rows' own added loss over √n) and which shuffles were drawn (spread
    over √repeats). Shuffles depend on seed, column name and repeat alone.
    """
    w = np.ones(frame.rows) if weights is None else weights
    as_is = _per_row(loss, outcome, predictor.score(frame), threshold, w)
    base = float(np.average(as_is, weights=w))
    work.begin(len(frame.names) * repeats, "shuffled columns scored")
    value, error = np.empty(len(frame.names)), np.empty(len(frame.names))
    for j, name in enumerate(frame.names):
        added = np.zeros(frame.rows)
        means = np.empty(repeats)
        for repeat in range(repeats):
            order = np.random.default_rng([seed, repeat, *name.encode()]).permutation(frame.rows)
            scores = predictor.score(frame.replace(name, frame[name][order]))
            more = _per_row(loss, outcome, scores, threshold, w) - as_is
            added += more / repeats
            means[repeat] = np.average(more, weights=w)
            work.advance(1)
        value[j] = means.mean()
        between_rows = np.average((added - value[j]) ** 2, weights=w) / max(intervals.effective(w) - 1, 1)
        between_repeats = means.var(ddof=1) / repeats if repeats > 1 else 0.0
        error[j] = np.sqrt(between_rows + between_repeats)
    return Permuted(value, error, base)


def _per_row(
    loss: Loss, outcome: NDArray[np.bool_], scores: NDArray[np.float64], threshold: float, weights: NDArray[np.float64]
) -> NDArray[np.float64]:
    """A value for each row whose weighted mean is the loss."""
    if loss == "error_rate":
        return ((scores >= threshold) != outcome).astype(float)
    if loss == "auc":  # 1 − AUC: each row's placement, rescaled so that the mean over all rows is the loss
        out = np.empty(len(scores))
        up, down = intervals.placements(scores, outcome, weights)
        out[outcome], out[~outcome] = 1 - up, 1 - down
        share = np.where(outcome, weights[outcome].sum(), weights[~outcome].sum()) / weights.sum()
        mean = np.average(out[outcome], weights=weights[outcome])
        return mean + (out - mean) / (2 * share)
    return losses(outcome, scores)[:, 0 if loss == "brier_score" else 1]
