"""What could be another value in a case, as people know it: nobody gets younger, and a past claim stays."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from zerotilt.core.frozen import Frozen


class Allowed(Frozen):
    """What may happen to one column."""

    feature: str
    change: Literal["any", "none", "up", "down"] = "any"
    low: float | None = Field(default=None, description="Least value allowed")
    high: float | None = Field(default=None, description="Greatest value allowed")
    levels: tuple[str, ...] = Field(default=(), description="Levels allowed; all of them when empty")


class Changeable(Frozen):
    """Limits of changes that are proposed; they change no other number."""

    allowed: tuple[Allowed, ...] = Field(
        default=(),
        max_length=5_000,
        description="Limits of single columns; others may change freely, but columns that make groups stay as they are",
    )

    @model_validator(mode="after")
    def _each_once(self) -> Changeable:
        names = [one.feature for one in self.allowed]
        if len(set(names)) != len(names):
            raise ValueError("a column has two limits")
        return self
