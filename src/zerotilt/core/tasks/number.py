"""A number, and the output is the number expected."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.meaning import Spec, Task
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.core.tasks.kind import Bools, Decided, Floats, Predicted, Quantity, TaskKind, View


class Number(TaskKind):
    task = Task.regression
    named = "a number"
    decides = False
    scaled = False
    losses = ("squared_error", "absolute_error")
    headline = "mean_prediction"
    fit_loss = "squared error"
    ways = ("absolute_error", "too_high", "too_low")
    raises = "value of "

    def outcome(self, spec: Spec, table: Table) -> tuple[Floats, Bools]:
        """The number of each row.

        Raises
        ------
        Refused : it is missing in every row.
        """
        column = spec.outcome
        numbers = table.numbers(column.name)
        known = np.isfinite(numbers)
        if not known.any():
            raise Refused(
                "The outcome is missing in every row.",
                where=f"column “{column.name}”",
                todo="Choose another outcome column.",
            )
        return np.where(known, numbers, 0.0), known

    def widths(self, classes: int) -> tuple[int, ...]:
        return (1,)

    def recorded(self, predicted: Predicted) -> Floats | None:
        return predicted.values

    def missed(self, outcome: NDArray, predicted: Predicted) -> Floats | None:
        return predicted.values - outcome

    def off(self, outcome: NDArray, predicted: Predicted, decided: Decided) -> Floats:
        return predicted.values - outcome

    def misfit(self, outcome: NDArray, outputs: Floats) -> Floats:
        return (outputs[:, 0] - outcome) ** 2

    def lost(self, loss: str, outcome: NDArray, outputs: Floats, threshold: Floats | float, weights: Floats) -> Floats:
        off = outputs[:, 0] - outcome
        return off**2 if loss == "squared_error" else np.abs(off)

    def telling(self, outcome: NDArray | None, outputs: Floats) -> list[tuple[int, str]]:
        predicted = outputs[:, 0]
        found = []
        if outcome is not None:
            off = predicted - outcome
            if off.max() > 0:
                found.append((int(off.argmax()), "the prediction farthest above what happened"))
            if off.min() < 0:
                found.append((int(off.argmin()), "the prediction farthest below what happened"))
        middle = np.argsort(predicted, kind="stable")[len(predicted) // 2]
        return [*found, (int(middle), "the prediction in the middle of all")]

    def decide(self, outputs: Floats, cuts: Floats | float) -> NDArray[np.int64]:
        raise Refused(
            "The model gives a number; nothing is decided by it that could change.",
            todo="Open an audit whose outcome is an event or a class.",
        )

    def favourable(self, said: Sequence[str], spec: Spec, table: Table) -> dict[str, Any]:
        """ "high" or "low"."""
        if list(said) not in (["high"], ["low"]):
            raise Refused(f"favourable: “{', '.join(said)}” was given; of a number it is “high” or “low”.")
        return {"favourable_end": said[0]}

    def favour_told(self, spec: Spec) -> str:
        return f"A {spec.favourable_end} number is taken as favourable to those concerned."

    def views(self, outcome: NDArray | None, predicted: Predicted, decided: Decided) -> list[View]:
        return []

    def numbers(self, outcome: NDArray | None, predicted: Predicted, decided: Decided) -> dict[str, Floats]:
        if outcome is None:
            return {"mean_prediction": predicted.values}
        off = predicted.values - outcome
        return {
            "mean_prediction": predicted.values,
            "mean_outcome": outcome,
            "mean_error": off,
            "mae": np.abs(off),
            "rmse": off**2,
        }

    def better(self, spec: Spec, predicted: Predicted, decided: Decided) -> Floats:
        return self.best_end(spec) * predicted.values

    def best_end(self, spec: Spec) -> int:
        return 1 if spec.favourable_end == "high" else -1

    def outcomes_named(self, classes: Sequence[str]) -> tuple[Sequence[str], Sequence[str]]:
        return (), ()

    def quantities(self, outcome: NDArray | None, predicted: Predicted, decided: Decided) -> list[Quantity]:
        found = {"prediction": predicted.values}
        if outcome is not None:
            found["error"] = predicted.values - outcome
        return [Quantity(name, one, _reach(one)) for name, one in found.items()]

    def decided_by(self, predicted: Predicted) -> str:
        return "predictions"


def _reach(values: Floats) -> tuple[float, float]:
    low, high = float(values.min()), float(values.max())
    return (low, high) if high > low else (low - 0.5, high + 0.5)
