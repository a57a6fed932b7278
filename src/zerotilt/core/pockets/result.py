"""What is asked of a search for pockets, and what it gives."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Segment
from zerotilt.core.pockets.confirmed import ErrorGap, ErrorSide
from zerotilt.core.pockets.errors import ErrorName, Unit
from zerotilt.core.pockets.partition import Parted
from zerotilt.core.stats.estimates import Estimate

PocketStatus = Literal["confirmed", "not confirmed", "too few"]


class PocketsSettings(Frozen):
    error: ErrorName = Field(default="", description="What is searched for; the usual error when empty")
    truth: str = Field(
        default="", max_length=500, description="Of a class taken for another: what it was; any when empty"
    )
    taken: str = Field(default="", max_length=500, description="And what it was taken for; any when empty")
    columns: tuple[str, ...] = Field(
        default=(), max_length=500, description="Columns that are looked at; features and groups when empty"
    )
    deep: int = Field(default=3, ge=1, le=3, description="Most conditions of a pocket")
    least: int | None = Field(
        default=None,
        ge=10,
        description="Rows that it holds at least; a hundredth, and twice the policy's minimum, when empty",
    )
    times: float = Field(default=1.25, ge=1, le=100, description="How many times the rest's its error is at least")
    most: int = Field(default=8, ge=1, le=20, description="Places that are looked at closely")
    besides: tuple[str, ...] = Field(
        default=(),
        max_length=60,
        description="Places of before that are read, too: HALVING|conditions as they are typed",
    )
    rows: int = Field(default=2_000_000, ge=100, le=10_000_000, description="Rows read; a seeded sample beyond")
    halvings: int = Field(default=12, ge=1, le=48, description="Times that the rows are halved anew")


class Likeness(Frozen):
    """A group that a pocket's rows nearly are, or nearly all belong to."""

    attribute: str
    group: str
    of_pocket: float = Field(description="Share of the pocket's rows that belong to the group")
    of_group: float = Field(description="Share of the group's rows that lie in the pocket")
    elsewhere: float = Field(description="Share of all other rows that belong to the group")
    same: bool = Field(description="Both hold nearly the same rows")


class PocketAlongside(Frozen):
    """The same conditions with what is read alongside."""

    gap: ErrorGap
    change: Estimate = Field(description="Error inside with what is alongside, less the one here")
    verdict: Literal["gone", "smaller", "larger", "not told apart"]


class Pocket(Frozen):
    """One place. ``gap`` is of the rows that confirm; what was seen where it was searched stands beside it."""

    segment: Segment
    described: str
    typed: str = Field(description="Its conditions as they are typed")
    status: PocketStatus
    gap: ErrorGap
    searched: ErrorSide = Field(description="Inside, in the half where it was searched")
    searched_outside: float | None
    halving: int = Field(description="The first in which it was found, whose halves the figures are of")
    rows: int = Field(description="Rows of both halves that lie in it")
    share_of_rows: float
    p_adjusted: float | None = Field(description="Over the places of a halving (Holm 1979), and over all halvings")
    again: float = Field(
        description="Share of the halvings in which it was found in one half and confirmed in the other"
    )
    overlapping: tuple[str, ...] = Field(description="Pockets before it with which it shares a tenth of its rows")
    like: Likeness | None
    beside: PocketAlongside | None


class PlaceBefore(Frozen):
    """A place of before, read of the rows in which its halving did not search."""

    asked: str
    gap: ErrorGap | None = Field(description="Null where the table lacks a column, or no rows lie inside or outside")


class PocketsResult(Frozen):
    pockets: tuple[Pocket, ...] = Field(description="Confirmed ones first, surest first")
    besides: tuple[PlaceBefore, ...] = Field(description="Places of before, in the order in which they were asked for")
    parts: tuple[Parted, ...] = Field(description="The rows parted step by step, all rows first")
    error: ErrorName
    called: str
    unit: Unit
    signed: bool
    within: tuple[float, float] = Field(
        description="Limits within which a place is no denser than the rest: of the ratio, or of a signed error's difference"
    )
    errors: tuple[ErrorName, ...] = Field(description="What can be searched for here")
    value: Estimate = Field(description="The error of all rows that confirm")
    balance_of: str = Field(description="What the balance of the outcome is a share or a mean of")
    balance_mean: bool
    searchable: tuple[str, ...] = Field(description="Columns that could be looked at")
    columns: tuple[str, ...] = Field(description="Columns that were looked at")
    deepest: int = Field(description="Of these, the columns of which sets of most conditions were made")
    deep: int = Field(description="Most conditions that a description could have had")
    tried: int = Field(description="Descriptions whose error was weighed")
    looked_at: int = Field(description="Places found in any halving and read of its other half")
    halvings: int
    least: int = Field(description="Rows that a pocket must hold")
    seen_from: int | None = Field(description="Rows from which on a pocket would have been found in four of five cases")
    seen_as: str = Field(description="How much denser the error would have to be there")
    rows: int = Field(description="Rows that the error can be read of")
    rows_read: int = Field(description="Of these, the rows that were searched and confirmed in")
    sampled: int | None = Field(description="Rows asked for, where these are a seeded sample; null where all were read")
    rows_searched: int
    rows_confirming: int
    rows_named: str
    confidence: float
    minimum_rows: int
    beside: str | None = Field(description="What is read alongside; null where nothing is")
    notes: tuple[str, ...]
