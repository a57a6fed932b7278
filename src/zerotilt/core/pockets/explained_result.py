"""What is asked of one pocket, and what can be said of it."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Segment
from zerotilt.core.pockets.confirmed import ErrorGap
from zerotilt.core.pockets.counterparts import Counterparts
from zerotilt.core.pockets.errors import ErrorName, Unit
from zerotilt.core.pockets.own_curves import PlaceCurve
from zerotilt.core.pockets.reasons import GroupInside, Trained, Twins, WithoutCondition
from zerotilt.core.segmenting.sizes import Sides
from zerotilt.core.stats.estimates import Estimate


class PocketSettings(Frozen):
    conditions: str = Field(
        default="", max_length=4_000, description="As they are typed, joined by and; the surest pocket when empty"
    )
    error: ErrorName = Field(default="", description="The usual error when empty")
    truth: str = Field(
        default="", max_length=500, description="Of a class taken for another: what it was; any when empty"
    )
    taken: str = Field(default="", max_length=500, description="And what it was taken for; any when empty")
    halving: int = Field(
        default=-1,
        ge=-1,
        le=47,
        description="The halving in which it was found, to be read of its other half; −1 for all rows",
    )
    rows: int = Field(
        default=2_000_000,
        ge=100,
        le=10_000_000,
        description="Rows that were searched, a seeded sample beyond; what was confirmed is read of the other half of these",
    )
    explained: int = Field(
        default=100, ge=2, le=10_000, description="Rows of either side explained where that is sampled"
    )


class PocketRung(Frozen):
    """One feature's contributions inside and outside."""

    feature: str
    inside: Estimate = Field(description="Mean contribution")
    outside: Estimate
    difference: Estimate
    size_inside: Estimate = Field(description="Mean size of its contribution, whichever way")
    size_outside: Estimate


class ExampleCase(Frozen):
    row: int
    name: str
    went: Literal["wrong", "right"]
    error: float
    output: float | None
    decision: str
    outcome: str | None


class Moved(Frozen):
    """How far all features together move the output of a row, whichever way: the sum of the sizes of its contributions."""

    inside: Estimate
    outside: Estimate
    difference: Estimate


class PocketResult(Frozen):
    segment: Segment
    described: str
    typed: str = Field(description="Its conditions as they are typed")
    halving: int
    error: ErrorName
    errors: tuple[ErrorName, ...] = Field(description="What can be read here")
    called: str
    unit: Unit
    signed: bool
    gap: ErrorGap
    without: tuple[WithoutCondition, ...] = Field(
        description="Each condition left out, the one that carries most first"
    )
    sides: tuple[Sides, ...] = Field(description="Metrics inside and of all other rows")
    twins: Twins | None
    trained: Trained | None
    counterparts: Counterparts | None
    moved: Moved | None
    curves: tuple[PlaceCurve, ...] = Field(description="Of what it is told by first, then of what differs most")
    rungs: tuple[PocketRung, ...] = Field(description="Features by how far their mean contributions lie apart")
    rows_explained: int
    output: Literal["probability", "log-odds", "value"]
    event: str
    groups: tuple[GroupInside, ...] = Field(description="Commonest inside against outside first")
    examples: tuple[ExampleCase, ...]
    balance_of: str
    balance_mean: bool
    rows: int = Field(description="Rows that the error can be read of")
    rows_read: int = Field(description="Rows that figures are of: of the half that it was not searched in, or all")
    sampled: bool = Field(description="They are of a seeded sample")
    rows_named: str
    confidence: float
    alpha: float
    minimum_rows: int
