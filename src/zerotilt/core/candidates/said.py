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
        else f"{words.opening(first.name)} has {_article(table.metric)}"
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


def _article(metric: str) -> str:
    return f"{'an' if phrase(metric)[0].lower() in 'aeiou' else 'a'} {phrase(metric)}"


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
