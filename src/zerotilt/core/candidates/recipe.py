"""What makes a candidate: the estimator and its settings, the columns it takes, and how rows are dealt to folds."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, model_validator

from zerotilt.core.frozen import Frozen
from zerotilt.core.steps.every import REMEDIES
from zerotilt.core.steps.penalty import GapPenalty
from zerotilt.core.steps.reductions import Constraint
from zerotilt.core.steps.repair import Repairing
from zerotilt.core.steps.resampling import Resampling

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
    split: float | None = Field(
        default=None,
        gt=0,
        le=1,
        description="Share of the columns, drawn anew, that a split is looked for in; the estimator's own when empty",
    )
    penalty: float = Field(default=1.0, gt=0, le=1e6, description="Of a linear model or network: larger is simpler")
    neighbours: int = Field(default=50, ge=1, le=10_000)
    units: int = Field(default=16, ge=1, le=512, description="Of the network's one layer")
    balanced: bool = Field(default=False, description="Classes weigh alike")
    reweigh: str = Field(
        default="",
        max_length=500,
        description="Column: rows are weighed so that it and the outcome are independent (Kamiran & Calders 2012)",
    )
    resample: Resampling | None = None
    repair: Repairing | None = None
    penalise: GapPenalty | None = None
    constrain: Constraint | None = None
    left_out: tuple[str, ...] = Field(
        default=(), max_length=5_000, description="Columns that are not taken, whatever else is"
    )
    more: dict[str, Any] = Field(
        default={},
        max_length=20,
        exclude_if=lambda more: not more,
        description="Remedies that have no field of their own, by name",
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

    @property
    def plain(self) -> Recipe:
        """The same without remedies."""
        own = {name: one.nothing for name, one in REMEDIES.items() if name in Recipe.model_fields}
        return self.model_copy(update=own | {"more": {}})

    def of(self, name: str) -> Any:
        """What is asked of a remedy; its nothing where there is none."""
        remedy = REMEDIES[name]
        if name in Recipe.model_fields:
            return getattr(self, name)
        return remedy.checked(self.more[name]) if name in self.more else remedy.nothing

    @property
    def asked(self) -> dict[str, Any]:
        """The remedies that it has, with their settings, in the order in which they are declared."""
        every = {name: self.of(name) for name in REMEDIES}
        return {name: asked for name, asked in every.items() if asked != REMEDIES[name].nothing}

    @property
    def remedies(self) -> tuple[str, ...]:
        """What is done about a gap or a weakness, each in words."""
        return tuple(REMEDIES[name].said(asked) for name, asked in self.asked.items())

    @model_validator(mode="before")
    @classmethod
    def _gathered(cls, given: Any) -> Any:
        """A remedy that has no field of its own is written like one that has."""
        if not isinstance(given, dict):
            return given
        further = {name: given[name] for name in given if name in REMEDIES and name not in cls.model_fields}
        if not further:
            return given
        rest = {name: value for name, value in given.items() if name not in further}
        return rest | {"more": {**(given.get("more") or {}), **further}}

    @model_validator(mode="after")
    def _known(self) -> Recipe:
        for name, asked in self.more.items():
            if name not in REMEDIES or name in Recipe.model_fields:
                raise ValueError(f"there is no further remedy “{name}”")
            REMEDIES[name].checked(asked)
        return self

    def __hash__(self) -> int:
        return hash(self.model_dump_json())
