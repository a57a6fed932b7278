"""How segments stand against the rows outside them: sizes, and every metric of both sides."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import segments, words
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups import measure, readout
from zerotilt.core.groups.measure import Measured
from zerotilt.core.groups.metrics import Measure, metric_named
from zerotilt.core.meaning import Role, Segment, Wording
from zerotilt.core.membership import SEGMENTS, Grouping
from zerotilt.core.subject import Subject


class Sides(Frozen):
    """One metric of a segment and of all other rows."""

    metric: str
    inside: Measure
    outside: Measure


class Overlap(Frozen):
    """Rows that belong to a saved segment, too."""

    name: str
    rows: int = Field(description="In both")
    theirs: int = Field(description="In the saved one")
    same: bool = Field(description="Both hold the same rows")


def written_as(metric: str, wording: Wording) -> Callable[[float], str]:
    """How values of a metric stand in a sentence: shares in percent, what is in the outcome's unit with it."""
    unit = metric_named(metric).unit
    if unit == "share":
        return words.percent
    return (lambda value: words.quantity(value, wording.unit)) if unit == "outcome" else words.decimal


def whole(subject: Subject) -> Subject:
    """The same subject read on all rows of its split."""
    if subject.context.segment is None:
        return subject
    return replace(subject, context=subject.context.model_copy(update={"segment": None}), alike=None, beside=None)


def predicts(subject: Subject) -> bool:
    """Whether anything is predicted or was decided, so that there is something to measure."""
    return subject.predictor is not None or any(subject.spec.with_role(role) for role in (Role.score, Role.decision))


def told(subject: Subject) -> tuple[str, ...]:
    """Names of the few metrics that say what a set of rows is like: what happened, what is predicted, how wrong."""
    names = (
        "base_rate",
        "selection_rate",
        "accuracy",
        "mean_outcome",
        "mean_prediction",
        "mae",
        "mean_rank",
        "rank_error",
    )
    wanted = [name for name in names if name in {one.name for one in readout.of_task(subject.spec.task)}]
    if not subject.spec.knows_outcome:
        wanted = [name for name in wanted if not readout.METRICS[name].needs_outcome]
    return tuple(wanted)


def both_sides(
    subject: Subject,
    masks: Sequence[NDArray[np.bool_]],
    names: Sequence[str],
    metrics: Sequence[str],
    seed: int,
    among: NDArray[np.bool_] | None = None,
) -> tuple[dict[str, Measured], dict[str, Measured]]:
    """Every metric, by key, of some sets of rows and of the rows outside each; arrays of shape (sets,).

    ``among``: only of these rows, inside and outside.
    """
    found = readout.read(subject, metrics)
    apart = np.array(masks, bool).reshape(len(names), subject.n)
    if among is not None:
        found, apart = found.among(among), apart[:, among]
    grouping = Grouping((SEGMENTS,), tuple(names), masks=apart)
    counted = measure.Counted.of(found, apart.shape[1])
    _, own, outside = counted.groups(grouping, True, subject.spec.policy.confidence, seed)
    return own, outside or {}


def sides(subject: Subject, mask: NDArray[np.bool_], seed: int) -> tuple[Sides, ...]:
    """The few metrics of one set of rows and of all others; nothing where nothing is predicted, or no row is inside."""
    metrics = told(subject)
    if not (predicts(subject) and metrics and mask.any()):
        return ()
    own, outside = both_sides(subject, [mask], ["the segment"], metrics, seed)
    return tuple(Sides(metric=key, inside=one.at(0), outside=outside[key].at(0)) for key, one in own.items())


def overlaps(subject: Subject, mask: NDArray[np.bool_], mine: str = "") -> tuple[Overlap, ...]:
    """With every saved segment that fits the table, the one of this name left out; the largest overlap first."""
    found = []
    for one in subject.spec.segments:
        if one.name == mine or segments.unfit(one, subject.table) is not None:
            continue
        theirs = members(one, subject)
        found.append(
            Overlap(
                name=one.name,
                rows=int((mask & theirs).sum()),
                theirs=int(theirs.sum()),
                same=bool((mask == theirs).all()),
            )
        )
    return tuple(sorted(found, key=lambda one: (-one.rows, one.name)))


def members(segment: Segment, subject: Subject) -> NDArray[np.bool_]:
    """Which rows of the context belong to it, shape (n,)."""
    return segments.members(segment, subject.spec, subject.table, subject.rows.numbers)
