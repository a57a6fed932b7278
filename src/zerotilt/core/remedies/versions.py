"""All versions of an audit in one table: every metric of all rows, groups and segments, held against the version read."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from itertools import islice
from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core import rows as row_sets
from zerotilt.core.candidates.compared import TOLD_ONLY, better
from zerotilt.core.drawing import MOST_BARS, Picture
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.measure import Counted
from zerotilt.core.groups.metrics import metric_named, of_task, phrase
from zerotilt.core.groups.paired_metrics import paired
from zerotilt.core.groups.readout import Readout, read
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.membership import Grouping
from zerotilt.core.method import Method
from zerotilt.core.pockets.drawn import bars_of
from zerotilt.core.reading import Reading, Span
from zerotilt.core.refusal import Refused
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.stats.intervals import adjust
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

Verdict = Literal["base", "better", "worse", "higher", "lower", "not told apart", "too few"]
FIRST = ("log_loss", "auc", "accuracy", "macro_true_positive_rate", "mae")
"""Metrics in the order in which one is read first."""


class VersionsSettings(Frozen):
    """What is told of every version."""

    metric: str = Field(default="", max_length=200, description="The metric that is read; the usual one when empty")


class VersionValue(Frozen):
    """One metric of one version in one group; of all rows where the group is empty."""

    version: str
    metric: str
    attribute: str
    group: str
    rows: int = Field(description="In the metric's denominator")
    value: Estimate
    change: Estimate | None = Field(description="Less the version that is read, on the same rows; null of that itself")
    p: float | None = Field(description="That nothing changed, over everything compared (Benjamini & Hochberg 1995)")
    verdict: Verdict


class Unread(Frozen):
    """A version that these rows cannot be read with."""

    version: str
    why: str


class VersionsResult(Frozen):
    versions: tuple[str, ...] = Field(description="The version that is read first, then the others by name")
    metrics: tuple[str, ...]
    metric: str = Field(description="The one that is read")
    values: tuple[VersionValue, ...]
    unread: tuple[Unread, ...]
    compared: int = Field(description="Differences that were looked at")
    rows: int
    rows_named: str
    confidence: float
    minimum_rows: int


def versions_compared(subject: Subject, settings: VersionsSettings, seed: int, work: Work) -> VersionsResult:
    """Every version on the same rows.

    Raises
    ------
    Refused : the outcome or the predictions cannot be used.
    """
    told = [one.name for one in of_task(subject.spec.task) if one.name != "calibration_error"]
    others = sorted(subject.others.items())
    base = subject.context.model_named or ("the version that is read" if subject.predictor else "what is recorded")
    unread: list[Unread] = []

    def scored() -> Iterator[tuple[str, Readout]]:
        for name, one in others:
            try:
                if isinstance(one, Refused):
                    raise one
                # a copy, so that what is made of a version's rows goes when its turn is over
                yield name, read(replace(one), told)
            except Refused as refused:
                unread.append(Unread(version=name, why=refused.message))

    groupings = [
        Grouping((), ("",), np.zeros(subject.n, np.int64)),
        *(
            membership.grouping(subject.spec, subject.table, subject.rows.numbers, columns)
            for columns in membership.all_groupings(subject.spec)
        ),
    ]
    policy = subject.spec.policy
    values = compare(
        (base, read(subject, told)), scored(), groupings, policy.confidence, policy.alpha, policy.minimum_rows, work
    )
    # where decisions are recorded and nothing scores, there is nothing to hold the others' areas and losses against
    metrics = tuple(dict.fromkeys(one.metric for one in values if one.version == base))
    values = tuple(one for one in values if one.metric in metrics)
    usual = next((one for one in FIRST if one in metrics), metrics[0])
    return VersionsResult(
        versions=tuple(dict.fromkeys(one.version for one in values)),
        metrics=metrics,
        metric=settings.metric if settings.metric in metrics else usual,
        values=values,
        unread=tuple(unread),
        compared=sum(one.p is not None for one in values),
        rows=subject.n,
        rows_named=subject.context.rows,
        confidence=policy.confidence,
        minimum_rows=policy.minimum_rows,
    )


@dataclass(frozen=True)
class _Shared:
    base: Readout
    groupings: list[Grouping]
    confidence: float


AT_ONCE = 4
"""Versions whose rows are held at once."""


def compare(
    base: tuple[str, Readout],
    others: Iterable[tuple[str, Readout]],
    groupings: list[Grouping],
    confidence: float,
    alpha: float,
    minimum: int,
    work: Work,
) -> tuple[VersionValue, ...]:
    """Every metric of every version in every group, held against those of ``base``; a few versions at a time."""
    shared = _Shared(base[1], groupings, confidence)
    found = _one_version(shared, (*base, True))
    waiting = iter(others)
    while pieces := [(name, one, False) for name, one in islice(waiting, AT_ONCE)]:
        for part in work.spread(_one_version, shared, pieces, "versions compared"):
            found += part
    enough = [one.p if one.p is not None and one.rows >= minimum else np.nan for one in found]
    adjusted = adjust(enough) if found else []
    return tuple(_judged(one, float(p), alpha, minimum) for one, p in zip(found, adjusted, strict=True))


def _one_version(shared: _Shared, piece: tuple[str, Readout, bool]) -> list[VersionValue]:
    name, readout, base = piece
    counted = Counted.of(readout, len(shared.groupings[0].exclusive))
    out = []
    for grouping in shared.groupings:
        _, measured, _ = counted.groups(grouping, grouping.overlapping, shared.confidence, 0)
        changed = {} if base else paired(shared.base, readout, grouping, shared.confidence)
        for key, one in measured.items():
            moved = changed.get(key)
            for place, label in enumerate(grouping.labels):
                told = one.at(place)
                span = None if moved is None else [float(end[place]) for end in moved.interval]
                p = np.nan if moved is None else float(moved.p[place])
                out.append(
                    VersionValue(
                        version=name,
                        metric=key,
                        attribute=grouping.attribute,
                        group=label,
                        rows=told.of,
                        value=Estimate(value=told.value, low=told.low, high=told.high),
                        change=None if base else estimate(*(span or [np.nan] * 3)),
                        p=p if np.isfinite(p) else None,
                        verdict="base" if base else "not told apart",
                    )
                )
    return out


def _judged(one: VersionValue, p: float, alpha: float, minimum: int) -> VersionValue:
    if one.rows < minimum:
        return one.model_copy(update={"p": None, "verdict": "too few"})
    told = one.change is not None and one.change.value and p <= alpha
    verdict: Verdict = one.verdict
    if told and one.change is not None and one.change.value is not None:
        value = one.change.value
        if metric_named(one.metric).name in TOLD_ONLY or metric_named(one.metric).signed:
            verdict = "higher" if value > 0 else "lower"
        else:
            verdict = "better" if better(one.metric, value) > 0 else "worse"
    return one.model_copy(update={"p": p if np.isfinite(p) else None, "verdict": verdict})


def say(result: VersionsResult, wording: Wording, settings: VersionsSettings) -> Reading:
    of = row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)
    base, *others = result.versions
    read = [one for one in result.values if one.metric == result.metric]
    whole = {one.version: one for one in read if not one.attribute}
    first = f"{words.opening(base)} has {words.article(phrase(result.metric))} of {_told(whole[base].value, result.metric, wording)} on {of}"
    if not others:
        return Reading(headline=(Span(text=f"{first}; the audit has no other version to hold against it."),), detail="")
    verdicts = {
        one: [each.version for each in whole.values() if each.verdict == one]
        for one in ("better", "worse", "not told apart")
    }
    said = [
        f"{_counted(names)} {'is' if len(names) == 1 else 'are'} {verdict}{' from it' if verdict == 'not told apart' else ''}"
        for verdict, names in verdicts.items()
        if names
    ]
    second = f" {words.opening('; '.join(said))}." if said else ""
    for_whom: dict[str, VersionValue] = {}
    judged = [one for one in read if one.attribute and one.verdict in ("worse", "better")]
    # of every version the group for which it is worse by most, or else better
    for one in sorted(judged, key=lambda one: (one.verdict != "worse", -abs((one.change and one.change.value) or 0.0))):
        for_whom.setdefault(one.version, one)
    points = tuple(
        f"{words.opening(one.version)} is {one.verdict} for {_group(one)}: "
        f"{_signed(one.change, result.metric, wording)} ({words.plural(one.rows, 'row')})."
        for one in list(for_whom.values())[:6]
        if one.change is not None
    )
    detail = (
        f"{words.opening(words.plural(result.compared, 'difference'))} on the same rows {'was' if result.compared == 1 else 'were'} "
        f"looked at, in {words.plural(len(result.metrics), 'metric')}, and p-values are adjusted for all of them."
    )
    if result.unread:
        detail += " " + " ".join(f"{words.opening(one.version)} is not read: {one.why}" for one in result.unread[:3])
    return Reading(headline=(Span(text=f"{first}."), Span(text=second)), detail=detail, points=points)


def _counted(names: list[str]) -> str:
    return words.listing(names) if len(names) <= 2 else words.plural(len(names), "version")


def _group(one: VersionValue) -> str:
    name = "the segment" if one.attribute == membership.SEGMENTS else words.title(one.attribute)
    return f"{name} {one.group}"


def _write(metric: str, wording: Wording):
    found = metric_named(metric)
    if found.kind in ("rate", "macro") or found.unit == "share":
        return words.percent
    if found.unit == "outcome":
        return lambda value: words.quantity(value, wording.unit)
    return words.decimal


def _told(one: Estimate, metric: str, wording: Wording) -> str:
    if one.value is None:
        return "no defined size"
    show = _write(metric, wording)
    ends = "" if one.low is None or one.high is None else f" ({show(one.low)} to {show(one.high)})"
    return f"{show(one.value)}{ends}"


def _signed(one: Estimate, metric: str, wording: Wording) -> str:
    found = metric_named(metric)
    share = found.kind in ("rate", "macro") or found.unit == "share"
    plain = _write(metric, wording)

    def show(value: float) -> str:
        return f"{'+' if value > 0 else ''}{plain(value)}"

    if one.value is None:
        return "by an amount that is not defined"
    if share:
        return words.points_span(one.value, one.low, one.high)
    return f"{show(one.value)} ({show(one.low or 0.0)} to {show(one.high or 0.0)})"


def picture(result: VersionsResult, spec: Spec) -> Picture | None:
    """The metric that is read, of every version, in all rows."""
    shown = [(one.version, one.value) for one in result.values if one.metric == result.metric and not one.attribute]
    return bars_of(shown[:MOST_BARS], phrase(result.metric))


METHOD = Method(
    name="versions",
    area="remedies",
    title="Versions compared",
    settings=VersionsSettings,
    result=VersionsResult,
    compute=versions_compared,
    say=say,
    note=(
        "Every version of the audit, published or trained here, decides the **same rows** under its own decision rule, and every "
        "metric is told of all rows, of every group and of every segment, with the intervals that Tilt has. Differences to the "
        "version that is read are **paired**: rates among rows that both have in common have the score interval for two ways of "
        "deciding the same rows and McNemar's test (Tango 1998; McNemar 1947); rates whose denominators differ, and all with "
        "weights, a linearised variance with half a row added to each way in which a row can differ (as Agresti & Min 2005), so "
        "that nothing follows from none that does; means Student's of the differences row by row and AUC that of DeLong et al. (1988), "
        "with half a row added to each way of moving, as large as those of the table that move most. p-values are adjusted over everything that is compared (Benjamini & Hochberg 1995). Rows that a candidate was "
        "trained on flatter it: read held-out rows, and where many versions were tried on them, the best looks better than it is."
    ),
    main="values",
    part="versions",
    needs=frozenset({"outcome", "predictions"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    picture=picture,
    reads_others=True,
    version=4,
)
