"""What a search for small changes gives, and how it is said."""

from __future__ import annotations

from pydantic import Field

from zerotilt.core import words
from zerotilt.core.counterfactuals.nearest import Difference
from zerotilt.core.counterfactuals.wanted import Target
from zerotilt.core.frozen import Frozen, RowNumber
from zerotilt.core.meaning import Allowed, Wording
from zerotilt.core.reading import Reading, plain


class ChangeSettings(Target):
    row: RowNumber
    allowed: tuple[Allowed, ...] = Field(
        default=(), description="Limits of single columns, instead of those that the audit has of them"
    )
    most_columns: int = Field(default=3, ge=1, le=6)
    found: int = Field(default=4, ge=1, le=20, description="Different changes to look for")


class Change(Frozen):
    """One way: the case with some columns changed, asked of the model."""

    changed: tuple[Difference, ...]
    columns: int
    distance: float = Field(description="Gower distance from the case, 0 to 1")
    decision: str
    output: float
    from_real: float = Field(
        description="Gower distance from the nearest real row of the context but the case itself, 0 to 1"
    )
    real: int = Field(description="That row")
    real_name: str


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
    aim: str = Field(description="What was wanted: otherwise, as a class, a range")
    limits: int = Field(description="Columns that may not change freely")
    held: tuple[str, ...] = Field(description="Columns that stay as they are")
    usual: float = Field(description="99% of real rows have a neighbour nearer than this")
    scale: str


def _tried(result: ChangeResult) -> str:
    said = f"{words.plural(result.asked, 'edited case')} {'was' if result.asked == 1 else 'were'} asked of the model"
    if not result.whole:
        return f"{said}, which are not all values that occur; a smaller change may exist."
    return f"{said}: of each column alone every value that occurs, as far as needed; of columns together only some, so another may exist."


def say(result: ChangeResult, wording: Wording, settings: ChangeSettings) -> Reading:
    name = wording.case_named(result.name)
    number = result.scale == "value"
    left = (
        f" {words.opening(words.plural(len(result.held), 'column'))} stay{'s' if len(result.held) == 1 else ''} as they are."
        if result.held
        else ""
    )
    left = left.replace("column stays as they are", "column stays as it is")
    if not result.changes:
        what = f"brings it to {result.aim}" if number else "turns the decision on it"
        headline = (
            f"No plausible change of up to {words.plural(settings.most_columns, 'column')} of {name} ({result.decision}) was "
            f"found that {what}."
        )
        return plain(headline, f"{_tried(result)} They must lie where there are {wording.rows} like them.{left}")
    first = result.changes[0]
    parts = [
        f"{words.title(one.feature)} {words.with_minus(one.there)} instead of {words.brief(one.here)}"
        for one in first.changed
    ]
    ending = f"come to {first.decision}" if number else f"be decided otherwise ({first.decision})"
    headline = f"{words.opening(name)} ({result.decision}) would {ending} with {words.listing(parts)}."
    others = len(result.changes) - 1
    detail = f"{words.plural(others, 'other way')} found; " if others else ""
    detail += (
        f"{_tried(result)}{left} This is what the model would do with other values, not what would happen in the world."
    )
    return plain(headline, detail)
