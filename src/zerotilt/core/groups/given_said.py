"""Two groups compared within strata, in sentences."""

from __future__ import annotations

from zerotilt.core import words
from zerotilt.core.groups import metrics
from zerotilt.core.groups.given_result import GivenResult, GivenSettings, Pooled, Verdict
from zerotilt.core.meaning import Wording
from zerotilt.core.reading import Reading, Span

SAID: dict[Verdict, str] = {
    "reversed": "is reversed",
    "turns round": "turns round, within what chance explains",
    "vanishes": "can no longer be told from none",
    "shrinks": "shrinks",
    "stays": "stays about the same",
    "grows": "grows",
    "no gap": "is not told from none",
    "appears": "is not told from none plainly, and is there within strata",
    "cannot be told": "cannot be told",
}


def say(result: GivenResult, wording: Wording, settings: GivenSettings) -> Reading:
    given = words.listing([words.title(name) for name in result.columns])
    by_ratio = result.by == "ratio"

    def size(pooled: Pooled) -> str:
        found = pooled.ratio if by_ratio else pooled.difference
        if found.value is None:
            return "not defined"
        if by_ratio:
            value, low, high = (words.ratio(one) for one in (found.value, found.low, found.high))
        else:
            value, low, high = words.measured(found.value, found.low, found.high)
            value, high = f"{value} {wording.unit}".strip(), f"{high} {wording.unit}".strip()
        return f"{value} ({words.level(result.confidence)} interval {low} to {high})"

    what = f"{'ratio' if by_ratio else 'difference'} of the {metrics.phrase(result.metric)}"
    headline = (
        Span(text=f"Given {given}, the gap between {result.group} and {result.reference} "),
        Span(text=SAID[result.verdict], flagged=result.verdict in ("reversed", "appears")),
        Span(text=f": the {what} is {size(result.plain)} plainly and {size(result.pooled)} within strata."),
    )
    if result.verdict == "no gap":
        headline = (
            Span(
                text=f"There is no gap between {result.group} and {result.reference} to explain: the {what} is "
                f"{size(result.plain)} plainly and {size(result.pooled)} given {given}."
            ),
        )
    detail = f"{words.count(result.compared)} {wording.rows} in strata that hold both groups."
    least = min(result.plain_group.of, result.plain_reference.of)
    if least < result.minimum_rows:
        detail += f" One side has {words.count(least)} {wording.rows}; the flag policy asks for {result.minimum_rows}."
        return Reading(headline=headline, detail=detail)
    if result.pooled.p_alike is not None and result.pooled.p_alike <= 1 - result.confidence:
        detail += " The strata differ among themselves more than chance explains, so look at each."
    if result.candidates and result.candidates[0].shrinks is not None and result.candidates[0].shrinks > 0:
        first = result.candidates[0]
        detail += (
            f" Of all columns, {words.title(first.column)} alone takes away most of the gap: "
            f"{words.percent(min(first.shrinks, 1.0))}."
        )
    return Reading(headline=headline, detail=detail)
