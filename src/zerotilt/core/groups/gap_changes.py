"""What became of gaps in what is read alongside, and what the difference cost."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import membership
from zerotilt.core.groups import influence, measure
from zerotilt.core.groups.disparity import BesideGaps, Cost, GapChange
from zerotilt.core.groups.measure import Measured
from zerotilt.core.groups.readout import Readout
from zerotilt.core.groups.reference import OTHERS
from zerotilt.core.membership import Grouping
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


@dataclass(frozen=True)
class Side:
    """Groups of one attribute, each with what it is compared with. ``partner``: place of the reference; −1 all others."""

    grouping: Grouping
    own: dict[str, Measured]
    against: dict[str, Measured]
    reference: int
    note: str


def add_changes(
    drafts: list[dict], sides: Sequence[Side], subject: Subject, here: Readout, there: Readout, confidence: float,
    work: Work,
) -> None:  # fmt: skip
    """What became of every gap against the reading alongside."""
    other = subject.second
    shared = subject.n == other.n and np.array_equal(subject.rows.numbers, other.rows.numbers)
    work.begin(len(drafts), "gaps compared with those alongside")
    known: dict[tuple, tuple[float, NDArray]] = {}
    groupings = {side.grouping.attribute: side.grouping for side in sides}
    elsewhere = {
        name: grouping if shared else membership.grouping(other.spec, other.table, other.rows.numbers, grouping.columns)
        for name, grouping in groupings.items()
    }

    def moved(where: str, attribute: str, label: str, outside: bool, key: str) -> tuple[float, NDArray]:
        name = (where, attribute, label, outside, key)
        if name not in known:
            grouping, found = (groupings, here) if where == "here" else (elsewhere, there)
            if label not in grouping[attribute].labels or key not in found.keys:
                known[name] = (math.nan, np.zeros(0))
            else:
                mask = grouping[attribute].mask(grouping[attribute].labels.index(label))
                known[name] = influence.influence(found, key, ~mask if outside else mask)
        return known[name]

    for draft in drafts:
        pairs = [
            moved(where, draft["attribute"], label, outside, draft["metric"])
            for where in ("there", "here")
            for label, outside in (
                (draft["group"], False),
                (draft["group"], True) if draft["reference"] == OTHERS else (draft["reference"], False),
            )
        ]
        draft["change"] = _change(draft, pairs, shared, confidence)
        work.advance(1)


def _change(draft: dict, pairs: list[tuple[float, NDArray]], shared: bool, confidence: float) -> GapChange:
    factor, p_factor = influence.log_change(pairs, shared, confidence)
    step, p_step = influence.change(pairs, shared, confidence)
    by_ratio = draft["judged"] == "ratio"
    p = p_factor if by_ratio else p_step
    (group, _), (reference, _) = pairs[:2]
    ratio = group / reference if reference and math.isfinite(group) else math.nan
    gap = group - reference
    verdict = "not defined"
    if math.isfinite(p):
        before = abs(math.log(ratio)) if by_ratio else abs(gap)
        after = abs(math.log(pairs[2][0] / pairs[3][0])) if by_ratio else abs(pairs[2][0] - pairs[3][0])
        surely = p <= 1 - confidence
        verdict = ("wider" if after > before else "narrower") if surely else "not told apart"
    return GapChange(
        ratio=ratio if math.isfinite(ratio) and ratio > 0 else None,
        difference=gap if math.isfinite(gap) else None,
        ratio_change=estimate(*factor),
        difference_change=estimate(*step),
        p_value=p if math.isfinite(p) else None,
        verdict=verdict,
    )


COSTS = ("accuracy", "selection_rate", "auc", "log_loss", "mae", "rmse")


def gaps_beside(subject: Subject, here: Readout, there: Readout, seed: int) -> BesideGaps:
    """What the difference cost over all rows."""
    other, confidence = subject.second, subject.spec.policy.confidence
    shared = subject.n == other.n and np.array_equal(subject.rows.numbers, other.rows.numbers)
    everyone = [np.ones(one.n, bool) for one in (subject, other)]
    values = [
        measure.of_rows(one, found, mask, seed)
        for one, found, mask in zip((subject, other), (here, there), everyone, strict=True)
    ]
    costs = []
    for key in COSTS:
        if key in values[0] and key in values[1]:
            (a, moves), (b, before) = (
                influence.influence(one, key, mask) for one, mask in zip((here, there), everyone, strict=True)
            )
            error = math.sqrt(((moves - before) ** 2).sum() if shared else (moves**2).sum() + (before**2).sum())
            half = intervals.normal_quantile(confidence) * error
            costs.append(
                Cost(
                    metric=key,
                    here=values[0][key],
                    alongside=values[1][key],
                    change=estimate(a - b, a - b - half, a - b + half),
                )
            )
    return BesideGaps(rows=other.n, shared=shared, costs=tuple(costs))
