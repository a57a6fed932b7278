"""What a search for small changes gives, and how it is said."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from zerotilt.core import words
from zerotilt.core.counterfactuals.nearest import Difference
from zerotilt.core.frozen import Frozen, RowNumber
from zerotilt.core.meaning import Wording
from zerotilt.core.reading import Reading, plain


class Allowed(Frozen):
    """What may happen to one column."""

    feature: str
    change: Literal["any", "none", "up", "down"] = "any"
    low: float | None = Field(default=None, description="Least value allowed")
    high: float | None = Field(default=None, description="Greatest value allowed")
    levels: tuple[str, ...] = Field(default=(), description="Levels allowed; all of them when empty")


class ChangeSettings(Frozen):
    row: RowNumber
    allowed: tuple[Allowed, ...] = Field(
        default=(), description="Limits of single columns; all others may change freely"
    )
    wanted: str = Field(default="", description="The class wanted, where there are several; any other when empty")
    most_columns: int = Field(default=3, ge=1, le=6)
    found: int = Field(default=4, ge=1, le=20, description="Different changes to look for")


class Change(Frozen):
    """One way: the case with some columns changed, asked of the model."""

    changed: tuple[Difference, ...]
    columns: int
    distance: float = Field(description="Gower distance from the case, 0 to 1")
    decision: str
    output: float


class ChangeResult(Frozen):
    row: int
    name: str
    decision: str
    output: float
    changes: tuple[Change, ...] = Field(
        description="Fewest columns first, then nearest; each with other columns than the rest"
    )
    asked: int = Field(description="Predictions made in the search")
    whole: bool = Field(
        description="Whether every value that occurs was tried in each column alone, as far as was needed"
    )
    limits: int = Field(description="Columns that may not change freely")
    scale: str


def _tried(result: ChangeResult) -> str:
    said = f"{words.plural(result.asked, 'edited case')} {'was' if result.asked == 1 else 'were'} asked of the model"
    if not result.whole:
        return f"{said}, which are not all values that occur; a smaller change may exist."
    return f"{said}: of each column alone every value that occurs, as far as needed; of columns together only some."


def say(result: ChangeResult, wording: Wording, settings: ChangeSettings) -> Reading:
    if not result.changes:
        headline = (
            f"No plausible change of up to {words.plural(settings.most_columns, 'column')} turns the decision on {wording.case_named(result.name)} "
            f"({result.decision})."
        )
        return plain(headline, f"{_tried(result)} They must lie where there are {wording.rows} like them.")
    first = result.changes[0]
    parts = [f"{words.title(one.feature)} {one.there} instead of {one.here}" for one in first.changed]
    headline = f"{words.opening(wording.case_named(result.name))} ({result.decision}) would be decided otherwise ({first.decision}) with {words.listing(parts)}."
    others = len(result.changes) - 1
    detail = f"{words.plural(others, 'other way')} found; " if others else ""
    detail += f"{_tried(result)} This is what the model would do with other values, not what would happen in the world."
    return plain(headline, detail)
