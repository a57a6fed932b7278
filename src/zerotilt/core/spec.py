"""What an audit is about: which column is what, which decision is favourable, which limits flag.

This is the only definition; storage, API, screens and the command line derive from it.
"""

from __future__ import annotations

import hashlib
import json
from enum import StrEnum
from typing import Literal

from pydantic import Field, ValidationInfo, field_validator, model_validator

from zerotilt.core.frozen import Frozen
from zerotilt.core.refusal import Refused


class Kind(StrEnum):
    numeric = "numeric"
    categorical = "categorical"
    ordered = "ordered"
    boolean = "boolean"
    date = "date"
    text = "text"


class Role(StrEnum):
    feature = "feature"
    outcome = "outcome"
    group = "group"
    identifier = "identifier"
    weight = "weight"
    split = "split"
    score = "score"
    decision = "decision"
    ignored = "ignored"


Expected = Literal["rises", "falls", "none"]


class ColumnSpec(Frozen):
    """One column: what it holds and what it is for."""

    name: str
    kind: Kind
    role: Role
    order: tuple[str, ...] = Field(default=(), description="Levels from lowest to highest, for ordered columns")
    grouped: bool = Field(default=False, description="Compare groups of this column although its role is another")
    separator: str = Field(
        default="", max_length=4, description="Between the levels of a cell that holds several; then groups overlap"
    )
    reference: str | None = Field(default=None, description="Reference group; the largest when empty")
    cuts: tuple[float, ...] = Field(default=(), description="Borders between bins of a numeric column")
    expected: Expected | None = Field(
        default=None,
        description="How those who know the field expect the output to go along this feature; changes no number",
    )

    @property
    def makes_groups(self) -> bool:
        return self.role is Role.group or self.grouped


class Tolerance(Frozen):
    """Limits of one metric, where they are not the policy's."""

    metric: str
    ratio_low: float | None = Field(default=None, gt=0, lt=1)
    ratio_high: float | None = Field(default=None, gt=1)
    difference: float | None = Field(
        default=None,
        gt=0,
        description="Largest difference either way, in the metric's own unit; then the ratio is not judged",
    )


class FlagPolicy(Frozen):
    """The limits that decide what is flagged, and which metrics are compared."""

    number: int = Field(default=1, ge=1, description="Version of the policy, counted up when it is changed")
    ratio_low: float = Field(default=0.8, gt=0, lt=1)
    ratio_high: float = Field(default=1.25, gt=1)
    difference_share: float = Field(
        default=0.1,
        gt=0,
        description="For metrics that can be negative: largest difference, in standard deviations of the outcome",
    )
    minimum_rows: int = Field(default=30, ge=1)
    confidence: float = Field(default=0.95, gt=0.5, lt=1)
    alpha: float = Field(default=0.05, gt=0, lt=1)
    adjustment: Literal["false discovery rate", "Holm", "Bonferroni", "none"] = Field(
        default="false discovery rate", description="How p-values are adjusted over the comparisons made"
    )
    metrics: tuple[str, ...] = Field(default=(), description="Metrics compared; every one when empty")
    tolerances: tuple[Tolerance, ...] = ()

    def tolerance(self, metric: str) -> Tolerance:
        return next((one for one in self.tolerances if one.metric == metric), Tolerance(metric=metric))


class Condition(Frozen):
    """What a row must meet in one column: one of some levels, a range of numbers, or nothing written there."""

    column: str
    levels: tuple[str, ...] = ()
    over: float | None = None
    up_to: float | None = None
    missing: bool = False

    @model_validator(mode="after")
    def _says_something(self) -> Condition:
        if not (self.levels or self.missing or self.over is not None or self.up_to is not None):
            raise ValueError(f"the condition on “{self.column}” says nothing")
        return self


MOST_PICKED = 5_000


class Segment(Frozen):
    """Rows under a name: those that meet every condition, or those picked one by one."""

    name: str = Field(min_length=1, max_length=120)
    conditions: tuple[Condition, ...] = ()
    picked: tuple[str, ...] = Field(
        default=(),
        max_length=MOST_PICKED,
        description="Identifiers of rows; where the table has no identifier, row numbers from 1",
    )

    @model_validator(mode="after")
    def _holds_something(self) -> Segment:
        if not (self.conditions or self.picked):
            raise ValueError(f"the segment “{self.name}” has neither conditions nor picked rows")
        return self


class Wording(Frozen):
    """Names used in sentences; they change no number."""

    row: str = "row"
    rows: str = "rows"
    event: str = ""
    unit: str = Field(default="", description="Unit of the outcome, where it is a number")
    favourable: str = "favourable decision"
    unfavourable: str = "unfavourable decision"

    @field_validator("row", "rows", "favourable", "unfavourable", mode="before")
    @classmethod
    def _never_empty(cls, value: object, info: ValidationInfo) -> object:
        """What was left empty is called what it is called at first."""
        return cls.model_fields[info.field_name].default if isinstance(value, str) and not value.strip() else value

    def one(self, name: str) -> str:
        """A row by its name; where a row is called a row, "row 6" says it."""
        return name if self.row == "row" and name.startswith("row ") else f"{self.row} {name}"


class ModelReading(Frozen):
    """What one model file's columns stand for, where the file itself leaves it open; chosen by a person."""

    model: str = Field(description="SHA-256 of the model file")
    inputs: tuple[str, ...] = Field(default=(), description="Columns in the order of its one tensor")
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


class Spec(Frozen):
    """The declared meaning of a table for one audit."""

    columns: tuple[ColumnSpec, ...]
    task: Task = Task.binary
    event: str = Field(
        default="",
        description="Value of the outcome column whose probability the score is; with several classes the class read "
        "unless the context names another; empty for a number",
    )
    favourable: Literal["event", "other"] = Field(
        default="event", description="Whether predicting the event or its absence is the favourable decision"
    )
    favourable_classes: tuple[str, ...] = Field(
        default=(), description="With several classes: those whose choice is favourable; the event's when empty"
    )
    favourable_end: Literal["high", "low"] = Field(
        default="high", description="Whether a high or a low number is the better one to get"
    )
    threshold: float = Field(default=0.5, ge=0, le=1)
    intersections: tuple[tuple[str, ...], ...] = ()
    segments: tuple[Segment, ...] = ()
    holdout_values: tuple[str, ...] = Field(default=(), description="Values of the split column that are held out")
    training_values: tuple[str, ...] = ()
    holdout_share: float = Field(default=0.3, gt=0, lt=1, description="Used when there is no split column")
    seed: int = 20
    model_inputs: tuple[str, ...] = Field(
        default=(), description="Columns in the order of a model that takes one tensor of all columns"
    )
    model_event_class: str | None = Field(default=None, description="Class label of the model that means the event")
    model_readings: tuple[ModelReading, ...] = Field(default=(), description="Of model files that leave something open")
    policy: FlagPolicy = FlagPolicy()
    wording: Wording = Wording()

    @model_validator(mode="after")
    def _names_exist_once(self) -> Spec:
        names = [column.name for column in self.columns]
        if len(set(names)) != len(names):
            raise ValueError("a column is listed twice")
        for crossing in self.intersections:
            if not 2 <= len(crossing) <= 3:
                raise ValueError("an intersection takes two or three columns")
            if unknown := set(crossing) - set(names):
                raise ValueError(f"an intersection names a column that is not there: {sorted(unknown)[0]}")
        if len({segment.name for segment in self.segments}) != len(self.segments):
            raise ValueError("two segments have the same name")
        for segment in self.segments:
            if unknown := {one.column for one in segment.conditions} - set(names):
                raise ValueError(f"a segment names a column that is not there: {sorted(unknown)[0]}")
        return self

    def reading_of(self, model: str) -> ModelReading:
        """What was chosen for a model file, by its digest."""
        return next((one for one in self.model_readings if one.model == model), ModelReading(model=model))

    def column(self, name: str) -> ColumnSpec:
        for column in self.columns:
            if column.name == name:
                return column
        raise Refused(f"The table has no column “{name}”.", where=f"column “{name}”")

    def with_role(self, role: Role) -> list[ColumnSpec]:
        return [column for column in self.columns if column.role is role]

    def only(self, role: Role) -> ColumnSpec | None:
        """The single column of a role, None when there is none; two are refused."""
        found = self.with_role(role)
        if len(found) > 1:
            names = " and ".join(f"“{column.name}”" for column in found)
            raise Refused(
                f"{names} are both marked as {role.value}; one column can be.",
                where=f"column “{found[1].name}”",
                todo="Give one of them another role.",
            )
        return found[0] if found else None

    @property
    def outcome(self) -> ColumnSpec:
        column = self.only(Role.outcome)
        if column is None:
            raise Refused("No column is marked as the outcome.", todo="Mark the column that says what really happened.")
        return column

    @property
    def groupings(self) -> list[tuple[str, ...]]:
        """Every way the rows are grouped: single columns first, then intersections."""
        return [(column.name,) for column in self.columns if column.makes_groups] + list(self.intersections)

    @property
    def expectations(self) -> dict[str, Expected]:
        """The directions that were expected, by column."""
        return {column.name: column.expected for column in self.columns if column.expected is not None}

    @property
    def knows_outcome(self) -> bool:
        """Whether a column says what really happened."""
        return self.only(Role.outcome) is not None

    @property
    def target_name(self) -> str:
        """The column that the predictions are of: the outcome's, else that of the decisions or scores."""
        column = self.only(Role.outcome) or self.only(Role.decision) or self.only(Role.score)
        return column.name if column else "outcome"

    @property
    def target(self) -> str:
        """The same in words."""
        return self.target_name.replace("_", " ")

    @property
    def event_phrase(self) -> str:
        if self.task is Task.regression:
            return self.target
        return self.wording.event or f"{self.target} is {self.event}"

    def digest(self) -> str:
        """SHA-256 of what changes every number.

        Left out: wording and expectations, which change none, and what only comparisons of groups read.
        """
        return _sha256(
            self.model_dump(mode="json", exclude={"wording": True, "columns": {"__all__": {"expected"}}, **_COMPARED})
            | {"confidence": self.policy.confidence}
        )

    def comparisons_digest(self) -> str:
        """SHA-256 of what is compared besides single columns."""
        return _sha256(self.model_dump(mode="json", include={"intersections", "segments"}))

    def policy_digest(self) -> str:
        """SHA-256 of the limits that flag."""
        return _sha256(self.model_dump(mode="json", include={"policy"}))

    def compared_digest(self) -> str:
        """SHA-256 of both together, as evidence of earlier versions has it."""
        return _sha256(self.model_dump(mode="json", include=_COMPARED))


_COMPARED = {"policy": True, "intersections": True, "segments": True}


def _sha256(body: dict) -> str:
    return hashlib.sha256(json.dumps(body, sort_keys=True).encode()).hexdigest()


Split = Literal["hold-out", "training", "all"]


class RowSet(Frozen):
    """Which rows are read: those of a split, and of these perhaps a segment only."""

    split: Split = "hold-out"
    segment: Segment | None = None

    def digest(self) -> str:
        """SHA-256 of what decides which rows these are; a segment's name does not."""
        segment = self.segment.model_dump(mode="json", exclude={"name"}) if self.segment else None
        return _sha256({"split": self.split, "segment": segment})


NOBODY = 1.001
"""A threshold that no score reaches, not even 1."""


class GroupThreshold(Frozen):
    group: str
    threshold: float = Field(ge=0, le=NOBODY)


class Rule(Frozen):
    """How decisions follow from scores: one threshold for all, or one for each group of a column or intersection."""

    threshold: float = Field(ge=0, le=NOBODY, description="For every row that no group's threshold is for")
    columns: tuple[str, ...] = Field(default=(), max_length=3, description="Whose groups have thresholds of their own")
    thresholds: tuple[GroupThreshold, ...] = ()


class Alongside(Frozen):
    """A second model version, or a second row set, read in the same figures."""

    model: str | None = Field(default=None, description="Another version; the context's own when empty")
    rows: Split | None = Field(default=None, description="Other rows; the context's own when empty")
    segment: Segment | None = Field(default=None, description="Of those rows only these; the context's own when empty")
    whole: bool = Field(default=False, description="All of those rows, although the context reads a segment")
    rule: Rule | None = Field(default=None, description="The other version's decision rule; kept with the version")


class Context(Frozen):
    """What every sheet is reading: model version, rows, output, and what is read alongside."""

    model: str | None = Field(default=None, description="Identifier of a model version; None for recorded scores")
    rows: Split = "hold-out"
    segment: Segment | None = Field(default=None, description="Of these rows only those that meet its conditions")
    output: Literal["probability", "log-odds"] = Field(
        default="probability", description="Scale of a classifier's output; a number is read as it is"
    )
    read_class: str = Field(
        default="", description="With several classes the one that is read; the spec's event when empty"
    )
    rule: Rule | None = Field(
        default=None,
        description="The version's decision rule, filled in from where it is kept; the spec's threshold without",
    )
    alongside: Alongside | None = None

    @property
    def row_set(self) -> RowSet:
        """The rows that are read."""
        return RowSet(split=self.rows, segment=self.segment)

    def beside(self) -> Context | None:
        """The context of what is read alongside; None where nothing is."""
        other = self.alongside
        if other is None:
            return None
        return self.model_copy(
            update={
                "model": other.model or self.model,
                "rows": other.rows or self.rows,
                "segment": None if other.whole else other.segment or self.segment,
                "rule": other.rule if other.model else self.rule,
                "alongside": None,
            }
        )
