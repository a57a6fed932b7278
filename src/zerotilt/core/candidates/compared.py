"""Candidates beside each other: means over folds, what is told apart from the leader, and the gap between groups."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core.candidates.validated import FoldMeasured, Validated
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.metrics import METRICS, metric_named
from zerotilt.core.meaning import Task
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.stats.folds import over_folds, told_apart
from zerotilt.core.stats.intervals import Interval, adjust

SMALLER = frozenset(
    {
        "log_loss", "brier_score", "mae", "rmse", "median_absolute_error", "rank_error", "calibration_error", "false_positive_rate",
        "false_negative_rate",
    }
)  # fmt: skip
"""Metrics of which less is better."""
NEARER = frozenset({"mean_error", "mean_rank_error"})
"""Of which nought is best."""


USUAL = {Task.binary: "log_loss", Task.several: "log_loss", Task.ordered: "log_loss", Task.regression: "rmse"}
TOLD_ONLY = frozenset(
    {"base_rate", "selection_rate", "mean_score", "class_share", "mean_rank", "mean_prediction", "mean_outcome"}
)
"""What no candidate is better for."""


class CandidateStanding(Frozen):
    """One candidate in one metric."""

    name: str
    validation: Estimate = Field(description="Mean over folds (Nadeau & Bengio 2003)")
    training: Estimate
    behind: Estimate | None = Field(
        description="Its mean less the leader's, on the same folds; null of the leader itself"
    )
    p: float | None = Field(description="That there is no difference, over all candidates (Benjamini & Hochberg 1995)")
    apart: bool = Field(description="Told apart from the leader")
    gap: Estimate | None = Field(
        description="Of the group less the reference in the chosen metric; null where none is chosen"
    )
    found_among: int = Field(description="Recipes that were tried on these folds to find it")
    few: bool = Field(description="Group or reference has fewer rows, in all folds, than the policy asks for")
    dominated: str | None = Field(
        description="A candidate that is as good in the metric and as small in the gap, and better in one of them"
    )
    folds: tuple[float | None, ...]


class CandidatesTable(Frozen):
    metric: str
    larger_is_better: bool
    leader: str | None = Field(description="Best mean; null where nothing is defined")
    standings: tuple[CandidateStanding, ...] = Field(description="The leader first, then by mean")
    folds: int
    rows: int
    confidence: float


def metrics_of(task: Task, validated: Iterable[Validated]) -> list[str]:
    """What candidates can be ordered by, the usual metric first."""
    found = dict.fromkeys(key for one in validated for fold in one.folds for key in fold.validation)
    fit = [key for key in found if metric_named(key).name not in TOLD_ONLY]
    order = list(METRICS)
    return sorted(fit, key=lambda key: (key != USUAL[task], order.index(metric_named(key).name), key))


def better(metric: str, value: float) -> float:
    """A value so that more is better."""
    name = metric_named(metric).name
    return -abs(value) if name in NEARER else -value if name in SMALLER else value


def table_of(
    candidates: Sequence[tuple[str, Validated]],
    metric: str,
    gap: tuple[str, str, str, str] | None,
    confidence: float,
    alpha: float,
    minimum_rows: int = 0,
) -> CandidatesTable:
    """Candidates that were validated on the same folds.

    Parameters
    ----------
    candidates : name and what it was worth. gap : metric, column, group and reference whose difference is told.
    """
    sizes = np.array([fold.rows for fold in candidates[0][1].folds], float) if candidates else np.zeros(0)
    values = {name: by_fold(one.folds, metric, False) for name, one in candidates}
    means = {name: over_folds(found, sizes, confidence) for name, found in values.items()}
    ranked = sorted(
        (name for name in means if np.isfinite(means[name].value)),
        key=lambda name: -better(metric, float(means[name].value)),
    )
    leader = ranked[0] if ranked else None
    behind = {name: told_apart(values[name] - values[leader], sizes, confidence) for name in ranked if name != leader}
    raw = [behind[name][1] if behind[name][1] is not None else np.nan for name in ranked[1:]]
    p = dict(zip(ranked[1:], adjust(raw) if raw else [], strict=True))
    undefined = [name for name in means if name not in ranked]
    standings = []
    for name, one in sorted(candidates, key=lambda pair: [*ranked, *undefined].index(pair[0])):
        q = float(p.get(name, np.nan))
        standings.append(
            CandidateStanding(
                name=name,
                validation=_told(means[name]),
                training=_told(over_folds(by_fold(one.folds, metric, True), sizes, confidence)),
                behind=_told(behind[name][0]) if name in behind else None,
                p=q if np.isfinite(q) else None,
                apart=bool(q <= alpha),
                gap=None if gap is None else _told(over_folds(gaps_of(one.folds, gap), sizes, confidence)),
                found_among=one.found_among,
                few=gap is not None and rows_of(one.folds, gap) < minimum_rows,
                dominated=None,
                folds=tuple(float(value) if np.isfinite(value) else None for value in values[name]),
            )
        )
    return CandidatesTable(
        metric=metric,
        larger_is_better=metric_named(metric).name not in SMALLER | NEARER,
        leader=leader,
        standings=_frontier(standings, metric),
        folds=len(sizes),
        rows=candidates[0][1].rows if candidates else 0,
        confidence=confidence,
    )


def _frontier(standings: list[CandidateStanding], metric: str) -> tuple[CandidateStanding, ...]:
    """With, of each that another outdoes in both, one that does: by their means, so that the frontier is a line and no
    claim about luck."""
    told = {
        one.name: (better(metric, one.validation.value), -abs(one.gap.value))
        for one in standings
        if one.validation.value is not None and one.gap is not None and one.gap.value is not None
    }
    out = []
    for one in standings:
        here = told.get(one.name)
        above = (
            [name for name, other in told.items() if other != here and other[0] >= here[0] and other[1] >= here[1]]
            if here
            else []
        )
        first = max(above, key=lambda name: told[name], default=None)
        out.append(one.model_copy(update={"dominated": first}))
    return tuple(out)


def by_fold(folds: Sequence[FoldMeasured], metric: str, training: bool) -> NDArray[np.float64]:
    """A metric of each fold, NaN where it is not defined."""
    found = [(one.training if training else one.validation).get(metric) for one in folds]
    return np.array([np.nan if value is None else value for value in found])


def gaps_of(folds: Sequence[FoldMeasured], gap: tuple[str, str, str, str]) -> NDArray[np.float64]:
    """Of each fold a group's metric less its reference's; NaN where one of them is not defined."""
    metric, column, group, reference = gap
    out = []
    for fold in folds:
        known = {one.group: one.values.get(metric) for one in fold.groups if one.attribute == column}
        here, there = known.get(group), known.get(reference)
        out.append(np.nan if here is None or there is None else here - there)
    return np.array(out)


def rows_of(folds: Sequence[FoldMeasured], gap: tuple[str, str, str, str]) -> int:
    """Rows of a group and its reference in all folds, whichever has fewer."""
    _, column, *sides = gap
    return min(
        sum(one.rows for fold in folds for one in fold.groups if (one.attribute, one.group) == (column, side))
        for side in sides
    )


def _told(span: Interval) -> Estimate:
    return estimate(*(float(one) for one in span))
