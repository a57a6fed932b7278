"""Compared groups in sentences, and what of them somebody has to decide about."""

from __future__ import annotations

from collections.abc import Iterable

from zerotilt.core import membership, words
from zerotilt.core.again import Measured
from zerotilt.core.findings import Finding, Gap
from zerotilt.core.groups import metrics
from zerotilt.core.groups.disparity import (
    BARE,
    OWN_WORDS,
    UNTOLD,
    Disparity,
    Group,
    TiltResult,
    TiltSettings,
    by_weight,
)
from zerotilt.core.groups.favour import HAPPENED, NOT_OF_ERRORS, favour
from zerotilt.core.groups.metrics import Measure, metric_named
from zerotilt.core.groups.reference import OTHERS
from zerotilt.core.meaning import Role, Spec, Wording
from zerotilt.core.membership import MISSING
from zerotilt.core.reading import Reading, Span


def spans(result: TiltResult, disparity: Disparity, wording: Wording) -> tuple[Span, ...]:
    """One comparison in plain words: who, how much, how sure, from how many rows. The size of the gap is marked."""
    own = _group_of(result, disparity)
    of, of_reference = own.metrics[disparity.metric].of, disparity.against.of
    ratio, gap = disparity.ratio, disparity.difference
    who = words.opening(_who(disparity.attribute, disparity.group, wording))
    if not _bare(disparity.group) and disparity.attribute != membership.SEGMENTS:
        who += f" ({words.title(disparity.attribute)})"
    whom = _whom(disparity, wording)
    metric, label = metric_named(disparity.metric), metrics.phrase(disparity.metric)
    found = ratio if disparity.judged == "ratio" else gap
    if found.value is None or found.low is None:
        return (Span(text=f"{who}: the {label} cannot be compared with that of {whom}."),)
    sure = f"{words.level(result.policy.confidence)} interval"
    rows = f"{words.count(of)} and {words.count(of_reference)} {wording.rows}"
    flagged = disparity.status == "flagged"
    if disparity.judged == "difference":
        unit = {"outcome": wording.unit, "share": "", "rank": "ranks", "number": ""}[metric.unit]
        more = found.value > 0
        value, low, high = words.measured(found.value, found.low, found.high)
        amount, way = f"{value.removeprefix('−')} {unit}".strip(), "more" if more else "less"
        ends = _ends(low, high, unit, more)
        return (
            Span(text=f"{who}: {label} "),
            Span(text=f"{amount} {way}", flagged=flagged),
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


def _group_of(result: TiltResult, disparity: Disparity) -> Group:
    return next(g for g in result.groups if (g.attribute, g.group) == (disparity.attribute, disparity.group))


def _whom(disparity: Disparity, wording: Wording) -> str:
    """What a group is compared with, in a sentence."""
    if disparity.reference == OTHERS:
        return f"all other {wording.rows}"
    return _who(disparity.attribute, disparity.reference, wording)


def _ends(low: str, high: str, unit: str, more: bool) -> str:
    """The interval of a difference whose sign is a word: "0.13 to 0.60 days", nearer parity first; where it holds parity
    each end has its word.

    >>> _ends("−0.60", "−0.13", "days", False), _ends("−0.10", "0.40", "", True)
    ('0.13 to 0.60 days', '0.10 less to 0.40 more')
    """
    below, above = low.startswith("−"), not high.startswith("−")
    if below and above:
        return f"{low.removeprefix('−')} {unit}".strip() + " less to " + f"{high} {unit}".strip() + " more"
    ends = (low, high) if more else (high.removeprefix("−"), low.removeprefix("−"))
    return f"{ends[0]} to {ends[1]} {unit}".strip()


def rates(result: TiltResult, disparity: Disparity, spec: Spec) -> str:
    """Both numbers of a comparison, how many people the gap comes to, and in whose favour it is; as a sentence."""
    own, against = _group_of(result, disparity).metrics[disparity.metric], disparity.against
    if own.value is None or against.value is None:
        return ""
    metric, gap, rows = metric_named(disparity.metric), own.value - against.value, spec.wording.rows
    if metric.unit == "share":
        text = f"The rates are {words.percent(own.value)} and {words.percent(against.value)}"
    else:
        shown = [_written(one, metric.unit, spec.wording.unit) for one in (own, against)]
        text = f"The values are {shown[0]} and {shown[1]}"
    people = round(abs(gap) * own.of)
    if metric.kind == "rate" and people and spec.only(Role.weight) is None:
        called = spec.wording.row if people == 1 else rows
        text += (
            f": about {words.count(people)} {called} {'more' if gap > 0 else 'fewer'} than at the rate of "
            f"{_whom(disparity, spec.wording)}"
        )
    found = favour(disparity.metric, gap > 0, spec)
    if found in ("advantage", "disadvantage"):
        return f"{text}, to the group's {found}."
    if found:
        return f"{text}; the model does {found} for this group."
    return f"{text}."


def _written(one: Measure, unit: str, named: str) -> str:
    value = words.measured(one.value or 0.0, one.low, one.high)[0]
    return f"{value} {named if unit == 'outcome' else ''}".strip()


def _bare(group: str) -> bool:
    """Whether a group's label says nothing without its column: a number or a stretch of numbers, one letter, yes, no,
    true, false, missing, or a word that is one of ours."""
    plain = group.replace(".", "", 1).replace("-", "", 1)
    return (
        plain.isdigit() or len(group) <= 2 or group.lower() in BARE or group.startswith(("over ", "up to ", "("))
        or _ours(group)
    )  # fmt: skip


def _ours(group: str) -> bool:
    """Whether a level is written as our own words are, so that a sentence would mean something else by it."""
    return group.lower() in OWN_WORDS


def _who(attribute: str, group: str, wording: Wording) -> str:
    """A group's rows in a sentence: "outer isles claims", or "claims whose age is over 27"."""
    if not _bare(group):
        return f"{group} {wording.rows}"
    if group == MISSING:
        return f"{wording.rows} without {words.title(attribute)}"
    if group == membership.OTHER:
        return f"{wording.rows} of rarer {words.title(attribute)}"
    quoted = f"“{group}”" if _ours(group) or group.lower() in BARE else group
    return f"{wording.rows} whose {words.title(attribute)} is {quoted}"


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


def _flagged(result: TiltResult) -> list[Disparity]:
    """What is flagged: protected attributes first, segments last; of each what matters to the decision, then by size."""
    place = {
        one.attribute: 0 if one.protected else 2 if one.attribute == membership.SEGMENTS else 1
        for one in result.attributes
    }
    flagged = (one for one in result.disparities if one.status == "flagged")
    return sorted(flagged, key=lambda one: (place.get(one.attribute, 1), *by_weight(one)))


def say(result: TiltResult, wording: Wording, settings: TiltSettings) -> Reading:
    flagged = _flagged(result)
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
        f"{words.count(len(flagged))} of {words.plural(compared, 'comparison')} {'is' if len(flagged) == 1 else 'are'} "
        f"flagged: {rule(result, wording)} (flag policy {policy.number}, {policy.adjustment}). {words.count(uncertain)} "
        f"{'is' if uncertain == 1 else 'are'} undecided, {words.count(too_few)} {'has' if too_few == 1 else 'have'} too few "
        f"rows. {words.count(result.rows)} {wording.rows}."
    )
    if hidden := _behind_accuracy(result):
        detail += (
            f" Accuracy is within the limits for {words.listing(hidden[:4])}, while error rates are flagged: "
            "equal accuracy can hide errors that differ."
        )
    if result.beside is not None:
        detail += f" {_said_beside(result)}"
    if looked_for := len({one.group for one in result.disparities if one.status == "not_tested"}):
        detail += f" {words.plural(looked_for, 'segment')} found by {'its' if looked_for == 1 else 'their'} errors {'is' if looked_for == 1 else 'are'} shown and not tested here."
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


def rule(result: TiltResult, wording: Wording) -> str:
    """When a comparison is flagged, as it is applied: by its estimate and by its test, both."""
    policy = result.policy
    by_ratio = [one for one in result.disparities if one.judged == "ratio"]
    limits = (
        [f"a ratio outside {policy.ratio_low:g} to {policy.ratio_high:g}"] if by_ratio or not result.disparities else []
    )
    limits += _differences(result, wording)
    if policy.tolerances:
        limits.append("a value outside the metric's own limits")
    if policy.adjustment == "none" or not result.tested:
        return f"{words.listing(limits, 'or')}, and a p-value of at most {policy.alpha:g}"
    printed = sum(one.p_adjusted is not None for one in result.disparities)
    here = f", {words.count(printed)} of them printed here" if printed < result.tested else ""
    tests = f"{words.plural(result.tested, 'test')}{here}"
    return f"{words.listing(limits, 'or')}, and an adjusted p-value of at most {policy.alpha:g} ({tests})"


def _differences(result: TiltResult, wording: Wording) -> list[str]:
    """Limits of what is judged by a difference alone, each with the metrics that it is for and its unit."""
    found: dict[str, list[str]] = {}
    for one in result.disparities:
        metric = metric_named(one.metric)
        if one.judged == "difference" and result.policy.tolerance(metric.name).difference is None:
            size = f"{one.high:.2g}" if one.high < 100 else f"{one.high:,.0f}"
            said = f"{size} {wording.unit}".strip() if metric.unit == "outcome" else size
            found.setdefault(said, []).append(metrics.label(metric.name).lower())
    return [f"a difference over {size} ({words.listing(list(dict.fromkeys(of)))})" for size, of in found.items()]


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
    """Every flagged comparison: what matters to the decision first, then the furthest off. Of a group in which nothing is
    flagged but what happened, none: that is told where labels and decisions are compared.
    """
    concerned = {(group.attribute, group.group): group.rows for group in result.groups}
    flagged = _flagged(result)
    # a gap in what happened, alone, is none of the model's
    modelled = {(one.attribute, one.group) for one in flagged if metric_named(one.metric).name not in HAPPENED}
    return [
        Finding(
            name=called(found),
            kind="disparity",
            statement=f"{sentence(result, found, spec.wording)} {rates(result, found, spec)}".strip(),
            columns=membership.columns_named(spec, found.attribute),
            group=found.group,
            reference=found.reference,
            metric=found.metric,
            rows=result.rows,
            about=f"{found.attribute}: {found.group}",
            called=metrics.phrase(found.metric),
            size=_size(found),
            concerned=concerned[found.attribute, found.group],
            gap=_gap(found),
            place=f"{found.attribute}: {found.group}",
            of_errors=metric_named(found.metric).name not in (*HAPPENED, *NOT_OF_ERRORS),
            of_model=metric_named(found.metric).name not in HAPPENED,
        )
        for found in flagged
        if (found.attribute, found.group) in modelled
    ]


def called(found: Disparity) -> str:
    """A comparison's name: the same in every table and of every model version."""
    return f"{found.attribute}: {found.group} · {found.metric}"


def _gap(found: Disparity) -> Gap:
    numbers = found.ratio if found.judged == "ratio" else found.difference
    return Gap(scale=found.judged, within=(found.low, found.high), **numbers.model_dump())


def measured(found: Iterable[Disparity]) -> dict[str, Measured]:
    """Every comparison by its name, flagged or not, with what became of it against what is read alongside."""
    return {
        called(one): Measured(
            gap=_gap(one),
            reference=one.reference,
            told=one.status not in UNTOLD,
            change=one.change and (one.change.ratio_change if one.judged == "ratio" else one.change.difference_change),
        )
        for one in found
    }


def _size(found: Disparity) -> str:
    """How far off a comparison is: "0.93 times", "2.35 more"."""
    if found.judged == "ratio":
        return f"{words.ratio(found.ratio.value)} times"
    value = found.difference.value or 0.0
    return f"{words.quantity(abs(value))} {'more' if value > 0 else 'less'}"
