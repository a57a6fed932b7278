"""The sentences that read a search for pockets, and the findings that come of it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Protocol

from zerotilt.core import rows as row_sets
from zerotilt.core import segments, words
from zerotilt.core.again import Measured
from zerotilt.core.findings import Finding, Gap
from zerotilt.core.meaning import Block, Segment, Spec, Wording
from zerotilt.core.pockets.confirmed import ErrorGap
from zerotilt.core.pockets.errors import Unit, written
from zerotilt.core.pockets.result import Pocket, PocketsResult, PocketsSettings
from zerotilt.core.reading import Reading, Span, plain

NOTE = (
    "Columns are cut into cells: eight stretches of a number, the levels of a text. Every description by up to three "
    "conditions is weighed in a seeded **half of the rows**: rows are counted once for each set of columns, by cell, and the "
    "error of any box of cells is eight look-ups in running totals (Crow 1984), so that the cost grows with rows × sets of "
    "columns for the counting and with the boxes for the weighing, never with both. What is weighed is the squared score of "
    "the permutation test, less 2 ln(conditions) for each end or level that the description names (the risk inflation "
    "criterion, Foster & George 1994). The densest is taken; then what is dense beyond those taken before, each row held "
    "against the mean of the rows in the same ones of them, so that no place is told twice. Borders are moved to where the "
    "error is densest and to the roundest number that puts them there; conditions not worth their price are left out.\n\n"
    "What is found is **read of the other half**, in which nothing was searched: Wilson's interval for rates, Hall's (1992) "
    "for means, and the two-sided score test against all other rows, adjusted by Holm (1979) over the places of the halving; "
    "within strata of the places before it (Cochran 1954; Mantel 1963) it must be denser, too. One halving can be lucky or "
    "unlucky, so rows are halved twelve times. Places that share half of their rows are one. Its p-value is that of the third "
    "of the halvings in which it did best, times three (Meinshausen, Meier & Bühlmann 2009): **confirmed** at or under the "
    "policy's is in at most that share of tables anything at all where nothing is. Its figures are those of the first halving "
    "in which it was found. The partition is learnt in the first half, cut "
    "by cut where squares of the error fall most, and its figures too are of the other half.\n\n"
    "Errors are dense where decisions are uncertain, also of a model that is right. Of the error rate, the log loss and the "
    "distance of a score the model's own scores foretell how large they are (the chance withheld from what was decided, the "
    "entropy, 2s(1 − s)); what is beyond that, row by row, is what the scores do not say.\n\n"
    "A confirmed place is a **finding**; how severe it is follows from how many times as dense it is as the scores foretell, or, "
    "where they do not, as elsewhere, beside the times asked for (of a signed error from a quarter of its standard deviation), "
    "its interval and its rows. On another version or table the "
    "same conditions are measured again, in the half in which they were not searched."
)


class _Read(Protocol):
    """A result that says which error it reads."""

    @property
    def called(self) -> str: ...
    @property
    def unit(self) -> Unit: ...
    @property
    def confidence(self) -> float: ...


def _here(result: PocketsResult, wording: Wording) -> str:
    return row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)


def confirmed(result: PocketsResult) -> list[Pocket]:
    return [one for one in result.pockets if one.status == "confirmed"]


def where(block: Block) -> str:
    """Conditions as a clause: "parcel weight is over 10 and channel is telephone"."""
    parts = []
    for one in block:
        name, said = words.title(one.column), segments.said(one)
        rest = said.removeprefix(f"{name} ")
        parts.append(said if rest.startswith("is ") or rest == said else f"{name} is {rest}")
    return words.listing(parts)


def gap_said(place: str, gap: ErrorGap, result: _Read, wording: Wording) -> str:
    """What is so inside some rows, with its interval and rows, against outside."""
    inside, outside = gap.inside, gap.outside
    if inside.value is None or outside.value is None:
        return f"Where {place}, the {result.called} cannot be read."
    share = ""
    if gap.share is not None and result.unit == "share":
        share = f"; {words.percent(gap.share)} of the errors of both lie inside"
    ends = ""
    if inside.low is not None and inside.high is not None:
        low, high = (written(end, result.unit, wording) for end in (inside.low, inside.high))
        ends = f"{words.level(result.confidence)} interval {low} to {high}; "
    return (
        f"Where {place}, the {result.called} is {written(inside.value, result.unit, wording)} "
        f"({ends}{words.plural(inside.rows, wording.row, wording.rows)}) against "
        f"{written(outside.value, result.unit, wording)} outside ({words.count(outside.rows)}){share}."
        f"{_foretold_said(gap, result, wording)}"
    )


def _foretold_said(gap: ErrorGap, result: _Read, wording: Wording) -> str:
    """Whether decisions are uncertain there, as the scores say themselves, or the scores are not right."""
    if gap.foretold is None or gap.beyond is None:
        return ""
    told, off = written(gap.foretold, result.unit, wording), gap.beyond
    if off.value is None or off.low is None or off.high is None:
        return ""
    if off.low <= 0 <= off.high:
        # an interval that holds nothing does not show that there is nothing
        return (
            f" The scores themselves foretell {told}, and the difference may be chance: decisions are uncertain there."
        )
    ends = sorted(abs(one) for one in (off.low, off.high))
    if result.unit == "share":
        amount, least, most = (f"{one * 100:.1f}" for one in (abs(off.value), *ends))
        amount += " points"
    else:
        amount, least, most = (written(one, result.unit, wording) for one in (abs(off.value), *ends))
    way = "higher" if off.value > 0 else "lower"
    return f" The scores themselves foretell {told}; it is {amount} {way} ({least} to {most}), so the scores are not right there."


def sentence(pocket: Pocket, result: PocketsResult, wording: Wording) -> str:
    return gap_said(where(pocket.segment.conditions), pocket.gap, result, wording)


def like(pocket: Pocket) -> str:
    """Of a pocket that a group nearly is: that it is; empty otherwise."""
    one = pocket.like
    if one is None:
        return ""
    group = f"{words.title(one.attribute)} {one.group}"
    if one.same:
        return (
            f"It is nearly the group {group} in other words: {words.percent(one.of_pocket)} of its rows belong to that "
            f"group, and {words.percent(one.of_group)} of the group lie in it."
        )
    return (
        f"{words.percent(one.of_pocket)} of its rows belong to {group}, of all others {words.percent(one.elsewhere)}."
    )


def balance_said(gap: ErrorGap, of: str, mean: bool, wording: Wording) -> str:
    """The outcome inside and outside, without which an error is not told."""
    first, second = gap.balance, gap.balance_outside
    if first is None or second is None:
        return ""
    if mean:
        ends = [words.quantity(one, wording.unit) for one in (first, second)]
        return f"The mean outcome is {ends[0]} there and {ends[1]} outside."
    return f"The share in which {of} is {words.percent(first)} there and {words.percent(second)} outside."


def _tries(result: PocketsResult) -> str:
    many = "one condition" if result.deep == 1 else f"up to {result.deep} conditions"
    times = "once" if result.halvings == 1 else f"{result.halvings} times"
    some = "" if result.rows_read == result.rows else f", a seeded sample of {words.count(result.rows)},"
    return (
        f"{words.count(result.rows_read)} rows{some} were halved {times}: {words.plural(result.tried, 'description')} of {many} "
        f"{'was' if result.tried == 1 else 'were'} weighed in one half, and the densest read of the other."
    )


def say(result: PocketsResult, wording: Wording, settings: PocketsSettings) -> Reading:
    notes = " ".join(result.notes)
    here = _here(result, wording)
    if not result.looked_at:
        return plain(f"No pocket of the {result.called} can be searched in {here}.", notes)
    found = confirmed(result)
    seen = (
        f"A place where it is {result.seen_as} would have been found in four of five cases from about "
        f"{words.plural(result.seen_from, 'row')} on."
        if result.seen_from is not None
        else f"Only a place where it is more than {result.seen_as}, or of more rows, would have been found."
    )
    tries = _tries(result)
    if not found:
        return plain(
            f"No pocket of the {result.called} is confirmed in {here}: where it looked densest in one half, it is not denser in the other beyond chance.",
            f"{tries} {seen} {notes}".strip(),
        )
    first = found[0]
    some = "one pocket is" if len(found) == 1 else f"{words.count(len(found))} pockets are"
    head = f"{words.opening(some)} confirmed in {here}. "
    told = " ".join(
        one for one in (balance_said(first.gap, result.balance_of, result.balance_mean, wording), like(first)) if one
    )
    again = f"It was found and confirmed in {round(first.again * result.halvings)} of {result.halvings} halvings."
    return Reading(
        headline=(Span(text=head, flagged=True), Span(text=sentence(first, result, wording))),
        detail=" ".join(one for one in (told, again, tries, notes) if one),
        points=tuple(sentence(one, result, wording) for one in found[1:]),
    )


def weaknesses(result: PocketsResult, spec: Spec) -> Iterable[Finding]:
    """Every confirmed pocket is one to decide about."""
    for one in confirmed(result):
        gap, times = gap_from(one.gap, result), one.gap.ratio.value
        size = words.ratio(times) if times is not None else ""
        yield Finding(
            name=f"{_about(result)}{one.halving}|{one.typed}",
            kind="weakness",
            statement=sentence(one, result, spec.wording),
            columns=one.segment.columns,
            group=one.described,
            place=_level(one.segment),
            reference="all other rows",
            metric=result.error,
            rows=result.rows_confirming,
            called=result.called,
            size=f"{size} times" if size and not result.signed else "",
            concerned=one.gap.inside.rows,
            gap=gap,
        )


def _level(segment: Segment) -> str:
    """The group that a place is, as comparisons name it; empty where it is not one level of a column."""
    if segment.picked or len(segment.blocks) != 1 or len(segment.conditions) != 1:
        return ""
    (only,) = segment.conditions
    bare = set(only.model_dump(exclude_defaults=True)) == {"column", "levels"}
    return f"{only.column}: {only.levels[0]}" if bare and len(only.levels) == 1 else ""


def _about(result: PocketsResult) -> str:
    return f"pocket|{result.error}|"


def gap_from(gap: ErrorGap, result: PocketsResult) -> Gap | None:
    """How far off a place is, by the limits of the search; none where no ratio can be given.

    Where scores foretell the error it is held against that: uncertain decisions are no weakness that the scores hide.
    """
    if gap.foretold and gap.beyond is not None and gap.beyond.value is not None:
        times = {name: _times(getattr(gap.beyond, name), gap.foretold) for name in ("value", "low", "high")}
        return Gap(scale="ratio", within=result.within, against="what the scores foretell", **times)
    found = gap.difference if result.signed else gap.ratio
    if found.value is None:
        return None
    scale = "difference" if result.signed else "ratio"
    return Gap(scale=scale, value=found.value, low=found.low, high=found.high, within=result.within)


def _times(off: float | None, foretold: float) -> float | None:
    """An error as a multiple of what was foretold, from how far off it is."""
    return None if off is None else max(0.0, 1 + off / foretold)


def before(findings: Iterable[Finding]) -> dict[str, tuple[str, ...]]:
    """Settings with which places of findings from another model or table are read again, of the usual error."""
    asked = dict.fromkeys(one.name.split("|", 2)[2] for one in findings if one.name.startswith("pocket|"))
    return {"besides": tuple(asked)[:60]}


def measured(result: PocketsResult) -> dict[str, Measured]:
    """Every place of now and of before, by what its finding is called."""
    places = {f"{one.halving}|{one.typed}": one.gap for one in result.pockets}
    places |= {one.asked: one.gap for one in result.besides if one.gap is not None}
    found = {}
    for name, place in places.items():
        gap = gap_from(place, result)
        if gap is not None:
            enough = min(place.inside.rows, place.outside.rows) >= result.minimum_rows
            found[f"{_about(result)}{name}"] = Measured(gap=gap, reference="all other rows", told=enough)
    return found
