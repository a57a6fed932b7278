"""What is compared besides single columns: crossings, and rows under a name."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any, Self

from pydantic import Field, model_validator

from zerotilt.core.frozen import Frozen

MOST_PICKED = 5_000
MOST_SEGMENTS = 300
MOST_CONDITIONS, MOST_ALTERNATIVES = 40, 40


class Condition(Frozen):
    """What a row must meet in one column: one of some levels, a range of numbers or of days, or nothing written there.

    Any of what it says is enough: ``levels=("app",), missing=True`` is met by rows whose cell is "app" or empty; the
    ends of a range belong together. ``negated`` is met by all other rows, those whose cell is empty among them.
    """

    column: str
    levels: tuple[str, ...] = ()
    over: float | None = None
    at_least: float | None = None
    under: float | None = None
    up_to: float | None = None
    since: date | None = Field(default=None, description="First day, of a column of days")
    until: date | None = Field(default=None, description="Last day, of a column of days")
    missing: bool = False
    negated: bool = Field(default=False, description="Every other row instead, those whose cell is empty among them")

    @model_validator(mode="after")
    def _says_something(self) -> Condition:
        if not (self.levels or self.missing or self.ranged or self.dated):
            raise ValueError(f"the condition on “{self.column}” says nothing")
        return self

    @property
    def ranged(self) -> bool:
        """Whether it asks for a range of numbers."""
        return any(one is not None for one in (self.over, self.at_least, self.under, self.up_to))

    @property
    def dated(self) -> bool:
        """Whether it asks for a range of days."""
        return self.since is not None or self.until is not None

    def opposite(self) -> Condition:
        """What exactly the other rows meet."""
        return self.model_copy(update={"negated": not self.negated})


Block = tuple[Condition, ...]
"""Conditions that are met together."""


class Segment(Frozen):
    """Rows under a name: those that meet every condition, or every one of another list of them; or those picked one by one.

    Where rows are picked and there are conditions too, they are the picked rows that meet them.
    """

    name: str = Field(min_length=1, max_length=120)
    conditions: Block = Field(default=(), max_length=MOST_CONDITIONS)
    alternatives: tuple[Block, ...] = Field(
        default=(),
        max_length=MOST_ALTERNATIVES,
        description="Further lists of conditions: a row that meets all of any one list belongs to it, too",
    )
    picked: tuple[str, ...] = Field(
        default=(),
        max_length=MOST_PICKED,
        description="Identifiers of rows; where the table has no identifier, row numbers from 1",
    )
    source: str = Field(
        default="", max_length=400, description="How its rows were found, where borders or rows come from data"
    )
    by_errors: bool = Field(
        default=False,
        description="Found by looking for errors in the rows of this audit: a test of its errors on the same rows would prove nothing",
    )
    formerly: tuple[str, ...] = Field(
        default=(), max_length=20, description="Names that it had before, so that an address of then still finds it"
    )

    @model_validator(mode="after")
    def _holds_something(self) -> Segment:
        if not (self.conditions or self.picked):
            raise ValueError(f"the segment “{self.name}” has neither conditions nor picked rows")
        if not all(self.alternatives):
            raise ValueError(f"the segment “{self.name}” has an alternative without a condition")
        return self

    @property
    def blocks(self) -> tuple[Block, ...]:
        """Every list of conditions; none where rows are only picked."""
        return (self.conditions, *self.alternatives) if self.conditions else ()

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns that its conditions look at, each once."""
        return tuple(dict.fromkeys(one.column for block in self.blocks for one in block))

    def called(self, name: str) -> Self:
        """The same rows under another name."""
        return self.model_copy(update={"name": name})

    def holds_as(self, other: Segment) -> bool:
        """Whether it holds the rows that another does, by the same conditions."""
        return (self.blocks, self.picked) == (other.blocks, other.picked)


_LATER = {"at_least": None, "under": None, "since": None, "until": None, "negated": False}


def counting(segment: Mapping[str, Any]) -> dict[str, Any]:
    """A segment as digests and keys hold it: without what says nothing, so that those of before stay, and without where
    it came from, which changes no row."""
    found = {name: value for name, value in segment.items() if name not in ("source", "formerly")}
    if not found.get("by_errors"):
        found.pop("by_errors", None)
    blocks = [found.get("conditions") or (), *(found.pop("alternatives", None) or ())]
    lean = [
        [{name: value for name, value in one.items() if name not in _LATER or value != _LATER[name]} for one in block]
        for block in blocks
    ]
    return found | {"conditions": lean[0]} | ({"alternatives": lean[1:]} if len(lean) > 1 else {})


class Comparisons(Frozen):
    """Crossings of columns, and segments."""

    intersections: tuple[tuple[str, ...], ...] = Field(default=(), max_length=40)
    segments: tuple[Segment, ...] = ()
    segment_metrics: tuple[str, ...] = Field(
        default=(), max_length=40, description="What segments are compared by; those of the flag policy when empty"
    )

    def renamed(self, before: Comparisons) -> dict[str, str]:
        """Segments that hold what one of before held, whose name is gone: the new name by the old."""
        names, known = {one.name for one in self.segments}, {one.name for one in before.segments}
        new = [one for one in self.segments if one.name not in known]
        found: dict[str, str] = {}
        for old in before.segments:
            if old.name in names:
                continue
            same = [one for one in new if one.holds_as(old) and one.name not in found.values()]
            if same:
                found[old.name] = same[0].name
        return found

    def following(self, before: Comparisons) -> Comparisons:
        """The same, each segment with the names that it had before; a name that another one has now is nobody's former."""
        renamed = {new: old for old, new in self.renamed(before).items()}
        earlier = {one.name: one for one in before.segments}
        names = {one.name for one in self.segments}

        def with_names(one: Segment) -> Segment:
            was = earlier.get(renamed.get(one.name, one.name))
            former = dict.fromkeys([*(was.formerly if was else ()), *([was.name] if was else ())])
            return one.model_copy(update={"formerly": tuple(name for name in former if name not in names)[-20:]})

        return self.model_copy(update={"segments": tuple(with_names(one) for one in self.segments)})

    @model_validator(mode="after")
    def _sizes_and_names(self) -> Comparisons:
        if not all(2 <= len(crossing) <= 3 for crossing in self.intersections):
            raise ValueError("an intersection takes two or three columns")
        if len(self.segments) > MOST_SEGMENTS:
            raise ValueError(
                f"an audit keeps up to {MOST_SEGMENTS} segments; with these it would have {len(self.segments):,}"
            )
        seen: set[str] = set()
        for segment in self.segments:
            if segment.name in seen:
                raise ValueError(f"two segments have the same name, “{segment.name}”")
            seen.add(segment.name)
        return self
