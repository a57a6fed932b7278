"""The standing of candidates: all that is said of those that were validated on the same folds."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zerotilt.core import words
from zerotilt.core.candidates.compared import CandidatesTable, gaps_of, metrics_of, table_of
from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.remedied import Gap, Remedied, remedies_of
from zerotilt.core.candidates.remedied import say as remedies_told
from zerotilt.core.candidates.said import say, say_frontier
from zerotilt.core.candidates.validated import Validated
from zerotilt.core.meaning import Spec
from zerotilt.core.refusal import Refused
from zerotilt.core.steps.every import REMEDIES


@dataclass(frozen=True)
class Standing:
    """Candidates in one metric, with the gap of a group where one stands beside."""

    spec: Spec
    worth: dict[str, Validated]
    """By name."""
    recipes: dict[str, Recipe]
    metrics: list[str]
    metric: str
    gap: Gap | None
    table: CandidatesTable | None
    remedied: tuple[Remedied, ...]

    @property
    def reading(self) -> tuple[str, ...]:
        return say(self.table, self.spec.wording) if self.table else ()

    @property
    def remedies_said(self) -> tuple[str, ...]:
        return remedies_told(self.remedied, self.metric, self.gap) if self.gap else ()

    @property
    def warned(self) -> tuple[str, ...]:
        """What each remedy of these candidates takes for granted, whom it can hurt, and where the law may forbid it."""
        used = {name for recipe in self.recipes.values() for name in recipe.asked}
        return tuple(
            f"{words.opening(one.title)}: {one.warned[:1].lower()}{one.warned[1:]}"
            for name, one in REMEDIES.items()
            if name in used
        )

    @property
    def frontier_said(self) -> tuple[str, ...]:
        return say_frontier(self.table, self.gap, self.spec.wording) if self.table else ()


def stand(
    spec: Spec,
    candidates: Sequence[tuple[str, Recipe, Validated]],
    metric: str = "",
    gap: str = "",
    column: str = "",
    group: str = "",
    reference: str = "",
) -> Standing:
    """Candidates by name, all validated on the same folds.

    ``gap``: the metric whose difference between a group and a reference stands beside; of column, group and reference what
    is not named is the first column, the meaning's reference or the largest group, and the group farthest from it.

    Raises
    ------
    Refused : the metric was not measured.
    """
    worth = {name: validated for name, _, validated in candidates}
    metrics = metrics_of(spec.task, worth.values())
    metric = metric or next(iter(metrics), "")
    if metric and metric not in metrics and worth:
        raise Refused(f"metric: “{metric}” is not measured of these candidates.", todo="Choose another.")
    first = next(iter(worth.values()), None)
    asked = _gap(spec, first, gap, column, group, reference) if gap and first else None
    limits = spec.policy.confidence, spec.policy.alpha, spec.policy.minimum_rows
    return Standing(
        spec,
        worth,
        {name: recipe for name, recipe, _ in candidates},
        metrics,
        metric,
        asked,
        table_of(list(worth.items()), metric, asked, *limits) if worth else None,
        remedies_of(candidates, metric, asked, *limits),
    )


def _gap(spec: Spec, worth: Validated, metric: str, column: str, group: str, reference: str) -> Gap | None:
    sizes: dict[str, Counter[str]] = {}
    for fold in worth.folds:
        for one in fold.groups:
            sizes.setdefault(one.attribute, Counter())[one.group] += one.rows
    column = column or next(iter(sizes), "")
    if len(sizes.get(column, ())) < 2:
        return None
    said = next((one.reference for one in spec.columns if one.name == column), None)
    largest = sizes[column].most_common(1)[0][0]
    reference = reference or (said if said is not None and said in sizes[column] else largest)
    if not group:
        enough = [one for one, rows in sizes[column].items() if one != reference and rows >= spec.policy.minimum_rows]
        gaps = {one: gaps_of(worth.folds, (metric, column, one, reference)) for one in enough}
        told = {one: float(np.nanmean(np.abs(found))) for one, found in gaps.items() if np.isfinite(found).any()}
        group = max(told, key=lambda one: told[one], default="") or next(
            one for one in sizes[column] if one != reference
        )
    return metric, column, group, reference
