"""What somebody has to decide about."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from zerotilt.core.frozen import Frozen

Severity = Literal["contradiction", "disparity", "weakness", "concern"]


class Finding(Frozen):
    """One flagged disparity, weakness or contradiction, as a method found it in a result."""

    name: str = Field(description="The same while what it is about and its limits are, whatever the numbers")
    kind: Severity
    statement: str = Field(description="One sentence with its numbers")
    columns: tuple[str, ...] = Field(default=(), description="Columns it is about")
    group: str = ""
    metric: str = ""
    rows: int | None = Field(default=None, description="Rows it was measured on")
