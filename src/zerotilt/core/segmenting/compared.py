"""Segments compared: every metric of every segment beside that of all other rows, and what is worse beyond chance."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import segments, words
from zerotilt.core.drawing import MOST_BARS, Picture
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups import measure, readout
from zerotilt.core.groups.metrics import Measure, label, metric_named
from zerotilt.core.groups.metrics import phrase as metric_phrase
from zerotilt.core.meaning import Segment, Spec, Wording
from zerotilt.core.method import Method, Place
from zerotilt.core.reading import Reading, Span, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.segmenting import sizes
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.subject import Subject
from zerotilt.core.typed_conditions import named
from zerotilt.core.work import Work

Mark = Literal["worse", "better", "higher", "lower", "not told apart", "too few", "not defined"]
MORE_IS_BETTER = {
    "accuracy", "true_positive_rate", "true_negative_rate", "positive_predictive_value", "negative_predictive_value",
    "macro_true_positive_rate", "macro_positive_predictive_value", "auc",
}  # fmt: skip
LESS_IS_BETTER = {
    "false_positive_rate", "false_negative_rate", "brier_score", "log_loss", "calibration_error", "mae", "rmse", "rank_error",
}  # fmt: skip
"""All others say how rows are, not how well they are served."""


class SegmentsSettings(Frozen):
    segments: tuple[str, ...] = Field(default=(), max_length=300, description="Names of saved segments; all when empty")
    also: tuple[str, ...] = Field(
        default=(), max_length=60, description="Further ones that are not saved, as NAME: conditions"
    )
    metrics: tuple[str, ...] = Field(
        default=(), max_length=40, description="The audit's own choice for segments, else its flag policy's, when empty"
    )


class SegmentCell(Frozen):
    """One metric of one segment against all rows outside it."""

    metric: str
    inside: Measure
    outside: Measure
    difference: Estimate = Field(description="Inside less outside")
    p_value: float | None
    p_adjusted: float | None = Field(description="Over everything that is compared here")
    mark: Mark


class SegmentRow(Frozen):
    name: str
    described: str
    rows: int
    share: float
    source: str = Field(description="How its rows were found, where borders or rows come from data")
    cells: tuple[SegmentCell, ...]


class WholeMetric(Frozen):
    metric: str
    measure: Measure


class SegmentsResult(Frozen):
    segments: tuple[SegmentRow, ...] = Field(description="In the audit's order")
    whole: tuple[WholeMetric, ...] = Field(description="Every metric of all rows")
    metrics: tuple[str, ...] = Field(description="Keys, in the order of the columns")
    offered: tuple[str, ...] = Field(description="Names of metrics that can be chosen")
    tested: int
    rows: int
    rows_named: str
    confidence: float
    minimum_rows: int
    notes: tuple[str, ...]


def compare_segments(subject: Subject, settings: SegmentsSettings, seed: int, work: Work) -> SegmentsResult:
    """Every saved segment against the rows outside it.

    Raises
    ------
    Refused : no segment fits the table, or one that is asked for is not there.
    """
    spec, subject = subject.spec, sizes.whole(subject)
    wanted, notes = _wanted(subject, settings)
    work.begin(1, "segments measured")
    masks = [sizes.members(one, subject) for one in wanted]
    counts = [int(mask.sum()) for mask in masks]
    offered = tuple(one.name for one in readout.of_task(spec.task) if spec.knows_outcome or not one.needs_outcome)
    cells: list[list[dict]] = [[] for _ in wanted]
    whole: tuple[WholeMetric, ...] = ()
    keys: tuple[str, ...] = ()
    if wanted and sizes.predicts(subject):
        metrics = tuple(settings.metrics or spec.segment_metrics or spec.policy.metrics)
        own, outside = sizes.both_sides(subject, masks, [one.name for one in wanted], metrics, seed)
        keys = tuple(own)
        every = measure.of_rows(subject, readout.read(subject, metrics), np.ones(subject.n, bool), seed)
        whole = tuple(WholeMetric(metric=key, measure=every[key]) for key in keys)
        for key in keys:
            found = measure.compared(own[key], outside[key], spec.policy.confidence)
            for i in range(len(wanted)):
                cells[i].append(_cell(key, own[key], outside[key], found, i, spec.policy.minimum_rows))
    elif wanted:
        notes.append("Nothing is predicted or decided here, so only sizes are compared.")
    flat = [cell for row in cells for cell in row]
    adjusted = (
        intervals.adjust([np.nan if one["p_value"] is None else one["p_value"] for one in flat], spec.policy.adjustment)
        if flat
        else []
    )
    for one, p in zip(flat, adjusted, strict=True):
        one["p_adjusted"] = None if math.isnan(p) else float(p)
        one["mark"] = one["mark"] or _mark(one, spec.policy.alpha)
    return SegmentsResult(
        segments=tuple(
            SegmentRow(
                name=one.name,
                described=segments.described(one),
                rows=count,
                share=count / subject.n,
                source=one.source,
                cells=tuple(SegmentCell(**cell) for cell in row),
            )
            for one, count, row in zip(wanted, counts, cells, strict=True)
        ),
        whole=whole,
        metrics=keys,
        offered=offered,
        tested=sum(one["p_adjusted"] is not None for one in flat),
        rows=subject.n,
        rows_named=subject.context.rows,
        confidence=spec.policy.confidence,
        minimum_rows=spec.policy.minimum_rows,
        notes=tuple(notes),
    )


def _wanted(subject: Subject, settings: SegmentsSettings) -> tuple[list[Segment], list[str]]:
    every = {one.name: one for one in subject.spec.segments}
    if unknown := [name for name in settings.segments if name not in every]:
        raise Refused(
            f"segments: there is no segment “{unknown[0]}”; there is {words.listing(list(every)[:6])}.",
            todo="Name one of these.",
        )
    wanted = [every[name] for name in settings.segments] or list(every.values())
    wanted += [named(one, subject.table.names, tuple(every.values())) for one in settings.also]
    if twice := next(
        (one.name for i, one in enumerate(wanted) if one.name in {other.name for other in wanted[:i]}), ""
    ):
        raise Refused(f"segments: two are called “{twice}”.", todo="Give one of them another name.")
    fitting = [one for one in wanted if segments.unfit(one, subject.table) is None]
    left = [f"“{one.name}”" for one in wanted if one not in fitting]
    if wanted and not fitting:
        raise Refused(
            f"{words.listing(left[:5])} {'asks' if len(left) == 1 else 'ask'} columns for what this table does not hold.",
            todo="Change the conditions in Data.",
        )
    return fitting, [f"Not read, since the table lacks what they ask about: {words.listing(left[:8])}."] if left else []


def _cell(
    key: str, own: measure.Measured, outside: measure.Measured, found: measure.Compared, i: int, least: int
) -> dict:
    enough = min(int(own.of[i]), int(outside.of[i])) >= least
    p = float(found.p[i])
    defined = np.isfinite(own.interval.value[i]) and np.isfinite(outside.interval.value[i])
    return {
        "metric": key,
        "inside": own.at(i),
        "outside": outside.at(i),
        "difference": estimate(*(one[i] for one in found.difference)),
        "p_value": p if enough and math.isfinite(p) else None,
        "mark": "" if enough and defined and math.isfinite(p) else ("too few" if not enough else "not defined"),
    }


def _mark(cell: dict, alpha: float) -> Mark:
    value = cell["difference"].value
    if cell["p_adjusted"] > alpha or not value:
        return "not told apart"
    name = metric_named(cell["metric"]).name
    if name in MORE_IS_BETTER:
        return "better" if value > 0 else "worse"
    if name in LESS_IS_BETTER:
        return "worse" if value > 0 else "better"
    return "higher" if value > 0 else "lower"


def say(result: SegmentsResult, wording: Wording, settings: SegmentsSettings) -> Reading:
    many, rows = (
        len(result.segments),
        row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows),
    )
    if not many:
        return plain(
            "The audit has no segments yet.",
            f"There are {rows} to make some of: put conditions together, cut a column, pick rows, or ask in SQL.",
        )
    which = f"{words.opening(words.plural(many, 'segment'))} of {rows}"
    detail = " ".join(result.notes)
    if not result.metrics:
        largest = max(result.segments, key=lambda one: one.rows)
        return plain(f"{which}; the largest, “{largest.name}”, holds {words.count(largest.rows)}.", detail)
    worse = [(row, cell) for row in result.segments for cell in row.cells if cell.mark == "worse"]
    tested = (
        f"{words.opening(words.plural(result.tested, 'comparison'))} {'was tested, the segment' if result.tested == 1 else 'were tested together, each segment'} against all rows outside it."
        if result.tested
        else f"No segment has enough rows ({result.minimum_rows} on each side) to be tested."
    )
    if not worse:
        return plain(
            f"{which}: none is told apart as worse than the rest."
            if result.tested
            else f"{which}: nothing could be tested.",
            f"{tested} {detail}".strip(),
        )
    row, cell = min(worse, key=lambda one: one[1].p_adjusted or 0.0)
    names = list(dict.fromkeys(one.name for one, _ in worse))
    show = sizes.written_as(cell.metric, wording)
    ends = (
        f" ({words.level(result.confidence)} interval {show(cell.inside.low)} to {show(cell.inside.high)})"
        if cell.inside.low is not None and cell.inside.high is not None
        else ""
    )
    head = f"{which}: {words.listing([f'“{name}”' for name in names[:4]])}{f' and {len(names) - 4} more' if len(names) > 4 else ''} {'is' if len(names) == 1 else 'are'} worse than the rest beyond chance in some metric."
    most = f" {words.opening(metric_phrase(cell.metric))} of “{row.name}”: {show(cell.inside.value or 0.0)}{ends} in {words.plural(row.rows, wording.row, wording.rows)}, {show(cell.outside.value or 0.0)} outside."
    return Reading(headline=(Span(text=head, flagged=True), Span(text=most)), detail=f"{tested} {detail}".strip())


def picture(result: SegmentsResult, spec: Spec) -> Picture:
    """The first metric that tells how well rows are served, of each segment and of all rows."""
    served = next((one for one in result.metrics if metric_named(one).name in MORE_IS_BETTER | LESS_IS_BETTER), "")
    key = served or next(iter(result.metrics), "")
    shown = result.segments[:MOST_BARS]
    if not key:
        return Picture(
            tuple(one.name for one in shown), tuple(one.share for one in shown), f"share of the {spec.wording.rows}"
        )
    found = [(one.name, cell.inside) for one in shown for cell in one.cells if cell.metric == key]
    found += [("all rows", one.measure) for one in result.whole if one.metric == key]
    known = [(name, one.value, one.low, one.high) for name, one in found if one.value is not None]
    return Picture(
        names=tuple(name for name, *_ in known),
        values=tuple(value for _, value, *_ in known),
        label=label(key),
        spans=tuple((value if low is None else low, value if high is None else high) for _, value, low, high in known),
    )


METHOD = Method(
    name="segments",
    weighs=False,
    area="data",
    title="Segments compared",
    settings=SegmentsSettings,
    result=SegmentsResult,
    compute=compare_segments,
    say=say,
    note=(
        "Each segment stands against **all rows outside it**, by the same intervals and tests as groups in Tilt (Wilson 1927; "
        "Mee 1984; Hall 1992; DeLong 1988; Zou & Donner 2008). p-values are adjusted over everything in the table as the flag "
        "policy says. **Worse** and **better** are said of metrics that tell how well rows are served, where the adjusted p is "
        "at most the policy's; of others **higher** and **lower**. Under the policy's least number of rows on either side "
        "nothing is tested. Segments may overlap; two that hold nearly the same rows are not two findings."
    ),
    main="segments",
    picture=picture,
    part="segments",
    needs=frozenset(),
    depends=frozenset({"spec", "comparisons", "policy"}),
    unasked=lambda spec: {} if spec.segments else None,
    place=Place("Segments compared", lambda subject, so_far, fewer: [({}, "")] if subject.spec.segments else []),
)
