"""One of several classes, in an order or not; the output is a probability for each."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import levels, words
from zerotilt.core.meaning import Spec, Task
from zerotilt.core.stats.estimates import LOSS_CLIP
from zerotilt.core.table import Table
from zerotilt.core.tasks.kind import Bools, Decided, Floats, Predicted, Quantity, TaskKind, View, Wrong, entropy


class Several(TaskKind):
    task = Task.several
    named = "classes"
    classed = True
    losses = ("log_loss", "brier_score", "error_rate")
    ways = ("error_rate", "taken_for", "missed_favourable", "log_loss")
    told = (
        "accuracy",
        "true_positive_rate",
        "positive_predictive_value",
        "auc",
        "brier_score",
        "log_loss",
        "calibration_error",
        "balanced_accuracy",
        "f1",
        "average_precision",
        "rank_error",
    )

    def outcome(self, spec: Spec, table: Table) -> tuple[NDArray[np.int64], Bools]:
        """The class of each row, as its number among :meth:`classes`.

        Raises
        ------
        Refused : the outcome has one class.
        """
        number = {level: i for i, level in enumerate(levels.several_levels(spec, table))}
        values = table.texts(spec.outcome.name)
        known = np.array([value is not None for value in values])
        return np.array([number.get(value, 0) for value in values], np.int64), known

    def classes(self, spec: Spec, table: Table) -> tuple[str, ...]:
        return levels.predicted_levels(spec, table)

    def phrase(self, spec: Spec, read: str) -> str:
        return f"{words.title(spec.target_name)} is {read}"

    def widths(self, classes: int) -> tuple[int, ...]:
        return (classes,)

    def likelihood(self, outcome: NDArray, outputs: Floats) -> Floats:
        return outputs[np.arange(len(outputs)), outcome]

    def misfit(self, outcome: NDArray, outputs: Floats) -> Floats:
        return -np.log(np.maximum(self.likelihood(outcome, outputs), 1e-6))

    def lost(self, loss: str, outcome: NDArray, outputs: Floats, threshold: Floats | float, weights: Floats) -> Floats:
        if loss == "error_rate":
            return (outputs.argmax(axis=1) != outcome).astype(float)
        if loss == "log_loss":
            return -np.log(np.maximum(self.likelihood(outcome, outputs), LOSS_CLIP))
        if loss == "absolute_error":  # distance of the expected rank from the true one
            return np.abs(outputs @ np.arange(outputs.shape[1]) - outcome)
        return (outputs**2).sum(axis=1) - 2 * self.likelihood(outcome, outputs) + 1

    def wrong(self, way: str, outcome: NDArray, predicted: Predicted, decided: Decided) -> Wrong:
        if way == "log_loss" and not predicted.recorded:
            return Wrong(self.numbers(outcome, predicted, decided)[way], np.ones(len(outcome), bool))
        return super().wrong(way, outcome, predicted, decided)

    def foretold(self, way: str, predicted: Predicted, decided: Decided) -> Floats | None:
        if predicted.recorded:
            return None
        if way == "error_rate":
            return 1 - np.take_along_axis(predicted.outputs, decided.taken[:, None], axis=1)[:, 0]
        return entropy(predicted.outputs) if way == "log_loss" else None

    def telling(self, outcome: NDArray | None, outputs: Floats) -> list[tuple[int, str]]:
        taken, surest = outputs.argmax(axis=1), outputs.max(axis=1)
        found = []
        if outcome is not None and (wrong := taken != outcome).any():
            found.append(
                (int(np.where(wrong, surest, -1).argmax()), "the surest prediction of a class that was not so")
            )
        return [*found, (int(surest.argmin()), "the prediction that is least sure of its class")]

    def favourable(self, said: Sequence[str], spec: Spec, table: Table) -> dict[str, Any]:
        """Some of the classes."""
        found = self.classes(spec, table)
        return {"favourable_classes": tuple(dict.fromkeys(levels.among(one, found) for one in said))}

    def views(self, outcome: NDArray | None, predicted: Predicted, decided: Decided) -> list[View]:
        happened = np.full(len(decided.taken), -1) if outcome is None else outcome
        right = happened == decided.taken
        # seen as "it happened: always; decided: rightly", the share decided rightly is an accuracy
        found = [View(np.ones_like(right), right, decided.favoured, whole=True)]
        for c, label in enumerate(predicted.classes):
            mine = decided.taken == c
            scores = None if predicted.recorded else predicted.outputs[:, c]
            found.append(View(happened == c, mine, mine, label, scores=scores))
        return found

    def numbers(self, outcome: NDArray | None, predicted: Predicted, decided: Decided) -> dict[str, Floats]:
        if outcome is None or predicted.recorded:
            return {}
        p = predicted.outputs
        return {
            "log_loss": -np.log(np.maximum(self.likelihood(outcome, p), LOSS_CLIP)),
            "brier_score": ((p - np.eye(p.shape[1])[outcome]) ** 2).sum(axis=1),
        }


class Ordered(Several):
    task = Task.ordered
    losses = ("log_loss", "brier_score", "error_rate", "absolute_error")
    ways = (*Several.ways, "absolute_error", "too_high", "too_low")

    def telling(self, outcome: NDArray | None, outputs: Floats) -> list[tuple[int, str]]:
        found = super().telling(outcome, outputs)
        if outcome is None or not (off := np.abs(outputs.argmax(axis=1) - outcome)).any():
            return found
        return [(int(off.argmax()), "the prediction farthest in the order from what happened"), *found]

    def numbers(self, outcome: NDArray | None, predicted: Predicted, decided: Decided) -> dict[str, Floats]:
        found = {**super().numbers(outcome, predicted, decided), "mean_rank": decided.taken + 1.0}
        if outcome is None:
            return found
        off = (decided.taken - outcome).astype(float)
        return found | {"mean_rank_error": off, "rank_error": np.abs(off)}

    def off(self, outcome: NDArray, predicted: Predicted, decided: Decided) -> Floats:
        return (decided.taken - outcome).astype(float)

    def quantities(self, outcome: NDArray | None, predicted: Predicted, decided: Decided) -> list[Quantity]:
        k = len(predicted.classes)
        return [Quantity("rank", decided.taken + 1.0, (0.5, k + 0.5), k)]
