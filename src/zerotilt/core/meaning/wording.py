"""Names used in sentences; they change no number."""

from __future__ import annotations

from pydantic import Field, ValidationInfo, field_validator

from zerotilt.core.frozen import Frozen
from zerotilt.core.marks import unmarked


class Wording(Frozen):
    """Names used in sentences; they change no number."""

    row: str = "row"
    rows: str = "rows"
    event: str = ""
    unit: str = Field(default="", description="Unit of the outcome, where it is a number")
    favourable: str = "decided favourably"
    unfavourable: str = "decided unfavourably"

    @field_validator("row", "rows", "favourable", "unfavourable", mode="before")
    @classmethod
    def _never_empty(cls, value: object, info: ValidationInfo) -> object:
        """What was left empty is called what it is called at first."""
        return cls.model_fields[info.field_name].default if isinstance(value, str) and not value.strip() else value

    def case_named(self, name: str) -> str:
        """A row by its name; where a row is called a row, "row 6" says it."""
        return name if unmarked(self.row) == "row" and name.startswith("row ") else f"{self.row} {name}"


class Names(Frozen):
    """The wording in use."""

    wording: Wording = Wording()
