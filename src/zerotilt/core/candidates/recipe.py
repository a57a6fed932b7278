"""What makes a candidate: the estimator and its settings, the columns it takes, and how rows are dealt to folds."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from zerotilt.core.frozen import Frozen

EstimatorName = Literal[
    "linear", "one tree", "forest", "extra trees", "boosted trees", "naive Bayes", "nearest neighbours", "small network"
]
CALLED: dict[EstimatorName, str] = {
    "linear": "linear model",
    "one tree": "one tree",
    "forest": "random forest",
    "extra trees": "extremely randomised trees",
    "boosted trees": "gradient boosted trees",
    "naive Bayes": "naive Bayes",
    "nearest neighbours": "nearest neighbours",
    "small network": "small network",
}


class Dealing(Frozen):
    """How rows are dealt to folds, and which are put aside."""

    folds: int = Field(default=5, ge=2, le=20)
    test_share: float = Field(default=0.1, ge=0, le=0.5, description="Rows that no candidate sees until one is chosen")
    together: str = Field(default="", max_length=500, description="Column whose equal values are never on both sides")
    in_time: str = Field(
        default="", max_length=500, description="Column by which every fold comes after the rows it is trained on"
    )
    seed: int = Field(default=20, ge=0, le=2**31 - 1)


class Recipe(Frozen):
    """One candidate. Settings that an estimator does not have are left alone."""

    estimator: EstimatorName
    columns: tuple[str, ...] = Field(default=(), max_length=5_000, description="All features when empty")
    trees: int = Field(default=100, ge=1, le=2_000, description="Of forests and boosting")
    depth: int | None = Field(default=None, ge=1, le=60, description="Of trees; the estimator's own when empty")
    leaf: int = Field(default=10, ge=1, le=100_000, description="Rows that a leaf holds at least")
    rate: float = Field(default=0.1, gt=0, le=1, description="Learning rate of boosting")
    penalty: float = Field(default=1.0, gt=0, le=1e6, description="Of a linear model or network: larger is simpler")
    neighbours: int = Field(default=50, ge=1, le=10_000)
    units: int = Field(default=16, ge=1, le=512, description="Of the network's one layer")
    balanced: bool = Field(default=False, description="Classes weigh alike")
    reweigh: str = Field(
        default="",
        max_length=500,
        description="Column: rows are weighed so that it and the outcome are independent (Kamiran & Calders 2012)",
    )
    rare: int = Field(default=10, ge=1, le=100_000, description="Levels of fewer rows are taken as one")
    missing: Literal["typical", "apart"] = Field(
        default="typical", description="A missing number is taken as the median, or stands apart below all others"
    )
    seed: int = Field(default=7, ge=0, le=2**31 - 1)
    dealing: Dealing = Dealing()

    @property
    def called(self) -> str:
        return CALLED[self.estimator]
