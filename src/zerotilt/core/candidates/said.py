"""The sentences about candidates: who leads, who is told apart from it, and what the gap beside it is."""

from __future__ import annotations

from zerotilt.core import words
from zerotilt.core.candidates.compared import CandidatesTable, CandidateStanding
from zerotilt.core.groups.metrics import metric_named, phrase
from zerotilt.core.meaning import Wording
from zerotilt.core.stats.estimates import Estimate

OVER = 0.1
"""Share of the validated value by which that of the training rows is better, from which on it is said."""


def say(table: CandidatesTable, wording: Wording) -> tuple[str, ...]:
    """The reading's sentences; none where nothing was trained."""
    if table.leader is None:
        return ()
    first, others = table.standings[0], table.standings[1:]
    known = [one for one in others if one.behind is not None]
    best = "largest" if table.larger_is_better else "smallest"
    many = words.plural(len(table.standings), "candidate")
    of = (
        f"Of {many}, {first.name} has the {best} {phrase(table.metric)}"
        if others
        else f"{words.opening(first.name)} has {words.article(phrase(table.metric))}"
    )
    out = [
        f"{of}: {_told(first.validation, table, wording)} over {words.plural(table.folds, 'fold')} of "
        f"{words.plural(table.rows, wording.row, wording.rows)}."
    ]
    like = [one for one in known if not one.apart]
    worse = [one for one in known if one.apart]
    if known and not like:
        out.append(f"{'The other is' if len(known) == 1 else 'All others are'} worse beyond chance.")
    elif like:
        names = words.listing(
            [one.name for one in like[:4]] + ([words.plural(len(like) - 4, "other")] if len(like) > 4 else [])
        )
        out.append(f"{words.opening(names)} {'is' if len(like) == 1 else 'are'} not told apart from it.")
        if worse:
            out.append(
                f"{words.plural(len(worse), 'candidate')} {'is' if len(worse) == 1 else 'are'} worse beyond chance."
            )
    if undefined := [one.name for one in table.standings if one.validation.value is None]:
        out.append(f"It is not defined for {words.listing(undefined)}.")
    if first.found_among > 1:
        out.append(
            f"It was found among {words.count(first.found_among)} recipes that were tried on these folds, so what it has there "
            f"flatters it."
        )
    if learnt := _by_heart(first, table):
        out.append(learnt)
    return tuple(out)


def _by_heart(first: CandidateStanding, table: CandidatesTable) -> str:
    held, seen = first.validation.value, first.training.value
    if held is None or seen is None:
        return ""
    gained = (seen - held) if table.larger_is_better else (held - seen)
    if gained <= OVER * abs(held):
        return ""
    show = _write(table.metric, Wording())
    return f"On the rows that it was trained on it is {show(seen)}: a part of that is learnt by heart."


def _told(one: Estimate, table: CandidatesTable, wording: Wording) -> str:
    show = _write(table.metric, wording)
    if one.value is None:
        return "not defined"
    if one.low is None or one.high is None:
        return show(one.value)
    return f"{show(one.value)} ({words.level(table.confidence)} interval {show(one.low)} to {show(one.high)})"


def _write(metric: str, wording: Wording):
    found = metric_named(metric)
    if found.kind == "rate":
        return words.percent
    if found.unit == "outcome":
        return lambda value: words.quantity(value, wording.unit)
    return words.percent if found.unit == "share" else words.decimal


def say_frontier(table: CandidatesTable, gap: tuple[str, str, str, str] | None, wording: Wording) -> tuple[str, ...]:
    """What price stands against what gap: the candidate with the best metric, and the one with the smallest gap."""
    known = [
        one for one in table.standings if one.validation.value is not None and one.gap and one.gap.value is not None
    ]
    if gap is None or not known:
        return ("No gap is defined for these candidates, so nothing stands against their price.",)
    kept = [one for one in known if one.dominated is None]
    best, least = known[0], min(kept, key=lambda one: abs(_size(one)))
    of = f"{words.title(gap[1])} {gap[2]} to {gap[3]} in the {phrase(gap[0])}"
    head = (
        f"{words.opening(best.name)} has the best {phrase(table.metric)}, {_told(best.validation, table, wording)}, "
        f"with a gap of {of} of {_gap(best, gap[0])}"
    )
    first = (
        f"{head}; no other has a smaller one."
        if least is best
        else f"{head}; the smallest gap has {least.name}, {_gap(least, gap[0])}, at {_told(least.validation, table, wording)}."
    )
    out = [first]
    if any(one.few for one in known):
        out.append("One of the two groups has too few rows for any of these gaps to be claimed.")
    outdone = len(known) - len(kept)
    out.append(
        f"{words.opening(words.plural(outdone, 'candidate'))} of {words.count(len(known))} {'is' if outdone == 1 else 'are'} "
        f"outdone in both by another, by their means."
        if outdone
        else "None is outdone in both by another, by their means."
    )
    return tuple(out)


def _size(one: CandidateStanding) -> float:
    return one.gap.value if one.gap and one.gap.value is not None else 0.0


def _gap(one: CandidateStanding, metric: str) -> str:
    rate = metric_named(metric).kind == "rate"
    show = words.signed_points if rate else words.signed_decimal
    found = one.gap
    if found is None or found.low is None or found.high is None:
        return show(_size(one))
    if rate:
        return words.points_span(found.value, found.low, found.high)
    return f"{show(_size(one))} ({show(found.low)} to {show(found.high)})"
