"""What comparing two groups within strata gives."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import Field

from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.metrics import Measure
from zerotilt.core.groups.pair import PairSettings
from zerotilt.core.stats.estimates import Estimate

Verdict = Literal[
    "reversed", "turns round", "vanishes", "shrinks", "stays", "grows", "no gap", "appears", "cannot be told"
]


class GivenSettings(PairSettings):
    metric: str = Field(default="", description="Selection rate when empty, mean prediction for a number")
    columns: tuple[str, ...] = Field(
        default=(),
        max_length=3,
        description="Columns whose crossing makes the strata; the one that shrinks most when empty",
    )


class Stratum(Frozen):
    """``group`` and ``reference`` within the stratum; a rate's intervals are Wilson's."""

    stratum: str
    group: Measure
    reference: Measure
    ratio: Estimate
    difference: Estimate


class Pooled(Frozen):
    ratio: Estimate
    odds_ratio: Estimate
    difference: Estimate
    p_value: float | None = Field(description="That there is no gap within the strata")
    p_alike: float | None = Field(description="That the strata's odds ratios are alike")


class Candidate(Frozen):
    """A column given alone."""

    column: str
    strata: int
    rows: int = Field(description="Rows of both groups in strata that hold both")
    ratio: Estimate
    difference: Estimate
    shrinks: float | None = Field(description="Share of the plain gap that is gone; below 0 where it grew")


class GivenResult(Frozen):
    attribute: str
    group: str
    reference: str
    metric: str
    plain_group: Measure
    plain_reference: Measure
    minimum_rows: int = Field(description="The policy's; with fewer on a side nothing is said of the gap")
    plain: Pooled
    columns: tuple[str, ...]
    strata: tuple[Stratum, ...] = Field(description="Most rows first")
    pooled: Pooled
    shrinks: float | None
    verdict: Verdict
    compared: int = Field(description="Rows of both groups in strata that hold both")
    candidates: tuple[Candidate, ...] = Field(description="Most shrinking first")
    by: Literal["ratio", "difference"]
    weighted: bool = Field(
        description="Whether rows have weights; then the strata's odds ratios are not tested for being alike"
    )
    rows: int
    confidence: float


def if_known(p: float) -> float | None:
    return p if math.isfinite(p) else None
