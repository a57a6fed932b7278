"""The ladder of many cases at once: the mean contribution of every feature among some of the rows, with its interval."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core.cases_asked import chosen_of
from zerotilt.core.contributions.explain import ShapleyMethod, explain
from zerotilt.core.contributions.sums_met import affordable
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import weighing
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.stats.means import mean_interval
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class MeanLadderSettings(Frozen):
    group: str = Field(
        default="", description="A grouping, as the tilt sheet names it; all rows of the context when empty"
    )
    member: str = Field(default="", description="One group of that grouping, or one segment")
    rows: int = Field(default=300_000, ge=2, le=1_000_000, description="Rows explained where that is exact and cheap")
    sampled: int = Field(default=300, ge=2, le=1_000_000, description="Rows explained where contributions are sampled")


class MeanRung(Frozen):
    feature: str
    mean: Estimate = Field(description="Mean contribution, with its interval over the rows")
    raises: float = Field(description="Share of the rows in which it raises the output")


class MeanLadderResult(Frozen):
    group: str
    member: str
    baseline: float
    prediction: float = Field(description="Mean output of the rows explained")
    mean_output: float | None = Field(default=None, description="Mean output of all members, explained or not")
    threshold: float | None = Field(description="On the scale of the output")
    rungs: tuple[MeanRung, ...] = Field(description="Largest mean first")
    rows: int = Field(description="Rows of the context")
    members: int = Field(description="Rows that belong to the group or segment")
    rows_explained: int
    background: int
    method: ShapleyMethod
    why: str
    output: Literal["probability", "log-odds", "value"]
    event: str


def ladder_of_rows(subject: Subject, settings: MeanLadderSettings, seed: int, work: Work) -> MeanLadderResult:
    """Mean contributions of the rows of one group against all rows of the context; they add up to the gap of their means.

    Raises
    ------
    Refused : there is no such group, or none of its rows counts.
    """
    members = chosen_of(subject, settings.group, settings.member)
    places = np.arange(subject.n) if members is None else np.flatnonzero(members)
    places = places[subject.rows.mass[places] > 0]
    if not len(places):
        raise Refused("None of these rows counts: their weights are zero.", todo="Choose others.")
    most = min(affordable(subject, settings.rows, settings.sampled), settings.rows)
    explained = places
    if len(places) > most:
        explained = np.sort(np.random.default_rng(seed).choice(places, most, replace=False))
    mass = subject.rows.mass[explained]
    found = explain(subject, subject.rows.numbers[explained], seed, work, most_pairs=512)
    means = weighing.mean(found.values, mass)
    confidence = subject.spec.policy.confidence
    return MeanLadderResult(
        group=settings.group,
        member=settings.member,
        baseline=found.baseline,
        prediction=float(weighing.mean(found.output, mass)),
        mean_output=float(weighing.mean(subject.own_output[places], subject.rows.mass[places])),
        threshold=subject.threshold,
        rungs=tuple(
            MeanRung(
                feature=found.features[j],
                mean=mean_interval(found.values[:, j], mass, confidence),
                raises=float(weighing.mean((found.values[:, j] > 0).astype(float), mass)),
            )
            for j in np.argsort(-np.abs(means), kind="stable")
        ),
        rows=subject.n,
        members=len(places),
        rows_explained=len(explained),
        background=found.background,
        method=found.method,
        why=found.why,
        output=subject.scale,
        event=subject.what,
    )


def say(result: MeanLadderResult, wording: Wording, settings: MeanLadderSettings) -> Reading:
    unit = wording.unit
    if result.member:
        by = "" if result.group == membership.SEGMENTS else f"{words.title(result.group)} "
        who = f"{words.count(result.members)} {wording.row if result.members == 1 else wording.rows} in {by}{result.member}"
    else:
        who = f"all {words.count(result.rows)} {wording.rows}"
    what = (
        result.event
        if result.output == "value"
        else f"{'chance' if result.output == 'probability' else 'log-odds'} that {result.event}"
    )
    middle = result.prediction if result.mean_output is None else result.mean_output
    gap = middle - result.baseline
    headline = f"The mean {what} of {who} is {words.on_scale(middle, result.output, unit)}"
    if not result.member:
        return plain(
            f"{headline}; among all of them the steps are zero on average.",
            f"Choose a group or a segment to see what sets it apart. {result.why}",
        )
    headline += (
        f", {words.difference(gap, result.output, unit)} {'over' if gap > 0 else 'under'} the baseline of "
        f"{words.on_scale(result.baseline, result.output, unit)}."
    )
    first = result.rungs[0]
    if first.mean.low is not None and first.mean.high is not None and first.mean.value is not None:
        verb = "raises" if first.mean.value > 0 else "lowers"
        sign = 1 if first.mean.value > 0 else -1
        ends = sorted((sign * first.mean.low, sign * first.mean.high))
        said = [
            words.difference(one, result.output, unit) if one >= 0 else f"−{words.difference(one, result.output, unit)}"
            for one in ends
        ]
        headline += (
            f" {words.opening(words.title(first.feature))} {verb} it most, by {words.difference(first.mean.value, result.output, unit)} "
            f"on average ({said[0]} to {said[1]})."
        )
    some = "all"
    if result.rows_explained < result.members:
        mean = words.on_scale(result.prediction, result.output, unit)
        some = f"{words.count(result.rows_explained)} of them, drawn by chance, whose mean is {mean}"
    return plain(
        headline, f"Contributions of {some}, against {words.count(result.background)} {wording.rows}. {result.why}"
    )


METHOD = Method(
    name="mean_ladder",
    area="cases",
    title="Ladder of a group or segment",
    settings=MeanLadderSettings,
    result=MeanLadderResult,
    compute=ladder_of_rows,
    say=say,
    note=(
        "The mean of the ladders of the rows of one group or segment, each against all rows of the context: their steps "
        "add up to the gap between the mean output of the rows explained and the baseline. Intervals are of a mean over rows, with "
        "skewness (Hall 1992). All rows where contributions are exact, else a seeded sample."
    ),
    main="rungs",
    part="families",
    depends=frozenset({"spec", "comparisons"}),
    first_look={"sampled": 60},
    version=2,
)
