"""The limits that decide what is flagged."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from zerotilt.core.frozen import Frozen


class Tolerance(Frozen):
    """Limits of one metric, where they are not the policy's."""

    metric: str
    ratio_low: float | None = Field(default=None, gt=0, lt=1)
    ratio_high: float | None = Field(default=None, gt=1)
    difference: float | None = Field(
        default=None,
        gt=0,
        description="Largest difference either way, in the metric's own unit; then the ratio is not judged",
    )


class FlagPolicy(Frozen):
    """The limits that decide what is flagged, and which metrics are compared."""

    number: int = Field(default=1, ge=1, description="Version of the policy, counted up when it is changed")
    ratio_low: float = Field(default=0.8, gt=0, lt=1)
    ratio_high: float = Field(default=1.25, gt=1)
    difference_share: float = Field(
        default=0.1,
        gt=0,
        description="For metrics that can be negative: largest difference, in standard deviations of the outcome",
    )
    minimum_rows: int = Field(default=30, ge=1)
    confidence: float = Field(default=0.95, gt=0.5, lt=1)
    alpha: float = Field(default=0.05, gt=0, lt=1)
    adjustment: Literal["false discovery rate", "Holm", "Bonferroni", "none"] = Field(
        default="false discovery rate", description="How p-values are adjusted over the comparisons made"
    )
    metrics: tuple[str, ...] = Field(default=(), description="Metrics compared; every one when empty")
    tolerances: tuple[Tolerance, ...] = ()

    def tolerance(self, metric: str) -> Tolerance:
        return next((one for one in self.tolerances if one.metric == metric), Tolerance(metric=metric))


class Limits(Frozen):
    """The flag policy in force."""

    policy: FlagPolicy = FlagPolicy()
