"""What changed for whom between two versions: errors mended and errors new, decisions gained and lost, by group."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core import rows as row_sets
from zerotilt.core.drawing import MOST_BARS, Picture
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.pockets.drawn import bars_of
from zerotilt.core.pockets.errors import compared
from zerotilt.core.reading import Reading, Span
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.stats.means import mean_span
from zerotilt.core.stats.paired import mcnemar, tango
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

Bools = NDArray[np.bool_]
Floats = NDArray[np.float64]


class ChangedSettings(Frozen):
    """Nothing to choose."""


class ChangedGroup(Frozen):
    """What changed for one group; for all rows where the group is empty."""

    attribute: str
    group: str
    rows: int
    mended: int = Field(description="Wrong with the version here, right with the one alongside; of numbers: nearer")
    new: int = Field(description="Right here, wrong alongside; of numbers: farther off")
    error: float | None = Field(description="Share wrong here, or the mean absolute error")
    change: Estimate = Field(description="The error alongside less the one here, on the same rows")
    p: float | None = Field(description="That nothing changed, over all groups (Benjamini & Hochberg 1995)")
    gained: int = Field(description="Rows that get the favourable decision alongside and not here")
    lost: int
    verdict: Literal["better", "worse", "not told apart", "too few"]


class ChangedResult(Frozen):
    whole: ChangedGroup | None = Field(description="All rows; null where nothing that can be compared is alongside")
    groups: tuple[ChangedGroup, ...] = Field(
        description="All rows, then every group: worse ones first, then better ones, by how much"
    )
    shares: bool = Field(description="Each row is right or wrong; else errors are amounts")
    decides: bool
    beside: str | None = Field(description="What is read alongside; null where nothing is")
    rows: int
    rows_named: str
    confidence: float
    minimum_rows: int


def what_changed(subject: Subject, settings: ChangedSettings, seed: int, work: Work) -> ChangedResult:
    """Two versions on the same rows, row by row.

    Raises
    ------
    Refused : the outcome or the predictions cannot be used.
    """
    policy = subject.spec.policy
    common = {
        "shares": subject.kind.decides,
        "decides": subject.kind.decides,
        "beside": None if subject.beside is None else "the version alongside",
        "rows": subject.n,
        "rows_named": subject.context.rows,
        "confidence": policy.confidence,
        "minimum_rows": policy.minimum_rows,
    }
    told = subject.beside is not None and compared(subject)
    here = _wrong(subject)
    there = _wrong(subject.second) if told else here
    mass = subject.rows.mass
    known = np.isfinite(here) & np.isfinite(there) & (mass > 0)
    gained, lost = _decisions(subject) if told else (np.zeros(subject.n, bool),) * 2
    rows: list[tuple[str, str, Bools]] = [("", "", known)]
    for columns in membership.all_groupings(subject.spec):
        grouping = membership.grouping(subject.spec, subject.table, subject.rows.numbers, columns)
        rows += [(grouping.attribute, label, grouping.mask(i) & known) for i, label in enumerate(grouping.labels)]
    found = [
        _group(attribute, label, here[mask], there[mask], mass[mask], (gained & mask, lost & mask), subject)
        for attribute, label, mask in rows
    ]
    if not told:
        nothing = {"change": estimate(np.nan, np.nan, np.nan), "p": None}
        return ChangedResult(whole=None, groups=tuple(one.model_copy(update=nothing) for one in found), **common)
    whole, *groups = _judged(found, policy.alpha, policy.minimum_rows)
    order = {"worse": 0, "better": 1, "not told apart": 2, "too few": 3}
    groups.sort(key=lambda one: (order[one.verdict], -abs(one.change.value or 0.0)))
    return ChangedResult(whole=whole, groups=(whole, *groups), **common)


def _wrong(subject: Subject) -> Floats:
    """How wrong each row is: 1 or 0 where something is decided, else its absolute error."""
    told = subject.kind.wrong(subject.kind.ways[0], subject.rows.outcome, subject.predictions, subject.decisions)
    return np.where(told.among, told.values, np.nan)


def _decisions(subject: Subject) -> tuple[Bools, Bools]:
    if not subject.kind.decides:
        nobody = np.zeros(subject.n, bool)
        return nobody, nobody
    here, there = subject.decisions.favoured, subject.second.decisions.favoured
    return there & ~here, here & ~there


def _group(attribute: str, label: str, here: Floats, there: Floats, mass: Floats, decided, subject: Subject):
    n, off = len(here), there - here
    new, mended = int((off > 0).sum()), int((off < 0).sum())
    confidence = subject.spec.policy.confidence
    if not n:
        change, p = estimate(np.nan, np.nan, np.nan), np.nan
    elif subject.kind.decides and (mass == mass[0]).all():
        change = estimate(*(float(one) for one in tango(new, mended, n, confidence)))
        p = float(mcnemar(new, mended))
    else:
        span = mean_span(off, mass, confidence)
        change, p = estimate(*(float(one) for one in span)), float(intervals.tested(span, confidence))
        if not off.any():
            p = 1.0
    return ChangedGroup(
        attribute=attribute,
        group=label,
        rows=n,
        mended=mended,
        new=new,
        error=float(np.average(here, weights=mass)) if n else None,
        change=change,
        p=p if np.isfinite(p) else None,
        gained=int(decided[0].sum()),
        lost=int(decided[1].sum()),
        verdict="not told apart",
    )


def _judged(found: list[ChangedGroup], alpha: float, minimum: int) -> list[ChangedGroup]:
    """Verdicts: of all rows by their own p, of groups adjusted over those with rows enough."""
    raw = [one.p if place and one.p is not None and one.rows >= minimum else np.nan for place, one in enumerate(found)]
    adjusted = intervals.adjust(raw)
    if found[0].p is not None and found[0].rows >= minimum:
        adjusted[0] = found[0].p
    out = []
    for one, q in zip(found, adjusted, strict=True):
        told = bool(q <= alpha) and one.change.value
        verdict = "too few" if one.rows < minimum else "not told apart"
        if told:
            verdict = "worse" if one.change.value > 0 else "better"
        out.append(one.model_copy(update={"p": float(q) if np.isfinite(q) else None, "verdict": verdict}))
    return out


BETTER = {
    True: (
        "is right with the version alongside that was wrong",
        "are right with the version alongside that were wrong",
    ),
    False: ("comes nearer with the version alongside", "come nearer with the version alongside"),
}
WORSE = {
    True: ("is wrong that was right", "are wrong that were right"),
    False: ("goes farther off", "go farther off"),
}


def _became(rows: int, one: str, many: str) -> str:
    return f"{words.count(rows)} {one if rows == 1 else many}"


def say(result: ChangedResult, wording: Wording, settings: ChangedSettings) -> Reading:
    whole = result.whole
    of = row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)
    if whole is None:
        head = (
            f"What is alongside is not another version on the same {wording.rows}, so nothing is held against it."
            if result.beside
            else "No other version is read alongside: choose one, and what changed for whom is read here."
        )
        return Reading(headline=(Span(text=head),), detail=f"{words.opening(of)} are read.")
    show = _written(result, wording)
    head = f"Of {of}, {_became(whole.mended, *BETTER[result.shares])}, and {_became(whole.new, *WORSE[result.shares])}: {_moved(whole, show, result)}."
    hurt = [group for group in result.groups[1:] if group.verdict == "worse"]
    helped = [group for group in result.groups[1:] if group.verdict == "better"]
    second = (
        f" It is worse for {words.listing([_named(group) for group in hurt[:3]])}{_more(hurt)}."
        if hurt
        else " For no group by itself is it worse beyond chance."
    )
    detail = []
    if result.decides:
        detail.append(
            f"{words.plural(whole.gained, wording.row, wording.rows)} {'is' if whole.gained == 1 else 'are'} {wording.favourable} "
            f"alongside and not here, {words.count(whole.lost)} here and not alongside."
        )
    few = sum(group.verdict == "too few" for group in result.groups[1:])
    if few:
        detail.append(
            f"{words.plural(few, 'group')} {'has' if few == 1 else 'have'} fewer than {result.minimum_rows} rows."
        )
    points = tuple(f"{words.opening(_named(group))}: {_moved(group, show, result)}." for group in [*hurt, *helped][:6])
    return Reading(headline=(Span(text=head), Span(text=second)), detail=" ".join(detail), points=points)


def _written(result: ChangedResult, wording: Wording):
    if result.shares:
        return words.signed_points
    return lambda value: f"{'+' if value > 0 else ''}{words.quantity(value, wording.unit)}"


def _moved(one: ChangedGroup, show, result: ChangedResult) -> str:
    what = "the share of wrong ones" if result.shares else "the mean absolute error"
    if one.change.value is None:
        return f"{what} is not defined"
    ends = f" ({words.level(result.confidence)} interval {show(one.change.low or 0.0)} to {show(one.change.high or 0.0)}; {words.plural(one.rows, 'row')})"
    told = {"better": "lower", "worse": "higher"}.get(one.verdict)
    told = (
        f"is {told}: {show(one.change.value)}"
        if told
        else f"changes by {show(one.change.value)}, which chance would do, too"
    )
    return f"{what} {told}{ends}"


def _named(one: ChangedGroup) -> str:
    return f"{words.title(one.attribute)} {one.group}"


def _more(found: list[ChangedGroup]) -> str:
    return f" and {words.plural(len(found) - 3, 'more group')}" if len(found) > 3 else ""


def picture(result: ChangedResult, spec: Spec) -> Picture | None:
    """The change of the error in all rows and in every group; the error itself while nothing is alongside."""
    told = result.whole is not None
    names = [_named(one) if one.attribute else "all rows" for one in result.groups]
    shown = [(one.change if told else Estimate(value=one.error, low=None, high=None)) for one in result.groups]
    return bars_of(list(zip(names, shown, strict=True))[:MOST_BARS], "change of the error" if told else "error")


METHOD = Method(
    name="changed",
    area="remedies",
    title="What changed for whom",
    settings=ChangedSettings,
    result=ChangedResult,
    compute=what_changed,
    say=say,
    note=(
        "Two versions are held against each other **row by row**, on the same rows: errors **mended** are wrong here and right "
        "with the version alongside, **new** ones the other way round; of numbers, rows that come nearer and rows that are "
        "farther off. Where a row is right or wrong, the change of the share has the score interval for two ways of deciding "
        "the same rows (Tango 1998) and McNemar's test (1947), which never contradict each other; with weights, and of numbers, "
        "that of a mean difference (Hall 1992). p-values of groups are adjusted over all groups with rows enough (Benjamini & "
        "Hochberg 1995). **Gained** and **lost** count favourable decisions. Where the new errors lie is searched in Pockets, by "
        "*newly wrong*."
    ),
    main="groups",
    part="changed",
    needs=frozenset({"outcome", "predictions"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    picture=picture,
    reads_alongside=True,
)
