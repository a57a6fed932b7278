"""Mean Shapley values apart: for every class, or for every group of a column."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core.contributions.explain import explain
from zerotilt.core.contributions.sums_met import affordable
from zerotilt.core.drawing import MOST_BARS, Bars
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import weighing
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.stats.intervals import normal_quantile
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class ByPartSettings(Frozen):
    by: Literal["", "class", "group"] = Field(
        default="",
        description="Every class of the model, or the groups of a column; when empty the classes where there are several",
    )
    column: str = Field(
        default="", description="Column whose groups are told apart; the first that makes groups when empty"
    )
    rows: int = Field(
        default=600, ge=2, le=1_000_000, description="Rows explained, over all groups; a seeded sample beyond"
    )
    sampled: int = Field(
        default=150, ge=2, le=1_000_000, description="The same for every class, where contributions are sampled"
    )
    walks: int = Field(default=1_024, ge=2, le=10_000, description="Most pairs of walks a row, where they are sampled")


class PartMean(Frozen):
    """One feature in one part. ``signed``: which way it moves the output on average."""

    part: str
    feature: str
    size: Estimate = Field(description="Mean absolute Shapley value")
    signed: float
    rank: int = Field(description="Within its part, from 1")
    rows: int


class ByPartResult(Frozen):
    means: tuple[PartMean, ...] = Field(description="Part by part, largest first")
    parts: tuple[str, ...]
    by: Literal["class", "group"]
    column: str | None
    rows: int
    rows_explained: int
    method: str
    why: str
    output: Literal["probability", "log-odds", "value"]
    confidence: float


def by_part(subject: Subject, settings: ByPartSettings, seed: int, work: Work) -> ByPartResult:
    """Mean absolute and signed Shapley values of every class, or of every group, against the same background.

    Raises
    ------
    Refused : the model has no classes, or no column makes groups.
    """
    every = settings.by == "class" or (not settings.by and not settings.column and bool(subject.classes))
    most = min(settings.rows, affordable(subject, settings.rows, settings.sampled) if every else settings.rows)
    chosen = np.sort(subject.rows.drawn(np.random.default_rng(seed), most))
    rows, mass = subject.rows.numbers[chosen], subject.rows.mass[chosen]
    column = None
    if every:
        if not subject.classes:
            raise Refused("by: the model has one output; parts by class need several classes.", todo="Choose groups.")
        parts = list(subject.classes)
        found = [explain(subject.of_class(name), rows, seed, work, most_pairs=settings.walks) for name in parts]
        values, masses = [one.values for one in found], [mass] * len(found)
    else:
        column = settings.column or next((name for (name, *_) in subject.spec.groupings), "")
        if not column:
            raise Refused("column: no column makes groups.", todo="Name a column, or mark one as a group in Intake.")
        subject.spec.column(column)
        grouping = membership.grouping(subject.spec, subject.table, rows, (column,))
        members = {label: grouping.mask(i) for i, label in enumerate(grouping.labels) if grouping.mask(i).any()}
        one = explain(subject, rows, seed, work, most_pairs=settings.walks)
        found = [one]
        parts = list(members)
        values = [one.values[mask] for mask in members.values()]
        masses = [mass[mask] for mask in members.values()]
    reach = normal_quantile(subject.spec.policy.confidence)
    means = []
    for part, own, weights in zip(parts, values, masses, strict=True):
        size = np.abs(own)
        mean, signed = weighing.mean(size, weights), weighing.mean(own, weights)
        half = reach * weighing.error(size, weights)
        for rank, j in enumerate(np.argsort(-mean, kind="stable"), 1):
            means.append(
                PartMean(
                    part=part,
                    feature=found[0].features[j],
                    size=Estimate(
                        value=float(mean[j]), low=float(max(mean[j] - half[j], 0)), high=float(mean[j] + half[j])
                    ),
                    signed=float(signed[j]),
                    rank=rank,
                    rows=len(own),
                )
            )
    return ByPartResult(
        means=tuple(means),
        parts=tuple(parts),
        by="class" if every else "group",
        column=column,
        rows=subject.n,
        rows_explained=len(rows),
        method=found[0].method,
        why=found[0].why,
        output=subject.scale,
        confidence=subject.spec.policy.confidence,
    )


def say(result: ByPartResult, wording: Wording, settings: ByPartSettings) -> Reading:
    first = {mean.part: mean for mean in result.means if mean.rank == 1}
    led = {}
    for part, mean in first.items():
        led.setdefault(mean.feature, []).append(part)
    if len(led) == 1:
        (feature,) = led
        headline = f"{words.opening(words.title(feature))} moves the output most in every {'class' if result.by == 'class' else 'group'}."
    else:
        said = [
            f"{words.title(feature)} for {words.listing(parts[:4])}{' and others' if len(parts) > 4 else ''}"
            for feature, parts in led.items()
        ]
        headline = f"What moves the output most differs: {words.listing(said)}."
    detail = f"{words.count(result.rows_explained)} of {words.count(result.rows)} {wording.rows}, against the same background. {result.why}"
    small = [mean.part for mean in first.values() if mean.rows < 30]
    if small:
        detail += f" Few rows in {words.listing(small)}."
    return plain(headline, detail)


def picture(result: ByPartResult, spec: Spec) -> Bars:
    """The first five features of each part."""
    shown = [one for one in result.means if one.rank <= 5][: 2 * MOST_BARS]
    return Bars(
        names=tuple(f"{one.part}: {words.title(one.feature)} {'+' if one.signed > 0 else '−'}" for one in shown),
        values=tuple(one.size.value for one in shown),
        label="mean absolute Shapley value with its interval; + raises the output on average, − lowers it",
        spans=tuple((one.size.low, one.size.high) for one in shown),
        tones=tuple("raises" if one.signed > 0 else "lowers" for one in shown),
    )


METHOD = Method(
    name="shapley_by_part",
    area="drivers",
    part="parts",
    title="Mean Shapley values apart",
    settings=ByPartSettings,
    result=ByPartResult,
    compute=by_part,
    say=say,
    note=(
        "Shapley values (Shapley 1953) of each class's own output, or of the rows of each group, all against the same "
        "background. With several classes, what raises one class lowers others: signed values over the classes add up "
        "to zero in probability."
    ),
    main="means",
    picture=picture,
    address={"column": "of"},
    first_look={"rows": 60, "sampled": 24, "walks": 16},
    version=5,
)
