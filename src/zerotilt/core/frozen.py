"""What settings and results are made of."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict


class Frozen(BaseModel):
    """Never changed once made; a field that is not declared is refused."""

    model_config = ConfigDict(frozen=True, extra="forbid")
