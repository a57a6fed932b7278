"""Groups compared: every metric of every group, beside the reference group's."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy import stats

from zerotilt.core import words
from zerotilt.core.groups import intervals, membership
from zerotilt.core.groups.metrics import METRICS, Estimate, Measure, Measured, MetricName, measure
from zerotilt.core.reading import Reading, Span
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import FlagPolicy, Frozen, Wording
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

BARE = {"yes", "no", "true", "false"}
Status = Literal["flagged", "uncertain", "within", "too_few"]


class TiltSettings(Frozen):
    """Nothing to choose yet but the flag policy, which is the audit's own."""


class Group(Frozen):
    attribute: str
    group: str
    reference: bool
    rows: int
    metrics: dict[MetricName, Measure]


class Disparity(Frozen):
    """One metric of one group against its reference."""

    attribute: str
    group: str
    reference: str
    metric: MetricName
    ratio: Estimate
    difference: Estimate
    corrected: bool
    p_value: float | None
    p_adjusted: float | None
    status: Status


class TiltResult(Frozen):
    rows: int
    groups: tuple[Group, ...]
    disparities: tuple[Disparity, ...]
    tested: int
    policy: FlagPolicy
    decisions: str


def compare_groups(subject: Subject, settings: TiltSettings, seed: int, work: Work) -> TiltResult:
    """Measure every group and compare it with its reference (methods section 6).

    Raises
    ------
    Refused : no column makes groups, or the outcome or predictions cannot be used.
    """
    spec = subject.spec
    if not spec.groupings:
        raise Refused("No column is marked as a group.", todo="Mark the columns whose groups are compared in Intake.")
    groups: list[Group] = []
    drafts: list[dict] = []
    work.begin(len(spec.groupings), "group columns compared")
    for columns in spec.groupings:
        attribute = membership.attribute(columns)
        labels, codes = membership.groups(spec, subject.table, subject.rows, columns)
        # the seed follows the group's name, so that its draws do not depend on what else is compared
        measured = [measure(subject, codes == i, _seed(seed, attribute, label)) for i, label in enumerate(labels)]
        reference = _reference(subject, columns, labels, measured)
        for i, label in enumerate(labels):
            groups.append(
                Group(
                    attribute=attribute,
                    group=label,
                    reference=i == reference,
                    rows=measured[i].rows,
                    metrics=measured[i].measures,
                )
            )
            if i == reference:
                continue
            for name in METRICS:
                if name in measured[i].measures:
                    drafts.append(
                        {"attribute": attribute, "group": label, "reference": labels[reference], "metric": name}
                        | _compare(name, measured[i], measured[reference], spec.policy)
                    )
        work.advance(1)
    adjusted = intervals.adjust([np.nan if draft["p_value"] is None else draft["p_value"] for draft in drafts])
    disparities = tuple(
        Disparity(
            **{key: value for key, value in draft.items() if key != "enough"},
            p_adjusted=None if math.isnan(p) else float(p),
            status=status(draft["enough"], draft["ratio"], None if math.isnan(p) else float(p), spec.policy),
        )
        for draft, p in zip(drafts, adjusted, strict=True)
    )
    return TiltResult(
        rows=subject.n,
        groups=tuple(groups),
        disparities=disparities,
        tested=int(np.isfinite(adjusted).sum()),
        policy=spec.policy,
        decisions="scores" if subject.scores is not None else "recorded decisions",
    )


def _seed(seed: int, attribute: str, label: str) -> int:
    return int(np.random.SeedSequence([seed, *attribute.encode(), 0, *label.encode()]).generate_state(1)[0])


def _reference(subject: Subject, columns: tuple[str, ...], labels: list[str], measured: list[Measured]) -> int:
    """The chosen group of a single column, else the largest one that is not "(missing)"."""
    chosen = subject.spec.column(columns[0]).reference if len(columns) == 1 else None
    if chosen is not None:
        if chosen not in labels:
            raise Refused(
                f"The reference group “{chosen}” has no rows here; the groups are {words.listing(labels[:8])}.",
                where=f"column “{columns[0]}”",
                todo="Choose one of these groups as the reference, or other rows.",
            )
        return labels.index(chosen)
    real = [i for i, label in enumerate(labels) if label != membership.MISSING] or list(range(len(labels)))
    return max(real, key=lambda i: measured[i].rows)


def _compare(name: str, group: Measured, reference: Measured, policy: FlagPolicy) -> dict:
    """Ratio, difference and p-value of one metric. Too few rows are not tested."""
    confidence = policy.confidence
    enough = min(group.measures[name].of, reference.measures[name].of) >= policy.minimum_rows
    corrected = False
    if METRICS[name].kind == "rate":
        sides = (*group.effective[name], *reference.effective[name])
        *ratio, zero = intervals.katz(*sides, confidence)
        corrected = bool(zero)
        difference = intervals.newcombe(*sides, confidence)
        p = float(intervals.score_test(*sides))
    else:
        ratio, difference, p = _compare_scores(name, group, reference, confidence)
    return {
        "ratio": _estimate(*ratio),
        "difference": _estimate(*difference),
        "corrected": corrected,
        "p_value": p if enough and math.isfinite(p) else None,
        "enough": enough,
    }


def _compare_scores(
    name: str, group: Measured, reference: Measured, confidence: float
) -> tuple[tuple[float, ...], tuple[float, ...], float]:
    a, b = group.measures[name].value, reference.measures[name].value
    nothing = (math.nan,) * 3
    if a is None or b is None:
        return nothing, nothing, math.nan
    if name == "auc":
        z = intervals.normal_quantile(confidence)
        va, vb = group.auc_variance, reference.auc_variance
        se = math.sqrt(va + vb)
        difference = (a - b, a - b - z * se, a - b + z * se)
        p = float(2 * stats.norm.sf(abs(a - b) / se)) if se else float(a == b)
        if a <= 0 or b <= 0:
            return nothing, difference, p
        step = math.exp(z * math.sqrt(va / a**2 + vb / b**2))  # delta method on the log
        return (a / b, a / b / step, a / b * step), difference, p
    left, right = group.bootstrapped(name), reference.bootstrapped(name)
    gaps = left - right
    difference = (a - b, *intervals.percentile(gaps, confidence))
    # two-sided: twice the smaller share of draws beyond no difference, never less than one draw can show
    p = min(1.0, 2 * (min((gaps <= 0).sum(), (gaps >= 0).sum()) + 1) / (len(gaps) + 1))
    if b <= 0 or (right <= 0).any():
        return nothing, difference, float(p)
    return (a / b, *intervals.percentile(left / right, confidence)), difference, float(p)


def _estimate(value: float | NDArray, low: float | NDArray, high: float | NDArray) -> Estimate:
    if not math.isfinite(float(value)):
        return Estimate(value=None, low=None, high=None)
    return Estimate(value=float(value), low=float(low), high=float(high))


def status(enough: bool, ratio: Estimate, p_adjusted: float | None, policy: FlagPolicy) -> Status:
    """The four statuses in their order: too few, flagged, uncertain, within."""
    if not enough or ratio.value is None:
        return "too_few"
    outside = not policy.ratio_low <= ratio.value <= policy.ratio_high
    if outside and p_adjusted is not None and p_adjusted <= policy.alpha:
        return "flagged"
    if outside or ratio.low < policy.ratio_low or ratio.high > policy.ratio_high:
        return "uncertain"
    return "within"


def by_tilt(disparity: Disparity) -> float:
    """How far off parity, on the log scale; for sorting."""
    return -abs(math.log(disparity.ratio.value)) if disparity.ratio.value else 0.0


def spans(result: TiltResult, disparity: Disparity, wording: Wording) -> tuple[Span, ...]:
    """One comparison in plain words: who, how much, how sure, from how many rows. The size of the gap is marked."""
    sizes = {(group.attribute, group.group): group for group in result.groups}
    of = sizes[disparity.attribute, disparity.group].metrics[disparity.metric].of
    of_reference = sizes[disparity.attribute, disparity.reference].metrics[disparity.metric].of
    ratio = disparity.ratio
    who = words.opening(f"{_called(disparity.attribute, disparity.group)} {wording.rows}")
    if not _bare(disparity.group):
        who += f" ({words.title(disparity.attribute)})"
    reference = _called(disparity.attribute, disparity.reference)
    label = METRICS[disparity.metric].phrase
    if ratio.value is None:
        return (Span(text=f"{who}: the {label} cannot be compared with that of {reference}."),)
    if disparity.metric == "selection_rate":
        verb, gap, whom = f"{wording.favourable} ", f"{words.ratio(ratio.value)} times as often", " as "
    else:
        verb, gap, whom = f"{label} ", f"{words.ratio(ratio.value)} times", " that of "
    rest = (
        f"{whom}{reference} {wording.rows} ({words.level(result.policy.confidence)} interval "
        f"{words.ratio(ratio.low)} to {words.ratio(ratio.high)}; {words.count(of)} and {words.count(of_reference)} "
        f"{wording.rows})."
    )
    return (
        Span(text=f"{who}: {verb}"),
        Span(text=gap, flagged=disparity.status == "flagged"),
        Span(text=rest),
    )


def _bare(group: str) -> bool:
    """Whether a group's label says nothing without its column: a number, yes, no, true, false."""
    return group.replace(".", "", 1).replace("-", "", 1).isdigit() or group.lower() in BARE


def _called(attribute: str, group: str) -> str:
    return f"{words.title(attribute)} {group}" if _bare(group) else group


def sentence(result: TiltResult, disparity: Disparity, wording: Wording) -> str:
    return "".join(span.text for span in spans(result, disparity, wording))


def say(result: TiltResult, wording: Wording, settings: TiltSettings) -> Reading:
    flagged = sorted((d for d in result.disparities if d.status == "flagged"), key=by_tilt)
    uncertain = sum(d.status == "uncertain" for d in result.disparities)
    too_few = sum(d.status == "too_few" for d in result.disparities)
    compared = len(result.disparities)
    first = [d for d in flagged if d.metric == "selection_rate"] or flagged
    if first:
        headline = spans(result, first[0], wording)
    else:
        headline = (Span(text="No comparison is flagged under the limits of this audit."),)
    detail = (
        f"{words.count(len(flagged))} of {words.plural(compared, 'comparison')} "
        f"{'is' if len(flagged) == 1 else 'are'} outside the limits {result.policy.ratio_low:g} to "
        f"{result.policy.ratio_high:g} after adjusting for {words.plural(result.tested, 'test')}; "
        f"{words.count(uncertain)} cannot be told, {words.count(too_few)} have too few rows. "
        f"{words.count(result.rows)} {wording.rows}."
    )
    return Reading(headline=headline, detail=detail)
