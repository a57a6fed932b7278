"""What somebody has to decide about: findings as methods see them, gathered into facts, each with its severity."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import date
from typing import Literal, NamedTuple

from pydantic import Field

from zerotilt.core import words
from zerotilt.core.frozen import Frozen

Kind = Literal["contradiction", "disparity", "weakness", "concern"]
Severity = Literal["high", "medium", "low"]
Decision = Literal["open", "accepted", "to mend", "mended", "watched"]
FAR = 2.0
"""Times the tolerance from which on a gap counts as large; "twice" in words."""
MANY = 0.05
"""Share of the rows from which on a group counts as one of many people."""
NAMED = 4
"""Further parts that a fact's sentence names."""


GATHERED = (
    "What several metrics say of one group is one finding, and so is a crossing that is not told apart from one of its "
    "larger groups: flagged on the same metric, to the same side, by an amount that its interval holds."
)
SEVERE = (
    "Severity is high where a gap is at least twice the tolerance (for a ratio twice on the log scale: 0.64 or 1.56 where the "
    "limits are 0.8 and 1.25), its whole interval lies outside the limits, and the group holds a twentieth of the rows or "
    "more; medium where two of these are so, or where there is no tolerance; else low. The metric of the group by which it "
    "is severest is told first. Of a place where errors concentrate, the gap is to the errors that the scores themselves "
    "foretell there, where they tell."
)


class Gap(Frozen):
    """A measure's distance from parity, with its interval and what is within."""

    scale: Literal["ratio", "difference"]
    value: float | None
    low: float | None
    high: float | None
    within: tuple[float, float]
    against: str = Field(default="", description="What it is held against, where that is no reference group")

    @property
    def off(self) -> float:
        """In tolerances off parity: 1 at the upper limit, −1 at the lower; 0 where the value is not known."""
        low, high = self.within
        if self.value is None:
            return 0.0
        if self.scale == "difference":
            return _over(self.value, low, high)
        if self.value <= 0:
            return -math.inf
        return _over(math.log(self.value), math.log(low) if low > 0 else -math.inf, math.log(high))

    @property
    def far_limits(self) -> tuple[float, float]:
        """From where on it counts as large, on either side: twice the tolerance, for a ratio on the log scale.

        >>> Gap(scale="ratio", value=0.6, low=0.5, high=0.7, within=(0.8, 1.25)).far_limits
        (0.64, 1.5625)
        """
        low, high = self.within
        if self.scale == "difference":
            return FAR * low, FAR * high
        return round(low**FAR, 9), round(high**FAR, 9)

    @property
    def sure(self) -> bool:
        """Whether the whole interval lies outside the limits, on one side."""
        if self.low is None or self.high is None:
            return False
        return self.high < self.within[0] or self.low > self.within[1]


def _over(value: float, low: float, high: float) -> float:
    limit = high if value >= 0 else -low
    return value / limit if limit else math.copysign(math.inf, value) if value else 0.0


class Finding(Frozen):
    """One flagged disparity, weakness or contradiction, as a method found it in a result."""

    name: str = Field(description="The same while what it is about and its limits are, whatever the numbers")
    kind: Kind
    statement: str = Field(description="One sentence with its numbers")
    columns: tuple[str, ...] = Field(default=(), description="Columns it is about")
    group: str = ""
    reference: str = Field(default="", description="What the group is compared with")
    metric: str = ""
    rows: int | None = Field(default=None, description="Rows it was measured on")
    about: str = Field(default="", description="The fact that it is a part of; its own name when empty")
    called: str = Field(default="", description="What was measured, beside others of the same fact")
    size: str = Field(default="", description="How far off it is, in a few words")
    concerned: int | None = Field(default=None, description="Rows of the people it is about")
    gap: Gap | None = Field(default=None, description="How far off it is; none where there is no tolerance")
    place: str = Field(default="", description="The group that it is about, where that is one level of a column")
    of_errors: bool = Field(
        default=False, description="Whether it is of how often, or how far, the model is off in a group"
    )
    of_model: bool = Field(
        default=True, description="False where it is of what happened alone, whatever the model does"
    )

    @property
    def fact(self) -> str:
        return self.about or self.name


class Fact(Frozen):
    """What several findings say together: one thing to decide about."""

    name: str
    kind: Kind
    statement: str
    severity: Severity
    why: str = Field(description="Why it is as severe as that, by the rule")
    parts: tuple[Finding, ...]
    columns: tuple[str, ...]
    group: str
    rows: int | None


class Standing(Frozen):
    """How a finding stands: what was decided, why, and who sees to it."""

    decision: Decision = "open"
    reason: str = Field(default="", max_length=20_000)
    owner: str = Field(default="", max_length=200, description="Who sees to it")
    due: date | None = None
    version: str = Field(default="", max_length=200, description="The model version in which it is mended")


OPEN = Standing()


class Footing(Frozen):
    """What a finding is found on; a decision about it holds on the same footing."""

    table: str = Field(description="SHA-256 of the table")
    model: str | None = Field(default=None, description="SHA-256 of the model version")
    meaning: str = Field(description="SHA-256 of what changes every number")
    problem: str = Field(default="", description="SHA-256 of what is predicted and which decision is favourable")
    rule: str = Field(default="", description="The decision rule as JSON; empty for the audit's own threshold")


class Judged(Frozen):
    """How somebody decided about a finding, on what it stood then, and what it said."""

    standing: Standing
    footing: Footing | None = Field(default=None, description="Not kept by earlier versions")
    fact: Fact | None = None
    author: str = ""
    decided: str = Field(default="", description="The day, as it is written")


class Lapsed(Judged):
    """A decision of before: it was made on another footing, and is asked for again."""

    why: str = Field(description="What is another now, in words")

    @property
    def sentence(self) -> str:
        """What was decided then, about which words, and that it is asked for again.

        >>> Lapsed(standing=Standing(decision="accepted", reason="Known."), why="the meaning of the columns").sentence
        'Decided before, when the meaning of the columns was another: accepted; reason: Known. It is to be decided again.'
        """
        said = f"Decided before, when {self.why} was another: {self.standing.decision}"
        if reason := self.standing.reason.strip().removesuffix("."):
            said += f"; reason: {reason}"
        then = f" It then read: “{self.fact.statement}”" if self.fact is not None and self.fact.statement else ""
        return f"{said}.{then} It is to be decided again."


def lapsed_because(judged: Judged, fact: Fact, now: Footing) -> str:
    """Why a decision does not hold any more, in words; empty while it does.

    Other roles, kinds or cuts of columns leave a decision alone where they leave every number of what it is about alone;
    another table, another favourable decision or event, and another decision rule do not.
    """
    then = judged.footing
    if then is None or then == now:
        return ""
    if then.table != now.table:
        return "the table"
    if (then.problem or then.meaning) != (now.problem if then.problem else now.meaning):
        return "the meaning of the columns"
    if then.meaning != now.meaning and (judged.fact is None or _measured(judged.fact) != _measured(fact)):
        return "the meaning of the columns"
    return "the decision rule" if then.rule != now.rule else ""


def _measured(fact: Fact) -> list[tuple[object, ...]]:
    """What a fact says in numbers: its parts without their words."""
    return [(one.metric, one.group, one.reference, one.rows, one.concerned, one.gap) for one in fact.parts]


def standing_of(fact: Fact, judged: Mapping[str, Judged], now: Footing | None = None) -> Standing:
    """What was decided about a fact itself, else what was decided alike about all that it is made of; as long as it holds.

    Parameters
    ----------
    now : what the fact is found on; decisions made on another footing do not count. All do when None.
    """
    found = [
        OPEN if now is not None and lapsed_because(one, fact, now) else one.standing for one in _about(fact, judged)
    ]
    return found[0] if len({one.decision for one in found}) == 1 else OPEN


def lapsed_of(fact: Fact, judged: Mapping[str, Judged], now: Footing) -> Lapsed | None:
    """The decision about a fact that does not hold any more; None where it holds or nobody has decided."""
    for one in _about(fact, judged):
        if one.standing.decision != "open" and (why := lapsed_because(one, fact, now)):
            return Lapsed(**dict(one), why=why)
    return None


NOT_YET = Judged(standing=OPEN)


def _about(fact: Fact, judged: Mapping[str, Judged]) -> list[Judged]:
    """What was decided about a fact, or about each of its parts."""
    if fact.name in judged:
        return [judged[fact.name]]
    return [judged.get(part.name, NOT_YET) for part in fact.parts] or [NOT_YET]


class Weight(NamedTuple):
    severity: Severity
    why: str


def gathered(findings: Sequence[Finding], apart: Collection[str] = ()) -> tuple[Fact, ...]:
    """Facts, in the order in which their first parts stand.

    Two rules. What is found of one group by several metrics is one fact. What is found of a crossing is part of the fact of
    one of its larger groups, where that is off on the same metric to the same side, by an amount that the crossing's
    interval holds: the crossing is then not told apart from what is so in the larger group anyway.

    Parameters
    ----------
    apart : names of findings that a person took out; each is a fact of its own.
    """
    free = [one for one in findings if one.name not in apart]
    parts: dict[str, list[Finding]] = {}
    for one in findings:
        home = one if one.name in apart else _explained_by(one, free) or one
        parts.setdefault(one.name if one.name in apart else home.fact, []).append(one)
    return tuple(_fact(name, found) for name, found in parts.items())


def told_twice(facts: Iterable[Fact]) -> frozenset[str]:
    """Names of facts about a place where errors are denser, where that place is a group that another fact tells of: a group
    whose errors are flagged among the comparisons is not counted once more as a pocket."""
    held = list(facts)
    groups = {part.place for one in held if one.kind == "disparity" for part in one.parts if part.of_errors} - {""}
    return frozenset(
        one.name for one in held if one.kind == "weakness" and {part.place for part in one.parts} <= groups
    )


def _explained_by(one: Finding, others: Iterable[Finding]) -> Finding | None:
    """The finding of a larger group that a crossing's is not told apart from; the one that is nearest to it."""
    if one.gap is None or len(one.columns) < 2:
        return None
    held = [
        other
        for other in others
        if len(other.columns) == 1
        and other.metric == one.metric
        and _is_part(one, other.columns[0], other.group)
        and _holds(one.gap, other.gap)
    ]
    return min(held, key=lambda other: abs(one.gap.off - other.gap.off), default=None)  # type: ignore[union-attr]


def _is_part(crossing: Finding, column: str, level: str) -> bool:
    """Whether a group of a crossing is one of a level's; levels may hold the sign that joins them."""
    if column not in crossing.columns:
        return False
    place, sign = crossing.columns.index(column), words.CROSSED
    group = f"{sign}{crossing.group}{sign}"
    for called in (level, f"{words.title(column)} {level}"):  # a number is told with its column
        part = f"{sign}{called}{sign}"
        if place == 0:
            found = group.startswith(part)
        elif place == len(crossing.columns) - 1:
            found = group.endswith(part)
        else:
            found = part in group[1:-1]
        if found:
            return True
    return False


def _holds(own: Gap, larger: Gap | None) -> bool:
    if larger is None or larger.value is None or own.low is None or own.high is None or own.scale != larger.scale:
        return False
    return own.low <= larger.value <= own.high and own.off * larger.off > 0


def weigh(parts: Sequence[Finding]) -> Weight:
    """How severe a fact is: high where a part is at least twice the tolerance off, its whole interval outside, and its
    people a twentieth of the rows or more; medium where two of these are so; else low. Without a tolerance: medium.
    """
    told = [part for part in parts if part.gap is not None and part.of_model]
    if not told:
        return Weight("medium", "no tolerance says how far off it is")
    part = max(told, key=lambda one: sum(_points(one)))
    far, sure, many = best = _points(part)
    severity: Severity = "high" if all(best) else "medium" if sum(best) == 2 else "low"
    return Weight(
        severity,
        f"{'at least' if far else 'less than'} twice the tolerance off{_against(part.gap)}{_from(part.gap)}; the interval lies "
        f"{'wholly' if sure else 'only in part'} outside the limits; {_people(part, many)}",
    )


def _points(part: Finding) -> tuple[bool, bool, bool]:
    """Whether it is far off, sure, and of many people."""
    many = part.concerned is not None and bool(part.rows) and part.concerned >= MANY * (part.rows or 0)
    return part.gap is not None and abs(part.gap.off) >= FAR, part.gap is not None and part.gap.sure, many


def _against(gap: Gap | None) -> str:
    return f" {gap.against}" if gap is not None and gap.against else ""


def _from(gap: Gap | None) -> str:
    """From where on a gap counts as far off, in brackets."""
    if gap is None:
        return ""
    low, high = gap.far_limits
    if gap.scale == "difference":
        return f" (twice is {words.quantity(high)})" if math.isclose(-low, high) else ""
    ends = [words.ratio(end) for end, one in ((low, 0 < low < 1), (high, high > 1)) if one]
    return f" (twice is {words.listing(ends, 'or')})" if ends else ""


def _people(part: Finding, many: bool) -> str:
    concerned = part.concerned or 0
    return f"{words.plural(concerned, 'row')}, {'a twentieth of all or more' if many else 'under a twentieth of all'}"


def _beside(part: Finding, first: Finding) -> str:
    """A part in a few words: "accuracy (0.93 times)"; of another group than the first, with its name."""
    other = f" of {part.group}" if part.group != first.group else ""
    return f"{part.called}{other} ({part.size})" if part.called else part.statement


def _fact(name: str, parts: Sequence[Finding]) -> Fact:
    """Parts of the larger group come first, and of them the one by which it is severest: it says the fact, and the others
    are named with it.
    """
    ordered = sorted(parts, key=lambda part: (len(part.columns), not part.of_model, -sum(_points(part))))
    first, rest = ordered[0], ordered[1:]
    severity, why = weigh([part for part in ordered if part.columns == first.columns])
    more = [_beside(part, first) for part in rest]
    if len(more) > NAMED + 1:
        more = [*more[:NAMED], f"{words.count(len(more) - NAMED)} more"]
    return Fact(
        name=name,
        kind=first.kind,
        statement=f"{first.statement} Also flagged: {words.listing(more)}." if rest else first.statement,
        severity=severity,
        why=why,
        parts=tuple(ordered),
        columns=first.columns,
        group=first.group,
        rows=first.rows,
    )
