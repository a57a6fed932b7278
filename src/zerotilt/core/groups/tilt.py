"""Groups compared: every metric of every group, beside the reference group's."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core.findings import Finding
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups import influence, measure, metrics, readout
from zerotilt.core.groups.measure import Measured
from zerotilt.core.groups.metrics import Measure, metric_named
from zerotilt.core.groups.readout import Readout
from zerotilt.core.meaning import FlagPolicy, Spec, Wording
from zerotilt.core.membership import MISSING, Grouping
from zerotilt.core.method import Method, Place
from zerotilt.core.reading import Reading, Span
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.subject import Subject
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work

BARE = {"yes", "no", "true", "false"}
OTHERS = "all others"
Status = Literal["flagged", "uncertain", "within", "too_few"]
ReferenceChoice = Literal["chosen", "largest", "best-off", "all others"]


class Reference(Frozen):
    """The group that an attribute's others are compared with."""

    attribute: str
    group: str


class TiltSettings(Frozen):
    """The flag policy is the audit's own."""

    attributes: tuple[str, ...] = Field(
        default=(), description="Columns, or intersections as “a · b”; all of the audit's when empty"
    )
    reference: ReferenceChoice = Field(
        default="chosen", description="Where none is chosen for an attribute, the largest group is the reference"
    )
    references: tuple[Reference, ...] = Field(default=(), description="Chosen here, before those of the columns")


class Group(Frozen):
    attribute: str
    group: str
    reference: bool
    rows: int
    metrics: dict[str, Measure]


class GapChange(Frozen):
    """The same comparison in the reading alongside, and what became of the gap."""

    ratio: float | None
    difference: float | None
    ratio_change: Estimate = Field(description="This ratio over the one alongside")
    difference_change: Estimate
    p_value: float | None
    verdict: Literal["wider", "narrower", "not told apart", "not defined"]


class Disparity(Frozen):
    """One metric of one group against its reference."""

    attribute: str
    group: str
    reference: str
    metric: str = Field(description="A metric's name; with several classes followed by “ · ” and the class")
    ratio: Estimate
    difference: Estimate
    corrected: bool = Field(description="A rate is 0; the ratio is with 0.5 added to all four cells")
    against: Measure = Field(description="The reference's own")
    judged: Literal["ratio", "difference"]
    low: float = Field(description="Limits of what is within, in the terms it is judged by")
    high: float
    p_value: float | None
    p_adjusted: float | None
    status: Status
    note: str = ""
    change: GapChange | None = None


class Attribute(Frozen):
    """One way the rows are grouped, and what its groups are compared with."""

    attribute: str
    reference: str
    overlapping: bool
    note: str = ""


class Cost(Frozen):
    """A metric of all rows, here and alongside."""

    metric: str
    here: Measure
    alongside: Measure
    change: Estimate = Field(description="Here less alongside")


class BesideGaps(Frozen):
    rows: int
    shared: bool = Field(description="The same rows are read in both")
    costs: tuple[Cost, ...]


class TiltResult(Frozen):
    rows: int
    attributes: tuple[Attribute, ...]
    groups: tuple[Group, ...]
    disparities: tuple[Disparity, ...]
    tested: int
    policy: FlagPolicy
    decisions: str
    beside: BesideGaps | None = None


@dataclass(frozen=True)
class _Side:
    """Groups of one attribute, each with what it is compared with. ``partner``: place of the reference; −1 all others."""

    grouping: Grouping
    own: dict[str, Measured]
    against: dict[str, Measured]
    reference: int
    note: str


def compare_groups(subject: Subject, settings: TiltSettings, seed: int, work: Work) -> TiltResult:
    """Measure every group and compare it with its reference (methods section 6).

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
    drafts = [draft for side in sides for draft in _compared(side, policy, found.spread)]
    if subject.beside is not None:
        _add_changes(drafts, sides, subject, found, beside, policy.confidence, work)
    adjusted = intervals.adjust(
        [np.nan if one["p_value"] is None else one["p_value"] for one in drafts], policy.adjustment
    )
    disparities = tuple(
        Disparity(
            **{name: value for name, value in draft.items() if name != "enough"},
            p_adjusted=None if math.isnan(p) else float(p),
            status=status(
                draft["enough"], draft[draft["judged"]], None if math.isnan(p) else float(p), policy.alpha,
                (draft["low"], draft["high"]),
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
                note=side.note,
            )
            for side in sides
        ),
        groups=tuple(group for side in sides for group in _groups(side)),
        disparities=disparities,
        tested=int(np.isfinite(adjusted).sum()),
        policy=policy,
        decisions=_decided_by(subject),
        beside=_beside(subject, found, beside, seed) if beside is not None else None,
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


def _one_attribute(shared: _Shared, columns: tuple[str, ...]) -> _Side:
    spec, settings = shared.spec, shared.settings
    grouping = shared.groupings.grouping(columns)
    others = settings.reference == "all others" or grouping.overlapping
    seeds = [_seed(shared.seed, grouping.attribute, label) for label in grouping.labels]
    rows, own, outside = shared.counted.groups(grouping, others, spec.policy.confidence, seeds)
    if outside is not None:
        note = "Groups overlap; each is compared with the rows outside it." if grouping.overlapping else ""
        return _Side(grouping, own, outside, -1, note)
    reference, note = _reference(shared, columns, grouping, own, rows)
    places = np.full(len(grouping.labels), reference)
    return _Side(grouping, own, {key: one.take(places) for key, one in own.items()}, reference, note)


def _seed(seed: int, attribute: str, label: str) -> int:
    # the seed follows the group's name, so that its draws do not depend on what else is compared
    return int(np.random.SeedSequence([seed, *attribute.encode(), 0, *label.encode()]).generate_state(1)[0])


def _reference(
    shared: _Shared, columns: tuple[str, ...], grouping: Grouping, own: dict[str, Measured], rows: NDArray[np.int64]
) -> tuple[int, str]:
    """Which group the others are compared with, and what is to be said about it."""
    labels, settings = grouping.labels, shared.settings
    real = [i for i, label in enumerate(labels) if label != MISSING] or list(range(len(labels)))
    largest = max(real, key=lambda i: rows[i])
    if settings.reference == "largest":
        return largest, ""
    if settings.reference == "best-off":
        return _best_off(shared, own, real, rows, largest)
    chosen = next((one.group for one in settings.references if one.attribute == grouping.attribute), None)
    if chosen is None and len(columns) == 1:
        chosen = shared.spec.column(columns[0]).reference
    if chosen is None or chosen in labels:
        return (labels.index(chosen) if chosen else largest), ""
    return largest, (
        f"The reference “{chosen}” has no rows here; the largest group, {labels[largest]}, is the reference instead."
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


def _groups(side: _Side) -> list[Group]:
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


def _compared(side: _Side, policy: FlagPolicy, spread: float) -> list[dict]:
    """Every group's every metric against its reference's. Too few rows are not tested."""
    by_key = {key: measure.compared(own, side.against[key], policy.confidence) for key, own in side.own.items()}
    reference = OTHERS if side.reference < 0 else side.grouping.labels[side.reference]
    drafts = []
    for i, label in enumerate(side.grouping.labels):
        if i == side.reference:
            continue
        for key, found in by_key.items():
            own, against = side.own[key], side.against[key]
            least = int(min(own.of[i], against.of[i]))
            enough = least >= policy.minimum_rows
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
                    "note": _note(own, against, i, bool(found.corrected[i]), reference),
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


def limits(policy: FlagPolicy, key: str, spread: float) -> tuple[Literal["ratio", "difference"], float, float]:
    """What a metric is judged by, and between which limits it is within."""
    own = policy.tolerance(metric_named(key).name)
    if own.difference is not None:
        return "difference", -own.difference, own.difference
    if metric_named(key).signed:
        reach = policy.difference_share * spread
        return "difference", -reach, reach
    return "ratio", own.ratio_low or policy.ratio_low, own.ratio_high or policy.ratio_high


def status(
    enough: bool, found: Estimate, p_adjusted: float | None, alpha: float, within: tuple[float, float]
) -> Status:
    """The four statuses in their order: too few, flagged, uncertain, within."""
    if not enough or found.value is None or found.low is None or found.high is None:
        return "too_few"
    low, high = within
    outside = not low <= found.value <= high
    if outside and p_adjusted is not None and p_adjusted <= alpha:
        return "flagged"
    return "uncertain" if outside or found.low < low or found.high > high else "within"


def _add_changes(
    drafts: list[dict], sides: Sequence[_Side], subject: Subject, here: Readout, there: Readout, confidence: float,
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


def _beside(subject: Subject, here: Readout, there: Readout, seed: int) -> BesideGaps:
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


def by_tilt(disparity: Disparity) -> float:
    """How far off parity, for sorting: the largest first. By ratio on the log scale, by difference in its limits."""
    if disparity.judged == "ratio":
        return -abs(math.log(disparity.ratio.value)) if disparity.ratio.value else 0.0
    return -abs(disparity.difference.value or 0.0) / disparity.high * math.log(1.25)


def spans(result: TiltResult, disparity: Disparity, wording: Wording) -> tuple[Span, ...]:
    """One comparison in plain words: who, how much, how sure, from how many rows. The size of the gap is marked."""
    own = next(g for g in result.groups if (g.attribute, g.group) == (disparity.attribute, disparity.group))
    of, of_reference = own.metrics[disparity.metric].of, disparity.against.of
    ratio, gap = disparity.ratio, disparity.difference
    who = words.opening(_who(disparity.attribute, disparity.group, wording))
    if not _bare(disparity.group) and disparity.attribute != membership.SEGMENTS:
        who += f" ({words.title(disparity.attribute)})"
    whom = (
        f"{OTHERS} {wording.rows}".replace("all others", "all other")
        if disparity.reference == OTHERS
        else _who(disparity.attribute, disparity.reference, wording)
    )
    metric, label = metric_named(disparity.metric), metrics.phrase(disparity.metric)
    found = ratio if disparity.judged == "ratio" else gap
    if found.value is None or found.low is None:
        return (Span(text=f"{who}: the {label} cannot be compared with that of {whom}."),)
    sure = f"{words.level(result.policy.confidence)} interval"
    rows = f"{words.count(of)} and {words.count(of_reference)} {wording.rows}"
    flagged = disparity.status == "flagged"
    if disparity.judged == "difference":
        unit = {"outcome": wording.unit, "share": "", "rank": "ranks", "number": ""}[metric.unit]
        value, low, high = words.measured(found.value, found.low, found.high)
        amount = f"{value.removeprefix('−')} {unit}".strip()
        ends = f"{low} to {high} {unit}".strip()
        return (
            Span(text=f"{who}: {label} "),
            Span(text=f"{amount} {'more' if found.value > 0 else 'less'}", flagged=flagged),
            Span(text=f" than that of {whom} ({sure} {ends}; {rows})."),
        )
    if disparity.metric == "selection_rate":
        verb, size, than = f"{wording.favourable} ", f"{words.ratio(ratio.value)} times as often", " as "
    else:
        verb, size, than = f"{label} ", f"{words.ratio(ratio.value)} times", " that of "
    ends = f"{words.ratio(ratio.low)} to {words.ratio(ratio.high)}"
    more = f"; {disparity.note[0].lower()}{disparity.note[1:].rstrip('.')}" if disparity.corrected else ""
    return (
        Span(text=f"{who}: {verb}"),
        Span(text=size, flagged=flagged),
        Span(text=f"{than}{whom} ({sure} {ends}; {rows}{more})."),
    )


def _bare(group: str) -> bool:
    """Whether a group's label says nothing without its column: a number or a stretch of numbers, one letter, yes, no,
    true, false, missing."""
    plain = group.replace(".", "", 1).replace("-", "", 1)
    return plain.isdigit() or len(group) <= 2 or group.lower() in BARE or group.startswith(("over ", "up to ", "("))


def _who(attribute: str, group: str, wording: Wording) -> str:
    """A group's rows in a sentence: "outer isles claims", or "claims whose age is over 27"."""
    if not _bare(group):
        return f"{group} {wording.rows}"
    if group == MISSING:
        return f"{wording.rows} without {words.title(attribute)}"
    if group == membership.OTHER:
        return f"{wording.rows} of rarer {words.title(attribute)}"
    return f"{wording.rows} whose {words.title(attribute)} is {group}"


def _called(attribute: str, group: str) -> str:
    return f"{words.title(attribute)} {group}" if _bare(group) else group


def sentence(result: TiltResult, disparity: Disparity, wording: Wording) -> str:
    return "".join(span.text for span in spans(result, disparity, wording))


def wanting(result: TiltResult, wording: Wording) -> str:
    """Why nothing could be tested, and what it would take."""
    if not result.disparities:
        return "there is one group only, so nothing to compare it with"
    most = max(min(_of(result, one), one.against.of) for one in result.disparities)
    least = result.policy.minimum_rows
    if most >= least:
        return "no comparison has a metric that is defined for both sides"
    return (
        f"the flag policy asks for {least} {wording.rows} on both sides of a comparison, and the largest smaller side has "
        f"{words.count(most)}"
    )


def _of(result: TiltResult, one: Disparity) -> int:
    own = next(g for g in result.groups if (g.attribute, g.group) == (one.attribute, one.group))
    return own.metrics[one.metric].of


FIRST_SAID = ("selection_rate", "mean_prediction", "class_share", "true_positive_rate", "false_positive_rate",
              "false_negative_rate", "true_negative_rate", "mean_rank", "mean_error", "positive_predictive_value",
              "negative_predictive_value")  # fmt: skip
"""What matters to the decision is said first; what was there before the model, or says how good it is, after."""


def by_weight(disparity: Disparity) -> tuple[int, float]:
    """For the head of the sheet: by what matters to the decision, then by how far off parity."""
    name = metric_named(disparity.metric).name
    last = len(FIRST_SAID) + (name in ("base_rate", "mean_outcome"))
    return (FIRST_SAID.index(name) if name in FIRST_SAID else last), by_tilt(disparity)


def say(result: TiltResult, wording: Wording, settings: TiltSettings) -> Reading:
    flagged = sorted((d for d in result.disparities if d.status == "flagged"), key=by_weight)
    uncertain = sum(d.status == "uncertain" for d in result.disparities)
    too_few = sum(d.status == "too_few" for d in result.disparities)
    compared = len(result.disparities)
    if flagged:
        headline = spans(result, flagged[0], wording)
    elif not result.tested:
        headline = (Span(text=f"Nothing could be tested: {wanting(result, wording)}."),)
    else:
        headline = (Span(text="No comparison is flagged under the limits of this audit."),)
    policy = result.policy
    detail = (
        f"{words.count(len(flagged))} of {words.plural(compared, 'comparison')} "
        f"{'is' if len(flagged) == 1 else 'are'} outside the limits {policy.ratio_low:g} to "
        f"{policy.ratio_high:g}{_other_limits(result)} after adjusting for "
        f"{words.plural(result.tested, 'test')} (flag policy {policy.number}, {policy.adjustment}); "
        f"{words.count(uncertain)} cannot be told, {words.count(too_few)} have too few rows. "
        f"{words.count(result.rows)} {wording.rows}."
    )
    if hidden := _behind_accuracy(result):
        detail += (
            f" Accuracy is within the limits for {words.listing(hidden[:4])}, while error rates are flagged: "
            "equal accuracy can hide errors that differ."
        )
    if result.beside is not None:
        detail += f" {_said_beside(result)}"
    notes = [one.note for one in result.attributes if one.note and not one.overlapping]
    return Reading(headline=headline, detail=" ".join([detail, *notes]))


ERRORS = ("true_positive_rate", "false_positive_rate", "true_negative_rate", "false_negative_rate")


def _behind_accuracy(result: TiltResult) -> list[str]:
    """Groups whose accuracy is within while one of the error rates is flagged."""
    states = {(one.attribute, one.group, one.metric): one.status for one in result.disparities}
    return list(
        dict.fromkeys(
            _called(attribute, group)
            for (attribute, group, metric), state in states.items()
            if metric in ERRORS and state == "flagged" and states.get((attribute, group, "accuracy")) == "within"
        )
    )


def _other_limits(result: TiltResult) -> str:
    """What else than the ratio's limits is judged by."""
    text = " or limits of their own" if result.policy.tolerances else ""
    if any(metric_named(one.metric).signed for one in result.disparities):
        text += f", or {result.policy.difference_share:g} standard deviations of the outcome where there is no ratio,"
    return text


def _said_beside(result: TiltResult) -> str:
    told = [d.change.verdict for d in result.disparities if d.change is not None]
    text = (
        f"Against what is alongside, {words.count(told.count('wider'))} gaps are wider, {words.count(told.count('narrower'))} "
        f"narrower and {words.count(told.count('not told apart'))} not told apart."
    )
    costs = result.beside.costs if result.beside else ()
    cost = next((one for one in costs if one.change.value is not None), None)
    if cost is None:
        return text
    show = words.points if metric_named(cost.metric).unit == "share" else words.quantity
    way = "higher" if cost.change.value > 0 else "lower"
    ends = [
        words.decimal(one * 100, 1) if show is words.points else words.quantity(one)
        for one in (cost.change.low, cost.change.high)
    ]
    return f"{text} Over all rows {metrics.phrase(cost.metric)} is {show(abs(cost.change.value))} {way} here ({ends[0]} to {ends[1]})."


def disparities(result: TiltResult, spec: Spec) -> list[Finding]:
    """Every flagged comparison, the furthest off first."""
    return [
        Finding(
            name=f"{found.attribute}: {found.group} · {found.metric}",
            kind="disparity",
            statement=sentence(result, found, spec.wording),
            columns=tuple(found.attribute.split(" · ")),
            group=found.group,
            metric=found.metric,
            rows=result.rows,
        )
        for found in sorted((one for one in result.disparities if one.status == "flagged"), key=by_tilt)
    ]


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
        "**Status**, in this order: too few, when either side has fewer than the policy's least rows in the metric's "
        "denominator; flagged, when it is outside the limits and the adjusted p is small enough; uncertain, when it "
        "is outside without that, or inside with an interval reaching outside; otherwise within. The change of a gap "
        "to what is alongside counts that rows read in both move both (influence functions, Hampel 1974). The ratio "
        "of a small rate moves a lot; read the difference beside it."
    ),
    main="disparities",
    place=Place("Groups", lambda subject, so_far, fewer: [({}, "")] if subject.spec.groupings else [], summed_up=True),
    findings=disparities,
    unasked=lambda spec: {} if spec.groupings or spec.segments else None,
    needs=frozenset({"predictions"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    reads_alongside=True,
    version=3,
)
