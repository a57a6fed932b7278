"""An event: it happens or not, and the output is its probability."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import levels, words
from zerotilt.core.meaning import Spec, Task
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import LOSS_CLIP
from zerotilt.core.table import Table
from zerotilt.core.tasks.kind import Bools, Decided, Floats, Predicted, Quantity, TaskKind, View, Wrong, entropy


class Event(TaskKind):
    task = Task.binary
    named = "an event"
    cut = True
    losses = ("log_loss", "brier_score", "auc", "error_rate")
    ways = (
        "error_rate",
        "false_positive_rate",
        "false_negative_rate",
        "missed_favourable",
        "log_loss",
        "absolute_error",
        "too_high",
        "too_low",
    )

    def outcome(self, spec: Spec, table: Table) -> tuple[Bools, Bools]:
        """Whether the event happened.

        Raises
        ------
        Refused : the outcome has one class, more than two, or not the event's value.
        """
        where = f"column “{spec.outcome.name}”"
        found = levels.several_levels(spec, table)
        if len(found) > 2:
            raise Refused(
                f"The outcome has {len(found)} classes ({levels.listed(found)}); this audit is of two.",
                where=where,
                todo="Choose a column with two values, or join classes before uploading.",
            )
        if (event := levels.match_level(spec.event, list(found))) is None:
            raise Refused(
                f"The event value “{spec.event}” is not in the outcome column; it holds {levels.listed(found)}."
                if spec.event
                else f"Which of its values is the event was not chosen; it holds {levels.listed(found)}.",
                where=where,
                todo="Choose one of these values as the event.",
            )
        values = table.texts(spec.outcome.name)
        return values == event, np.array([value is not None for value in values])

    def widths(self, classes: int) -> tuple[int, ...]:
        return 1, 2

    def likelihood(self, outcome: NDArray, outputs: Floats) -> Floats:
        return np.where(outcome, outputs[:, 0], 1 - outputs[:, 0])

    def recorded(self, predicted: Predicted) -> Floats | None:
        return predicted.scores

    def missed(self, outcome: NDArray, predicted: Predicted) -> Floats | None:
        scores = predicted.scores
        return None if scores is None else np.where(outcome, 1 - scores, scores)

    def misfit(self, outcome: NDArray, outputs: Floats) -> Floats:
        return -np.log(np.maximum(self.likelihood(outcome, outputs), 1e-6))

    def lost(self, loss: str, outcome: NDArray, outputs: Floats, threshold: Floats | float, weights: Floats) -> Floats:
        scores = outputs[:, 0]
        if loss == "error_rate":
            return ((scores >= threshold) != outcome).astype(float)
        if loss == "auc":
            return _placements(outcome, scores, weights)
        if loss == "brier_score":
            return (scores - outcome) ** 2
        return -np.log(np.maximum(self.likelihood(outcome, outputs), LOSS_CLIP))

    def wrong(self, way: str, outcome: NDArray, predicted: Predicted, decided: Decided) -> Wrong:
        if way == "false_positive_rate":
            return Wrong((decided.taken == 1).astype(float), ~outcome)
        if way == "false_negative_rate":
            return Wrong((decided.taken == 0).astype(float), outcome)
        if way == "log_loss" and predicted.scores is not None:
            return Wrong(self.numbers(outcome, predicted, decided)[way], np.ones(len(outcome), bool))
        return super().wrong(way, outcome, predicted, decided)

    def foretold(self, way: str, predicted: Predicted, decided: Decided) -> Floats | None:
        s = predicted.scores
        if s is None:
            return None
        if way == "error_rate":
            return np.where(decided.taken == 1, 1 - s, s)
        if way == "absolute_error":
            return 2 * s * (1 - s)
        return entropy(np.column_stack([s, 1 - s])) if way == "log_loss" else None

    def off(self, outcome: NDArray, predicted: Predicted, decided: Decided) -> Floats:
        if predicted.scores is None:
            raise Refused("Only decisions were recorded; how far off they are is not known.", todo="Choose an error of decisions.")  # fmt: skip
        return predicted.scores - outcome

    def decide(self, outputs: Floats, cuts: Floats | float) -> NDArray[np.int64]:
        return (outputs[:, 0] >= cuts).astype(np.int64)

    def decision_named(self, spec: Spec, classes: Sequence[str], decision: int) -> str:
        favoured = bool(decision) == (spec.favourable == "event")
        return spec.wording.favourable if favoured else spec.wording.unfavourable

    def favourable(self, said: Sequence[str], spec: Spec, table: Table) -> dict[str, Any]:
        """A value of the outcome, or "event" or "other"."""
        found = list(levels.predicted_levels(spec, table)) or [spec.event]
        if len(said) != 1:
            raise Refused(f"favourable: {words.listing(list(said))} were given; one of two decisions can be.")
        if said[0] in ("event", "other") and said[0] not in found:
            return {"favourable": said[0]}
        meant = levels.among(said[0], found) == levels.match_level(spec.event, found)
        return {"favourable": "event" if meant else "other"}

    def favour_told(self, spec: Spec) -> str:
        begins = "To be" if spec.favourable == "event" else "Not to be"
        return f"{begins} predicted “{spec.event}” is taken as favourable to those concerned."

    def favour_asked(self, spec: Spec) -> str:
        return f"Say “event” where it is better for them to be predicted “{spec.event}”, “other” where it is not; in Intake or by “favourable”."

    def needs_event(self) -> None:
        """There is one."""

    def views(self, outcome: NDArray | None, predicted: Predicted, decided: Decided) -> list[View]:
        taken = decided.taken == 1
        happened = np.zeros_like(taken) if outcome is None else outcome
        return [View(happened, taken, decided.favoured, scores=predicted.scores)]

    def numbers(self, outcome: NDArray | None, predicted: Predicted, decided: Decided) -> dict[str, Floats]:
        scores = predicted.scores
        if scores is None:
            return {}
        if outcome is None:
            return {"mean_score": scores}
        y = outcome.astype(float)
        kept = np.clip(scores, LOSS_CLIP, 1 - LOSS_CLIP)
        return {
            "brier_score": (scores - y) ** 2,
            "log_loss": -(y * np.log(kept) + (1 - y) * np.log1p(-kept)),
            "mean_score": scores,
        }

    def outcomes_named(self, classes: Sequence[str]) -> tuple[Sequence[str], Sequence[str]]:
        return ("event did not happen", "event happened"), ("event not predicted", "event predicted")

    def quantities(self, outcome: NDArray | None, predicted: Predicted, decided: Decided) -> list[Quantity]:
        return [] if predicted.scores is None else [Quantity("score", predicted.scores, (0.0, 1.0))]

    def decided_by(self, predicted: Predicted) -> str:
        return "recorded decisions" if predicted.scores is None else "scores"


def _placements(outcome: Bools, scores: Floats, weights: Floats) -> Floats:
    """1 − AUC: each row's placement, rescaled so that the mean over all rows is the loss."""
    out = np.empty(len(scores))
    up, down = intervals.placements(scores, outcome, weights)
    out[outcome], out[~outcome] = 1 - up, 1 - down
    share = np.where(outcome, weights[outcome].sum(), weights[~outcome].sum()) / weights.sum()
    mean = np.average(out[outcome], weights=weights[outcome])
    # one row moves the mean over its own class by its share of that class
    return mean + (out - mean) / share
