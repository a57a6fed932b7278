"""What the columns of a table are, and what each is for."""

from __future__ import annotations

from enum import StrEnum
from typing import Literal

from pydantic import Field, model_validator

from zerotilt.core.frozen import Frozen
from zerotilt.core.refusal import Refused


class Kind(StrEnum):
    numeric = "numeric"
    categorical = "categorical"
    ordered = "ordered"
    boolean = "boolean"
    date = "date"
    text = "text"
    bytes = "bytes"


class Role(StrEnum):
    feature = "feature"
    outcome = "outcome"
    group = "group"
    identifier = "identifier"
    weight = "weight"
    split = "split"  # pyright: ignore[reportAssignmentType]  shadows a text's own method, which no role needs
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
    protected: bool = Field(
        default=False,
        description="Nobody may be worse off by it (sex, age, origin); where groups of it are compared they lead everywhere",
    )
    separator: str = Field(
        default="", max_length=4, description="Between the levels of a cell that holds several; then groups overlap"
    )
    reference: str | None = Field(default=None, description="Reference group; the largest when empty")
    cuts: tuple[float, ...] = Field(default=(), description="Borders between bins of a numeric column")
    expected: Expected | None = Field(
        default=None,
        description="How those who know the field expect the output to go along this feature; changes no number",
    )

    @model_validator(mode="after")
    def _bytes_are_passed_by(self) -> ColumnSpec:
        if self.kind is Kind.bytes and (self.role is not Role.ignored or self.grouped):
            raise ValueError(f"“{self.name}” holds bytes, which are kept and passed by: its role is ignored")
        return self

    @property
    def makes_groups(self) -> bool:
        return self.role is Role.group or self.grouped

    @property
    def leads(self) -> bool:
        """Whether its groups are told before those of other columns."""
        return self.protected and self.makes_groups


class Schema(Frozen):
    """The columns, in the order of the table."""

    columns: tuple[ColumnSpec, ...]

    @model_validator(mode="after")
    def _each_once(self) -> Schema:
        if len({column.name for column in self.columns}) != len(self.columns):
            raise ValueError("a column is listed twice")
        return self

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
    def expectations(self) -> dict[str, Expected]:
        """The directions that were expected, by column."""
        return {column.name: column.expected for column in self.columns if column.expected is not None}
