"""What a prediction costs: the losses there are and which of them is meant."""

from __future__ import annotations

from typing import Literal

from zerotilt.core import words
from zerotilt.core.refusal import Refused
from zerotilt.core.tasks import TaskKind

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


def chosen(loss: LossChoice, kind: TaskKind) -> Loss:
    """The loss meant; the first of the kind's own when it is left open.

    Raises
    ------
    Refused : the loss is not defined for this kind of outcome.
    """
    if loss == "auto":
        return kind.losses[0]  # type: ignore[return-value]
    if loss not in kind.losses:
        named = words.listing([LOSS_LABELS[one] for one in kind.losses])
        raise Refused(
            f"loss: {LOSS_LABELS[loss]} was given; for {kind.name} outcomes there are {named}.",
            todo="Choose one of these.",
        )
    return loss
