"""What may lie behind a pocket: its conditions one by one, near-twins, rows trained on, who is in it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership, segments
from zerotilt.core import rows as row_sets
from zerotilt.core.distance import Space, nearest_placed, space
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Condition
from zerotilt.core.pockets.confirmed import ErrorGap, gap_of
from zerotilt.core.pockets.errors import Errors
from zerotilt.core.predictors import Frame
from zerotilt.core.stats import clusters, intervals
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.stats.intervals import Interval
from zerotilt.core.subject import Subject

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
MOST_TWINS, MOST_AMONG = 600, 10_000
MOST_GROUPS = 12


class WithoutCondition(Frozen):
    """A pocket with one of its conditions left out."""

    condition: str
    gap: ErrorGap = Field(description="Of the rows that meet all others, against those that do not")
    only_without: Estimate = Field(description="The error of rows that meet all others and not this one")
    rows_without: int


class Twins(Frozen):
    """Rows against their nearest row in features."""

    inside: Estimate = Field(
        description="Share of which the nearest row has another outcome; of numbers how far outcomes are apart"
    )
    outside: Estimate
    difference: Estimate
    p: float | None
    rows: int = Field(description="Rows inside that were held against their nearest; a seeded sample beyond 600")
    rows_outside: int


class Trained(Frozen):
    """How common such rows are where the model was trained."""

    training: float = Field(description="Share of the training rows that meet the conditions")
    here: float
    training_rows: int


class GroupInside(Frozen):
    """One group: how common it is inside, and how much of its own gap in the error the pocket makes."""

    attribute: str
    group: str
    inside: float = Field(description="Share of the pocket's rows")
    outside: float = Field(description="Share of all other rows")
    gap: Estimate = Field(description="The group's error less all others'")
    gap_elsewhere: Estimate = Field(description="The same without the rows of the pocket")
    accounts_for: float | None = Field(
        description="Share of the gap that goes with the pocket's rows; null where the group's gap is not told from nothing"
    )


def without(errors: Errors, met: Sequence[Bools], block: Sequence[Condition], outcome: Floats, confidence: float):
    """Each condition left out, the one that carries most first."""
    found = []
    for i, condition in enumerate(block):
        others = np.ones(errors.m, bool)
        for j, mask in enumerate(met):
            if j != i:
                others &= mask
        rest = others & ~met[i]
        part = errors.among(rest)
        value = gap_of(part, np.ones(part.m, bool), part.values, confidence).inside if part.m else None
        found.append(
            WithoutCondition(
                condition=segments.said(condition),
                gap=gap_of(errors, others, outcome, confidence),
                only_without=Estimate(value=value.value, low=value.low, high=value.high)
                if value
                else Estimate(value=None, low=None, high=None),
                rows_without=int(rest.sum()),
            )
        )
    return tuple(sorted(found, key=lambda one: one.gap.inside.value if one.gap.inside.value is not None else np.inf))


def twins(
    subject: Subject, features: Frame, inside: Bools, judged: Bools, counts: bool, confidence: float, seed: int
) -> Twins | None:
    """Whether rows with nearly the same features have the same outcome (Gower 1971), inside and outside.

    Two rows that are each other's nearest tell one thing, not two, and so does a row that is the nearest of several: what
    hangs together is summed before the error is worked out (Liang & Zeger 1986).

    Parameters
    ----------
    features : of the context's rows, n of them. inside, judged : shape (n,); which lie in it, and which are read.
    counts : outcomes are numbers.
    """
    rng = np.random.default_rng(seed)
    outcome = subject.rows.outcome
    among = np.sort(rng.permutation(np.flatnonzero(judged))[:MOST_AMONG])
    where = space(features.take(among))
    spans, sizes = [], []
    for mask in (inside, ~inside):
        asked = rng.permutation(np.flatnonzero(mask & judged))[:MOST_TWINS]
        if len(asked) < 2 or len(among) < 3:
            return None
        which = _nearest_other(where, features, among, asked)
        apart = (
            np.abs(outcome[asked].astype(float) - outcome[which])
            if counts
            else (outcome[asked] != outcome[which]).astype(float)
        )
        sizes.append(len(asked))
        spans.append(
            clusters.mean(apart, subject.rows.mass[asked], clusters.joined(asked, which), not counts, confidence)
        )
    gap = intervals.between(*spans)
    p = float(intervals.tested(gap, confidence))
    first, second = (estimate(*(float(end) for end in one)) for one in spans)
    return Twins(
        inside=first, outside=second, difference=_plain(gap), p=p if np.isfinite(p) else None, rows=sizes[0],
        rows_outside=sizes[1],
    )  # fmt: skip


def _nearest_other(where: Space, features: Frame, among: NDArray[np.int64], asked: NDArray[np.int64]):
    """The nearest row of each that is not itself; those asked about stand first among all."""
    order = np.concatenate([asked, np.setdiff1d(among, asked)])
    placed = where.place(features.take(order))
    return order[nearest_placed(where, placed, placed[: len(asked)], own=True)[1]]


def _plain(span: Interval) -> Estimate:
    return estimate(*(float(one) for one in span))


def trained(subject: Subject, block: Sequence[Condition], here: float) -> Trained | None:
    """How common the conditions are among training rows; None where no column says which these are."""
    if not row_sets.split_known(subject.spec) or subject.predictor is None or subject.context.rows == "training":
        return None
    rows = np.flatnonzero(row_sets.held_out(subject.spec, subject.table, "training"))
    if not len(rows):
        return None
    meets = np.ones(len(rows), bool)
    for one in block:
        meets &= segments.meeting(one, subject.table, rows)
    return Trained(training=float(meets.mean()), here=here, training_rows=int(meets.sum()))


def groups_inside(subject: Subject, errors: Errors, inside: Bools, numbers: NDArray[np.int64], named: set[str]):
    """Groups that are commoner inside than outside, and what the pocket makes of their gaps; most overrepresented first."""
    confidence, alpha = subject.spec.policy.confidence, subject.spec.policy.alpha
    minimum = subject.spec.policy.minimum_rows
    found = []
    for columns in membership.all_groupings(subject.spec):
        if len(columns) != 1 or columns[0] == membership.SEGMENTS or columns[0] in named:
            continue
        grouping = membership.grouping(subject.spec, subject.table, numbers, columns)
        for place, label in enumerate(grouping.labels):
            group = grouping.mask(place)
            if not group.any() or group.all():
                continue
            whole = gap_of(errors, group, errors.values, confidence)
            rest = errors.among(~inside)
            left = group[~inside]
            elsewhere = gap_of(rest, left, rest.values, confidence) if 0 < left.sum() < len(left) else None
            share = None
            told = whole.p is not None and whole.p <= alpha and min(group.sum(), (~group).sum()) >= minimum
            before = whole.difference.value
            if told and before and elsewhere is not None and elsewhere.difference.value is not None:
                share = 1 - elsewhere.difference.value / before
            found.append(
                GroupInside(
                    attribute=grouping.attribute,
                    group=label,
                    inside=float(group[inside].mean()),
                    outside=float(group[~inside].mean()),
                    gap=whole.difference,
                    gap_elsewhere=elsewhere.difference if elsewhere else Estimate(value=None, low=None, high=None),
                    accounts_for=share,
                )
            )
    found.sort(key=lambda one: one.outside - one.inside)
    return tuple(found[:MOST_GROUPS])
