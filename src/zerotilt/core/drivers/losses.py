"""What a prediction costs in one row, for every kind of outcome."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Task
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import LOSS_CLIP

Loss = Literal["log_loss", "brier_score", "auc", "error_rate", "squared_error", "absolute_error"]
LossChoice = Literal["auto", "log_loss", "brier_score", "auc", "error_rate", "squared_error", "absolute_error"]
LOSS_LABELS: dict[str, str] = {
    "log_loss": "log loss",
    "brier_score": "Brier score",
    "auc": "1 − AUC",
    "error_rate": "error rate",
    "squared_error": "squared error",
    "absolute_error": "absolute error",
}
ALLOWED: dict[Task, tuple[Loss, ...]] = {
    Task.binary: ("log_loss", "brier_score", "auc", "error_rate"),
    Task.several: ("log_loss", "brier_score", "error_rate"),
    Task.ordered: ("log_loss", "brier_score", "error_rate", "absolute_error"),
    Task.regression: ("squared_error", "absolute_error"),
}


def chosen(loss: LossChoice, task: Task) -> Loss:
    """The loss meant; the first of the task's own when it is left open.

    Raises
    ------
    Refused : the loss is not defined for this kind of outcome.
    """
    if loss == "auto":
        return ALLOWED[task][0]
    if loss not in ALLOWED[task]:
        named = words.listing([LOSS_LABELS[one] for one in ALLOWED[task]])
        raise Refused(
            f"loss: {LOSS_LABELS[loss]} was given; for {task.value} outcomes there are {named}.",
            todo="Choose one of these.",
        )
    return loss


def per_row(
    loss: Loss,
    task: Task,
    outcome: NDArray,
    outputs: NDArray[np.float64],
    threshold: NDArray[np.float64] | float = 0.5,
    weights: NDArray[np.float64] | None = None,
) -> NDArray[np.float64]:
    """A value for each row whose weighted mean is the loss, shape (n,).

    Parameters
    ----------
    outcome : as :attr:`Subject.outcome`. outputs : shape (n, k).
    absolute_error of ordered classes : distance of the expected rank from the true one.
    """
    n = len(outputs)
    if task is Task.regression:
        off = outputs[:, 0] - outcome
        return off**2 if loss == "squared_error" else np.abs(off)
    if task is Task.binary:
        scores = outputs[:, 0]
        if loss == "error_rate":
            return ((scores >= threshold) != outcome).astype(float)
        if loss == "auc":
            return _placements(outcome, scores, np.ones(n) if weights is None else weights)
        if loss == "brier_score":
            return (scores - outcome) ** 2
        return -np.log(np.maximum(np.where(outcome, scores, 1 - scores), LOSS_CLIP))
    rows = np.arange(n)
    if loss == "error_rate":
        return (outputs.argmax(axis=1) != outcome).astype(float)
    if loss == "log_loss":
        return -np.log(np.maximum(outputs[rows, outcome], LOSS_CLIP))
    if loss == "absolute_error":
        return np.abs(outputs @ np.arange(outputs.shape[1]) - outcome)
    return (outputs**2).sum(axis=1) - 2 * outputs[rows, outcome] + 1


def _placements(outcome, scores, weights) -> NDArray[np.float64]:
    """1 − AUC: each row's placement, rescaled so that the mean over all rows is the loss."""
    out = np.empty(len(scores))
    up, down = intervals.placements(scores, outcome, weights)
    out[outcome], out[~outcome] = 1 - up, 1 - down
    share = np.where(outcome, weights[outcome].sum(), weights[~outcome].sum()) / weights.sum()
    mean = np.average(out[outcome], weights=weights[outcome])
    # one row moves the mean over its own class by its share of that class
    return mean + (out - mean) / share
