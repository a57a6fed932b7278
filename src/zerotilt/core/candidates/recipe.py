"""What makes a candidate: the estimator and its settings, the columns it takes, and how rows are dealt to folds."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from zerotilt.core import words
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


Rate = Literal["selection rate", "true positive rate", "false positive rate"]


class Resampling(Frozen):
    """Rows drawn so that outcomes are balanced: in all rows, within every part of a column, or in one part alone."""

    how: Literal["over", "under"] = Field(
        description="Rarer outcomes drawn again, or more frequent ones drawn less often"
    )
    within: str = Field(default="", max_length=500, description="Column whose parts are balanced one by one")
    only: str = Field(default="", max_length=500, description="The one part of that column that is balanced")
    segment: str = Field(
        default="", max_length=120, description="The audit's segment that is balanced, and nothing else"
    )


class Repairing(Frozen):
    """Numbers moved towards distributions that are alike in all groups (Feldman et al. 2015)."""

    by: str = Field(max_length=500, description="Column that makes the groups")
    level: float = Field(default=1.0, ge=0, le=1, description="0 leaves values as they are; at 1 groups are alike")
    columns: tuple[str, ...] = Field(default=(), max_length=5_000, description="All numbers when empty")


class GapPenalty(Frozen):
    """Trained with a penalty on the distance between what groups' scores are."""

    by: str = Field(max_length=500, description="Column that makes the groups")
    weight: float = Field(default=1.0, ge=0, le=1e4, description="0 is the plain model")
    distance: Literal["mean", "kernel"] = Field(
        default="mean", description="Of groups' mean scores, or of their whole distributions (Gretton et al. 2012)"
    )
    rows: Literal["all", "event", "no event"] = Field(
        default="all", description="Whose scores: of all, or of those whose outcome is the event, or is not"
    )


class Constraint(Frozen):
    """Trained so that no group's rate is farther than a tolerance from that of all (Agarwal et al. 2018)."""

    by: str = Field(max_length=500, description="Column that makes the groups")
    rates: tuple[Rate, ...] = Field(default=("selection rate",), min_length=1, max_length=3)
    tolerance: float = Field(default=0.02, ge=0.001, le=1)
    rounds: int = Field(default=12, ge=2, le=60, description="Models trained at most")


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
        return self.model_copy(update=NO_REMEDY)

    @property
    def remedies(self) -> tuple[str, ...]:
        """What is done about a gap or a weakness, each in words."""
        return tuple(_remedies(self))


NO_REMEDY = {
    "reweigh": "",
    "resample": None,
    "repair": None,
    "penalise": None,
    "constrain": None,
    "left_out": (),
}
"""Remedies, as they are where there is none."""


def _remedies(recipe: Recipe):
    if recipe.left_out:
        yield f"trained without {words.listing([words.title(one) for one in recipe.left_out])}"
    if recipe.reweigh:
        yield f"rows weighed so that {words.title(recipe.reweigh)} and the outcome are independent"
    if (r := recipe.resample) is not None:
        where = (
            f"in the segment {r.segment} alone"
            if r.segment
            else f"in {words.title(r.within)} {r.only} alone"
            if r.only
            else f"within every {words.title(r.within)}"
            if r.within
            else "in all rows"
        )
        done = "rarer outcomes drawn again" if r.how == "over" else "frequent outcomes drawn less often"
        yield f"{done} until they are balanced {where}"
    if (r := recipe.repair) is not None:
        what = words.listing([words.title(one) for one in r.columns]) if r.columns else "all numbers"
        yield f"{what} moved {r.level * 100:g}% of the way to being alike in every {words.title(r.by)}"
    if (r := recipe.penalise) is not None:
        whose = {"all": "all rows", "event": "rows with the event", "no event": "rows without the event"}[r.rows]
        of = "mean scores" if r.distance == "mean" else "distributions of scores"
        yield f"a penalty of {r.weight:g} on how far {of} of {words.title(r.by)} are apart, among {whose}"
    if (r := recipe.constrain) is not None:
        yield (
            f"trained so that the {words.listing(list(r.rates))} of no {words.title(r.by)} is more than "
            f"{r.tolerance * 100:g} points from that of all"
        )
