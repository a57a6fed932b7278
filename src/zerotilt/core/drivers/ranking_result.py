"""What ranking the features gives."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from zerotilt.core.drivers.agreement import Agreement, Ranked
from zerotilt.core.drivers.losses import Loss, LossChoice
from zerotilt.core.frozen import Frozen
from zerotilt.core.response.curves import Direction
from zerotilt.core.stats.estimates import Estimate


class DriversSettings(Frozen):
    loss: LossChoice = "auto"
    against_rest: bool = Field(
        default=False, description="With several classes: the loss of the class that is read against all others"
    )
    repeats: int = Field(default=10, ge=2, le=100)
    rows: int = Field(default=20_000, ge=10, le=10_000_000, description="Rows shuffled; a seeded sample beyond")
    explained: int = Field(
        default=200,
        ge=1,
        le=100_000,
        description="Rows whose contributions are averaged; all rows where they are exact and cheap",
    )
    walks: int = Field(default=1_024, ge=2, le=10_000, description="Most pairs of walks a row, where they are sampled")
    linked_from: float = Field(
        default=0.7, gt=0, le=1, description="Columns associated by at least this much are also shuffled together"
    )


class Beside(Frozen):
    """The same feature in the model or rows read alongside. ``difference``: alongside less here."""

    permutation: Estimate
    rank: int
    loss_depends: bool
    difference: Estimate


class Driver(Frozen):
    """One feature. ``permutation`` is added loss; the Shapley values are on the context's output scale."""

    feature: str
    permutation: Estimate
    share: float | None = Field(description="Share of the summed importances above zero")
    loss_depends: bool = Field(
        description="Whether the interval of the importance stays above zero: the loss depends on the feature. Where it does "
        "not, the output may depend on it all the same"
    )
    mean_abs_shapley: Estimate
    mean_shapley: Estimate = Field(description="Signed: which way the feature moves the output on average")
    direction: Direction
    curve: tuple[float, ...] = Field(description="Mean response along the feature, for a small drawing")
    beside: Beside | None = Field(description="Alongside; null where nothing is, or it does not take the feature")


class LinkedDrivers(Frozen):
    """Columns that say much the same: shuffled one by one, each may look small."""

    features: tuple[str, ...]
    least: float = Field(description="The weakest association between two of them, 0 to 1")
    permutation: Estimate = Field(description="Loss added when they are shuffled together")
    singles: float = Field(description="Sum of the losses added when each is shuffled alone")


class Dominant(Frozen):
    """One feature that carries most of the importance, and the output's spread when it is averaged out."""

    feature: str
    share: float
    spread: float = Field(description="Standard deviation of the output")
    spread_without: float = Field(description="The same with the feature's values taken from other rows and averaged")


class BesideRanking(Frozen):
    """What is read alongside, as a whole."""

    rows_named: Literal["held-out", "training", "all"]
    segment_named: str = Field(default="", description="Of these rows only those of the segment")
    other_model: bool
    loss_as_is: float
    rows: int
    only_there: tuple[str, ...] = Field(description="Features that only the model alongside takes, largest first")
    only_here_used: tuple[str, ...] = Field(
        description="The loss depends on it here, not so alongside, and the gap is beyond zero"
    )
    only_there_used: tuple[str, ...]
    agreement: Agreement


class DriversResult(Frozen):
    drivers: tuple[Driver, ...] = Field(description="Largest permutation importance first")
    loss: Loss
    losses: tuple[Loss, ...] = Field(description="Those that are defined for this outcome")
    of_class: str | None = Field(description="The class whose loss against all others it is")
    loss_as_is: float
    rows_named: Literal["held-out", "training", "all"]
    segment_named: str = Field(default="", description="Of these rows only those of the segment")
    rows: int
    rows_scored: int
    repeats: int
    every_pair: int = Field(
        description="Features for which all pairs of rows were asked, so that nothing hangs on shuffles"
    )
    explained: int
    output: Literal["probability", "log-odds", "value"]
    event: str
    linked: tuple[LinkedDrivers, ...]
    agreement: Agreement = Field(description="Of the two measures, which answer different questions")
    ranks: tuple[Ranked, ...] = Field(description="By permutation importance, by mean absolute Shapley value")
    first_share: float | None = Field(description="Share of the first feature in the summed importances")
    dominant: Dominant | None
    shapley_method: str
    shapley_why: str
    background: int
    effective_features: float | None = Field(description="exp of the entropy of the shares")
    beside: BesideRanking | None
    confidence: float
