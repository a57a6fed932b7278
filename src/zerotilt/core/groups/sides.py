"""Two readings of the same gap side by side: labels and decisions, training and hold-out, recorded and the model's."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core import rows as row_sets
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups import influence, measure
from zerotilt.core.groups.metrics import METRICS, Measure
from zerotilt.core.groups.readout import Lens, Readout
from zerotilt.core.groups.reference import OTHERS, reference_place
from zerotilt.core.meaning import Role, Wording
from zerotilt.core.membership import Grouping
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, Span, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

Which = Literal["labels and decisions", "training and hold-out", "recorded and the model's"]
KEY = "selection_rate"


class SidesSettings(Frozen):
    attributes: tuple[str, ...] = Field(
        default=(), description="Columns or intersections; all of the audit's when empty"
    )


class SidedGap(Frozen):
    """How often a group gets the favourable side against its reference, in two readings; ``change``: second over first."""

    pairing: Which
    attribute: str
    group: str
    reference: str
    first: Measure
    second: Measure
    first_ratio: Estimate
    second_ratio: Estimate
    change: Estimate
    p_adjusted: float | None
    labels_differ: bool = Field(
        default=False,
        description="Whether the first reading alone differs, its p-value adjusted over all gaps of its pairing",
    )
    verdict: Literal["wider", "narrower", "not told apart", "too few", "not defined"]


class SplitShare(Frozen):
    """One group in one split of the table: its share of the rows, and how often the favourable outcome is recorded."""

    split: str
    attribute: str
    group: str
    rows: int
    share: Estimate
    outcome: Estimate = Field(description="Share of rows whose outcome the favourable decision is meant for")


class SidesResult(Frozen):
    gaps: tuple[SidedGap, ...]
    splits: tuple[SplitShare, ...]
    pairings: tuple[Which, ...]
    notes: tuple[str, ...]
    rows: int
    tested: int
    policy: int
    confidence: float


def set_beside(subject: Subject, settings: SidesSettings, seed: int, work: Work) -> SidesResult:
    """Compare each gap of the favourable side between two readings, paired where the rows are the same.

    Raises
    ------
    Refused : the outcome is a number, or no column makes groups.
    """
    if not subject.kind.decides:
        raise Refused(
            "Nothing is decided about a number, so there are no decisions to set beside the labels.",
            todo="Open an audit whose outcome is an event or a class.",
        )
    spec = subject.spec
    wanted = [membership.columns_of(spec, name) for name in settings.attributes] or membership.all_groupings(spec)
    if not wanted:
        raise Refused("No column is marked as a group.", todo="Mark the columns whose groups are compared in Intake.")
    pairings, notes = _pairings(subject, seed)
    work.begin(len(wanted) * len(pairings), "gaps set side by side")
    policy = spec.policy
    drafts = []
    for which, (before, after, shared) in pairings.items():
        for columns in wanted:
            drafts += _gaps(which, before, after, shared, columns, policy)
            work.advance(1)
    adjusted = intervals.adjust([one.pop("p") for one in drafts], policy.adjustment)
    for which in pairings:
        mine = [one for one in drafts if one["pairing"] == which]
        for draft, own in zip(
            mine, intervals.adjust([one.pop("first_p") for one in mine], policy.adjustment), strict=True
        ):
            draft["labels_differ"] = bool(own <= policy.alpha)
    gaps = tuple(
        SidedGap(
            **draft,
            p_adjusted=None if math.isnan(p) else float(p),
            verdict=_verdict(draft, None if math.isnan(p) else float(p), policy),
        )
        for draft, p in zip(drafts, adjusted, strict=True)
    )
    return SidesResult(
        gaps=gaps,
        splits=tuple(_splits(subject, wanted)),
        pairings=tuple(pairings),
        notes=tuple(notes),
        rows=subject.n,
        tested=int(np.isfinite(adjusted).sum()),
        policy=policy.number,
        confidence=policy.confidence,
    )


Reading_ = tuple[Subject, Readout]


def _favoured(subject: Subject, which: np.ndarray) -> Reading_:
    """A readout in which the favourable side is given outright."""
    lens = Lens(which, which, which, {KEY: METRICS[KEY]})
    return subject, Readout((lens,), {}, subject.rows.weights)


def _pairings(subject: Subject, seed: int) -> tuple[dict[Which, tuple[Reading_, Reading_, bool]], list[str]]:
    found: dict[Which, tuple[Reading_, Reading_, bool]] = {}
    notes = []
    decided = _favoured(subject, subject.decisions.favoured)
    found["labels and decisions"] = (_favoured(subject, subject.decisions.deserved), decided, True)
    other = "training" if subject.context.rows != "training" else "hold-out"
    if subject.context.rows == "all":
        notes.append("All rows are read, so training and hold-out rows are not set apart.")
    else:
        try:
            apart = replace(
                subject, context=subject.context.model_copy(update={"rows": other, "alongside": None}), beside=None
            )
            there = _favoured(apart, apart.decisions.favoured)
            found["training and hold-out"] = (there, decided, False) if other == "training" else (decided, there, False)
        except Refused as none:
            notes.append(f"Training and hold-out rows cannot be set side by side: {none.message}")
    recorded = subject.spec.only(Role.decision)
    if recorded is None:
        notes.append("No column holds the decisions that people took, so they cannot be set beside the model's.")
    elif subject.predictor is None and (not subject.kind.cut or subject.spec.only(Role.score) is None):
        notes.append("There are recorded decisions only, and no model to set beside them.")
    else:
        plain_spec = subject.spec.model_copy(
            update={"columns": tuple(c.model_copy(update={"role": Role.ignored}) if c.role is Role.score else c for c in subject.spec.columns)}
        )  # fmt: skip
        people = Subject(plain_spec, subject.table, None, subject.context)
        found["recorded and the model's"] = (_favoured(subject, people.decisions.favoured), decided, True)
    return found, notes


def _gaps(which: Which, before: Reading_, after: Reading_, shared: bool, columns, policy) -> list[dict]:
    groupings = [membership.grouping(one.spec, one.table, one.rows.numbers, columns) for one, _ in (before, after)]
    base = groupings[1]
    place = reference_place(after[0], base)
    reference = OTHERS if place < 0 else base.labels[place]
    drafts = []
    for i, label in enumerate(base.labels):
        if i == place:
            continue
        pairs, sides, ratios, own = [], [], [], []
        for grouping, (subject, found) in zip(groupings, (before, after), strict=True):
            masks = _masks(grouping, label, reference, subject.n)
            measured = [measure.of_rows(subject, found, mask, 0)[KEY] for mask in masks]
            sides.append(measured)
            pairs += [influence.influence(found, KEY, mask) for mask in masks]
            ratio, p = _ratio(
                measured, [_effective(found, mask, policy.confidence) for mask in masks], policy.confidence
            )
            ratios.append(ratio)
            own.append(p)
        change, p = influence.log_change(pairs, shared, policy.confidence)
        enough = min(one.of for measured in sides for one in measured) >= policy.minimum_rows
        drafts.append(
            {
                "pairing": which,
                "attribute": base.attribute,
                "group": label,
                "reference": reference,
                "first": sides[0][0],
                "second": sides[1][0],
                "first_ratio": ratios[0],
                "second_ratio": ratios[1],
                "change": estimate(*change),
                "p": p if enough else math.nan,
                "first_p": own[0] if enough else math.nan,
            }
        )
    return drafts


def _effective(found: Readout, mask: np.ndarray, confidence: float) -> tuple[float, float]:
    """Effective counts of the favourable side among some rows."""
    w = np.ones(int(mask.sum())) if found.weights is None else found.weights[mask]
    hit = w * found.lenses[0].favoured[mask]
    x, n = intervals.effective_counts(hit.sum(), (hit**2).sum(), w.sum(), (w**2).sum(), (w > 0).sum(), confidence)
    return float(x), float(n)


def _ratio(measured: list[Measure], counts: list[tuple[float, float]], confidence: float) -> tuple[Estimate, float]:
    """The ratio of two shares from their effective counts, and its p-value; not defined where a share is not."""
    if any(one.value is None for one in measured):
        return estimate(math.nan, math.nan, math.nan), math.nan
    (x1, n1), (x2, n2) = counts
    *ratio, _ = intervals.koopman(x1, n1, x2, n2, confidence)
    return estimate(*ratio), float(intervals.score_test(x1, n1, x2, n2))


def _masks(grouping: Grouping, label: str, reference: str, n: int) -> list[np.ndarray]:
    nobody = np.zeros(n, bool)
    inside = grouping.mask(grouping.labels.index(label)) if label in grouping.labels else nobody
    if reference == OTHERS:
        return [inside, ~inside]
    return [inside, grouping.mask(grouping.labels.index(reference)) if reference in grouping.labels else nobody]


def _verdict(draft: dict, p: float | None, policy) -> str:
    if p is None:
        return "not defined" if draft["change"].value is None else "too few"
    if p > policy.alpha:
        return "not told apart"
    first, second = (abs(math.log(draft[name].value)) for name in ("first_ratio", "second_ratio"))
    return "wider" if second > first else "narrower"


def _splits(subject: Subject, wanted: list[tuple[str, ...]]) -> list[SplitShare]:
    """Every split's groups: their share of the rows and of the favourable outcome, weighted as the rates are; Wilson
    intervals of effective counts.
    """
    spec, confidence = subject.spec, subject.spec.policy.confidence
    whole = replace(subject, context=subject.context.model_copy(update={"rows": "all", "alongside": None}), beside=None)
    known = whole.rows.numbers
    deserved, mass = whole.decisions.deserved, whole.rows.mass

    def share(hit: np.ndarray, among: np.ndarray) -> Estimate:
        w = mass[among & (mass > 0)]
        own = mass[among & hit & (mass > 0)]
        x, n = intervals.effective_counts(own.sum(), (own**2).sum(), w.sum(), (w**2).sum(), len(w), confidence)
        value, *ends = intervals.wilson(x, n, confidence)
        return estimate(value, *ends)

    column = spec.only(Role.split)
    if column is not None:
        levels, codes = subject.table.coded(column.name)
        splits = {str(level): codes[known] == i for i, level in enumerate(levels)}
    else:
        splits = {
            row_sets.NAMES[one]: row_sets.held_out(spec, subject.table, one)[known] for one in ("training", "hold-out")
        }
    found = []
    for columns in wanted:
        grouping = membership.grouping(spec, subject.table, known, columns)
        for name, inside in splits.items():
            for i, label in enumerate(grouping.labels):
                mine = grouping.mask(i) & inside
                rows = int(mine.sum())
                found.append(
                    SplitShare(
                        split=name,
                        attribute=grouping.attribute,
                        group=label,
                        rows=rows,
                        share=share(mine, inside),
                        outcome=share(deserved, mine),
                    )
                )
    return found


def say(result: SidesResult, wording: Wording, settings: SidesSettings) -> Reading:
    labels = [one for one in result.gaps if one.pairing == "labels and decisions"]
    told = [one for one in labels if one.verdict in ("wider", "narrower")]
    tilted = [one for one in labels if one.labels_differ]
    detail = (
        f"Wider in the decisions than in the labels: {words.count(sum(one.verdict == 'wider' for one in labels))} of "
        f"{words.plural(len(labels), 'gap')}; narrower: {words.count(sum(one.verdict == 'narrower' for one in labels))}, after adjusting "
        f"for {words.plural(result.tested, 'test')} (flag policy {result.policy})."
    )
    if tilted:
        names = list(dict.fromkeys(one.group for one in tilted))[:4]
        detail += (
            f" The labels themselves differ for {words.listing(names)}: error rates take them for the truth, "
            "so a group whose labels were tilted looks better decided than it was."
        )
    if not told:
        return plain("The decisions are not told apart from the labels in any gap.", detail)
    first = max(told, key=lambda one: abs(math.log(one.change.value)))
    headline = (
        Span(
            text=f"{words.opening(first.group)} against {first.reference}: {words.ratio(first.first_ratio.value)} times as often in the labels, "
        ),
        Span(text=f"{words.ratio(first.second_ratio.value)} times as often {wording.favourable}"),
        Span(
            text=f"; the decisions make the gap {first.verdict} by a factor of {words.ratio(first.change.value)} "
            f"({words.level(result.confidence)} interval {words.ratio(first.change.low)} to {words.ratio(first.change.high)}; "
            f"{words.count(first.second.of)} {wording.rows})."
        ),
    )
    return Reading(headline=headline, detail=detail)


METHOD = Method(
    name="sides",
    area="tilt",
    part="sides",
    title="Labels and decisions",
    settings=SidesSettings,
    result=SidesResult,
    compute=set_beside,
    say=say,
    note=(
        "Labels: how often the outcome is recorded that the favourable decision is meant for. Ratios have the score "
        "test's intervals (Koopman 1984). The change is the second ratio over the first; where both are read of the "
        "same rows, its interval counts that (influence functions, Hampel 1974). p-values are adjusted over every "
        "change on this sheet. Where labels were tilted, error rates take them for the truth."
    ),
    main="gaps",
    needs=frozenset({"predictions", "outcome"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    version=3,
)
