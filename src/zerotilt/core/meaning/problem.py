"""What is predicted, which decision is favourable, and which rows are held out."""

from __future__ import annotations

from enum import StrEnum
from typing import Literal

from pydantic import Field

from zerotilt.core.frozen import Frozen


class ModelReading(Frozen):
    """What one model file's columns stand for, where the file itself leaves it open; chosen by a person."""

    model: str = Field(description="SHA-256 of the model file")
    inputs: tuple[str, ...] = Field(
        default=(), description="Columns in the order of its one tensor, or of its inputs; empty where its name decides"
    )
    outputs: tuple[str, ...] = Field(
        default=(),
        description="The outcome's value that each of its probability columns is of; one for a single probability",
    )


class Task(StrEnum):
    """What is predicted: an event, one of several classes, one of ordered classes, or a number."""

    binary = "binary"
    several = "several classes"
    ordered = "ordered classes"
    regression = "regression"


class Problem(Frozen):
    """What an audit is of."""

    task: Task = Task.binary
    event: str = Field(
        default="",
        description="Value of the outcome column whose probability the score is; with several classes the class read "
        "unless the context names another; empty for a number",
    )
    favourable: Literal["event", "other"] = Field(
        default="event", description="Whether predicting the event or its absence is the favourable decision"
    )
    favourable_said: bool = Field(
        default=True,
        description="False while it is a guess that the outcome's words do not bear out; somebody has to say",
    )
    favourable_classes: tuple[str, ...] = Field(
        default=(), description="With several classes: those whose choice is favourable; the event's when empty"
    )
    favourable_end: Literal["high", "low"] = Field(
        default="high", description="Whether a high or a low number is the better one to get"
    )
    threshold: float = Field(default=0.5, ge=0, le=1)
    holdout_values: tuple[str, ...] = Field(default=(), description="Values of the split column that are held out")
    training_values: tuple[str, ...] = ()
    holdout_share: float = Field(default=0.3, ge=0, le=1, description="Used when there is no split column")
    seed: int = 20
    model_inputs: tuple[str, ...] = Field(
        default=(), description="Columns in the order of a model that takes one tensor of all columns"
    )
    decision_means: dict[str, str] = Field(
        default_factory=dict,
        max_length=200,
        description="Of recorded decisions in words of their own: the outcome's value that each stands for",
    )
    score_top: float = Field(
        default=1, gt=0, le=1e9, description="Recorded scores run from 0 to this; 1 where they are chances"
    )
    model_event_class: str | None = Field(default=None, description="Class label of the model that means the event")
    model_readings: tuple[ModelReading, ...] = Field(default=(), description="Of model files that leave something open")

    def reading_of(self, model: str) -> ModelReading:
        """What was chosen for a model file, by its digest."""
        return next((one for one in self.model_readings if one.model == model), ModelReading(model=model))
