"""What is compared besides single columns: crossings, and rows under a name."""

from __future__ import annotations

from pydantic import Field, model_validator

from zerotilt.core.frozen import Frozen


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


class Comparisons(Frozen):
    """Crossings of columns, and segments."""

    intersections: tuple[tuple[str, ...], ...] = Field(default=(), max_length=40)
    segments: tuple[Segment, ...] = Field(default=(), max_length=60)

    @model_validator(mode="after")
    def _sizes_and_names(self) -> Comparisons:
        if not all(2 <= len(crossing) <= 3 for crossing in self.intersections):
            raise ValueError("an intersection takes two or three columns")
        if len({segment.name for segment in self.segments}) != len(self.segments):
            raise ValueError("two segments have the same name")
        return self
