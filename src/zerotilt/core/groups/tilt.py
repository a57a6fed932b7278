"""Groups compared: every metric of every group, beside the reference group's."""

from __future__ import annotations

import math
from collections.abc import Collection
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import membership, words
from zerotilt.core.groups import measure, readout
from zerotilt.core.groups.disparity import Attribute, Disparity, Group, TiltResult, TiltSettings, limits, status
from zerotilt.core.groups.gap_changes import Side, add_changes, gaps_beside
from zerotilt.core.groups.measure import Measured
from zerotilt.core.groups.metrics import metric_named
from zerotilt.core.groups.reference import OTHERS, chosen, known_groups, largest
from zerotilt.core.groups.tilt_said import disparities, measured, say
from zerotilt.core.meaning import FlagPolicy, Spec
from zerotilt.core.membership import Grouping
from zerotilt.core.method import Method, Place
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import estimate
from zerotilt.core.subject import Subject
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work


def compare_groups(subject: Subject, settings: TiltSettings, seed: int, work: Work) -> TiltResult:
    """Measure every group and compare it with its reference.

    Raises
    ------
    Refused : no column makes groups, or the outcome or predictions cannot be used.
    """
    spec = subject.spec
    wanted = [membership.columns_of(spec, name) for name in settings.attributes] or membership.all_groupings(spec)
    if not wanted:
        raise Refused("No column is marked as a group.", todo="Mark the columns whose groups are compared in Intake.")
    policy = spec.policy
    found = readout.read(subject, policy.metrics)
    shared = _Shared(
        spec,
        membership.Groupings.of(spec, subject.table, subject.rows.numbers, wanted),
        measure.Counted.of(found, subject.n),
        settings,
        seed,
    )
    sides = list(work.spread(_one_attribute, shared, wanted, "group columns compared"))
    beside = readout.read(subject.beside, policy.metrics) if subject.beside is not None else None
    by_errors = {one.name for one in spec.segments if one.by_errors}
    drafts = [draft for side in sides for draft in _compared(side, policy, found.spread, by_errors)]
    if subject.beside is not None:
        add_changes(drafts, sides, subject, found, beside, policy.confidence, work)
    adjusted = intervals.adjust(
        [np.nan if one["p_value"] is None else one["p_value"] for one in drafts], policy.adjustment
    )
    disparities = tuple(
        Disparity(
            **{name: value for name, value in draft.items() if name not in ("enough", "by_errors")},
            p_adjusted=None if math.isnan(p) else float(p),
            status=status(
                draft["enough"], draft[draft["judged"]], None if math.isnan(p) else float(p), policy.alpha,
                (draft["low"], draft["high"]), draft["by_errors"],
            ),
        )
        for draft, p in zip(drafts, adjusted, strict=True)
    )  # fmt: skip
    return TiltResult(
        rows=subject.n,
        attributes=tuple(
            Attribute(
                attribute=side.grouping.attribute,
                reference=OTHERS if side.reference < 0 else side.grouping.labels[side.reference],
                overlapping=side.grouping.overlapping,
                protected=spec.leading(side.grouping.columns),
                note=side.note,
            )
            for side in sides
        ),
        groups=tuple(group for side in sides for group in _groups(side)),
        disparities=disparities,
        tested=int(np.isfinite(adjusted).sum()),
        policy=policy,
        decisions=_decided_by(subject),
        beside=gaps_beside(subject, found, beside, seed) if beside is not None else None,
    )


def _decided_by(subject: Subject) -> str:
    return subject.kind.decided_by(subject.predictions)


@dataclass(frozen=True)
class _Shared:
    """What every attribute is compared with; plain arrays, so that pieces can be computed elsewhere."""

    spec: Spec
    groupings: membership.Groupings
    counted: measure.Counted
    settings: TiltSettings
    seed: int


def _one_attribute(shared: _Shared, columns: tuple[str, ...]) -> Side:
    spec, settings = shared.spec, shared.settings
    grouping = shared.groupings.grouping(columns)
    others = settings.reference == "all others" or grouping.overlapping
    rows, own, outside = shared.counted.groups(grouping, others, spec.policy.confidence, shared.seed)
    if outside is not None:
        note = "Groups overlap; each is compared with the rows outside it." if grouping.overlapping else ""
        if columns == (membership.SEGMENTS,):
            unread = [f"“{one.name}”" for one in spec.segments if one.name not in grouping.labels]
            note += f" Not read, since the table lacks a column: {words.listing(unread)}." if unread else ""
        return Side(grouping, own, outside, -1, note)
    reference, note = _reference(shared, columns, grouping, own, rows)
    places = np.full(len(grouping.labels), reference)
    return Side(grouping, own, {key: one.take(places) for key, one in own.items()}, reference, note)


def _reference(
    shared: _Shared, columns: tuple[str, ...], grouping: Grouping, own: dict[str, Measured], rows: NDArray[np.int64]
) -> tuple[int, str]:
    """Which group the others are compared with, and what is to be said about it."""
    labels, settings = grouping.labels, shared.settings
    most = largest(grouping, rows)
    if settings.reference == "largest":
        return most, ""
    if settings.reference == "best-off":
        return _best_off(shared, own, known_groups(grouping), rows, most)
    asked = (one.group for one in settings.references if one.attribute == grouping.attribute)
    wanted = next(asked, None) or chosen(shared.spec, columns)
    if wanted is None or wanted in labels:
        return (labels.index(wanted) if wanted else most), ""
    return most, (
        f"The reference “{wanted}” has no rows here; the largest group, {labels[most]}, is the reference instead."
    )


def _best_off(shared: _Shared, own, real: list[int], rows, largest: int) -> tuple[int, str]:
    """The group with most favourable decisions, or with the best numbers, among those with enough rows."""
    kind = kind_of(shared.spec.task)
    key = kind.headline
    if key not in own:
        return largest, f"Best-off needs the {metric_named(key).phrase} among the metrics; the largest group is taken."
    enough = [i for i in real if rows[i] >= shared.spec.policy.minimum_rows and np.isfinite(own[key].interval.value[i])]
    sign = kind.best_end(shared.spec)
    return (max(enough, key=lambda i: sign * own[key].interval.value[i]), "") if enough else (largest, "")


def _groups(side: Side) -> list[Group]:
    rows = [int(side.grouping.mask(i).sum()) for i in range(len(side.grouping.labels))]
    return [
        Group(
            attribute=side.grouping.attribute,
            group=label,
            reference=i == side.reference,
            rows=rows[i],
            metrics={key: one.at(i) for key, one in side.own.items()},
        )
        for i, label in enumerate(side.grouping.labels)
    ]


def _compared(side: Side, policy: FlagPolicy, spread: float, by_errors: Collection[str]) -> list[dict]:
    """Every group's every metric against its reference's. Too few rows are not tested, nor segments found by their errors."""
    by_key = {key: measure.compared(own, side.against[key], policy.confidence) for key, own in side.own.items()}
    reference = OTHERS if side.reference < 0 else side.grouping.labels[side.reference]
    drafts = []
    for i, label in enumerate(side.grouping.labels):
        if i == side.reference:
            continue
        looked_for = side.grouping.columns == (membership.SEGMENTS,) and label in by_errors
        for key, found in by_key.items():
            own, against = side.own[key], side.against[key]
            least = int(min(own.of[i], against.of[i]))
            enough = least >= policy.minimum_rows and not looked_for
            p = float(found.p[i])
            judged, low, high = limits(policy, key, spread)
            drafts.append(
                {
                    "attribute": side.grouping.attribute,
                    "group": label,
                    "reference": reference,
                    "metric": key,
                    "ratio": estimate(*(one[i] for one in found.ratio)),
                    "difference": estimate(*(one[i] for one in found.difference)),
                    "corrected": bool(found.corrected[i]),
                    "against": against.at(i),
                    "judged": judged,
                    "low": low,
                    "high": high,
                    "p_value": p if enough and math.isfinite(p) else None,
                    "enough": enough,
                    "by_errors": looked_for,
                    "note": _note(own, against, i, bool(found.corrected[i]), reference)
                    or (BY_ERRORS if looked_for else ""),
                }
            )
    return drafts


def _note(own: Measured, against: Measured, place: int, corrected: bool, reference: str) -> str:
    """What must be known to read the number."""
    for side, who in ((own, "the group"), (against, reference)):
        if not side.of[place]:
            return f"No row of {who} can be counted for it."
        if not np.isfinite(side.interval.value[place]):
            return f"Not defined for {who}."
    if corrected:
        return "A rate is 0; the ratio is with 0.5 added to all four cells."
    return ""


BY_ERRORS = "Found by looking for errors in these rows, so a test on them would prove nothing; Pockets tests it on rows that were not searched."


METHOD = Method(
    name="tilt",
    area="tilt",
    title="Tilt",
    settings=TiltSettings,
    result=TiltResult,
    compute=compare_groups,
    say=say,
    note=(
        "Rates have **Wilson's intervals** (1927). Their **ratios and differences** have the intervals that the "
        "two-sided score test leaves (Koopman 1984; Mee 1984), so an interval leaves parity out exactly where the "
        "test does; 0.5 is added to all four cells where a rate is zero, and where no row of the reference counts its "
        "interval too (Katz et al. 1978). Means have intervals that know their skewness (Hall 1992), AUC DeLong's "
        "(1988) on the log-odds scale; these are compared from both sides' intervals (Zou & Donner 2008; Donner & Zou "
        "2012). Metrics that can be negative, or whose zero is out of reach, are compared by their difference only; "
        "so is the calibration error, which has the interval of an inverted bootstrap test (Carpenter 1999). p-values "
        "are adjusted over all comparisons of the sheet that have enough rows: for the share of false flags "
        "(Benjamini & Hochberg 1995), or for the chance of any (Holm 1979; Bonferroni), as the flag policy says. Row "
        "weights: variances are linearised, Σw²(x − p)² / (Σw)².\n\n"
        "**Status**, in this order: not tested, where a segment was found by its errors; too few, when either side has fewer than the policy's least rows in the metric's "
        "denominator; flagged, when it is outside the limits and the adjusted p is small enough; uncertain, when it "
        "is outside without that, or inside with an interval reaching outside; otherwise within. The change of a gap "
        "to what is alongside counts that rows read in both move both (influence functions, Hampel 1974). The ratio "
        "of a small rate moves a lot; read the difference beside it."
    ),
    main="disparities",
    place=Place("Groups compared", lambda subject, so_far, fewer: [({}, "")] if subject.spec.groupings else []),
    findings=disparities,
    measured=lambda result: measured(result.disparities),
    unasked=lambda spec: {} if spec.groupings or spec.segments else None,
    needs=frozenset({"predictions"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    reads_alongside=True,
    version=3,
)
