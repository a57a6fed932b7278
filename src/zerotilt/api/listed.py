"""The findings of an audit in a context: of what is read now, of before a change until it is measured again, raised by hand."""

from __future__ import annotations

from collections import Counter, OrderedDict
from collections.abc import Iterator
from typing import Any

from pydantic import Field

from zerotilt.api.desk import Desk
from zerotilt.core import words
from zerotilt.core.evidence import Evidence, footing_of
from zerotilt.core.findings import Fact, Finding, Lapsed, Standing, gathered, lapsed_of, standing_of, told_twice
from zerotilt.core.meaning import Context, Spec, sha256
from zerotilt.core.method import Area
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.store import shelf
from zerotilt.store.decided import judged, raised_name
from zerotilt.store.found import Memory
from zerotilt.store.records import Audit, EvidenceRow, Raised, Remark
from zerotilt.tasks.board import changes, now_of
from zerotilt.tasks.queue import Turn


class LapsedView(Lapsed):
    """A decision of before, which does not hold any more."""

    said: str = Field(default="", description="What was decided then, in a sentence")


class FindingView(Fact):
    """One finding, gathered from what the evidence says, and how it stands."""

    area: Area
    part: str = Field(description="Of its sheet; the first when empty")
    evidence: str = Field(description="Key of the evidence it rests on")
    standing: Standing
    number: int = Field(
        description="Of its last decision, 0 while there is none; to be given back by who writes the next"
    )
    remarks: int = Field(description="Lines in its history")
    apart: bool = Field(description="Whether a person took it out of the fact that it was gathered into")
    author: str = Field(default="", description="Who raised it by hand; empty for what a method found")
    again: str = Field(
        default="", description="That it is of before a change, and what becomes of it; empty for what is of now"
    )
    measuring: bool = Field(default=False, description="Whether it is being measured again")
    before: LapsedView | None = Field(
        default=None, description="What was decided about it under another meaning, table or rule; it is asked again"
    )


def findings_of(audit: Audit, desk: Desk, context: Context, turn: Turn = Turn.again) -> list[FindingView]:
    """The findings of what has been read in a context, and those raised by hand.

    What was found before a change stays until it is measured again, which begins here.
    """
    if audit.spec is None or not audit.ready:
        return []
    return _Listed(audit, desk, context.model_copy(update={"alongside": None})).all(turn)


class _Listed:
    """The findings of one audit in one context."""

    def __init__(self, audit: Audit, desk: Desk, context: Context):
        self.audit, self.desk, self.context = audit, desk, context
        self.spec = Spec.model_validate(audit.spec)
        digests, now = now_of(audit, context)
        self.footing = footing_of(digests, now, self.spec)
        self.rows = {one.finding: one for one in audit.judgements}
        self.judged = {name: judged(row) for name, row in self.rows.items()}
        self.remarks = Counter(one.finding for one in audit.remarks.select(Remark.finding))
        self.apart = {one.finding for one in audit.apart}

    def all(self, turn: Turn) -> list[FindingView]:
        asked = {one.name: one.unasked(self.spec) for one in METHODS.values() if one.findings}
        wanted = {name: dict(settings) for name, settings in asked.items() if settings is not None}
        there = self.desk.board.there(self.audit, self.context, wanted)
        memory = Memory(self.audit, self.context)
        found: list[FindingView] = []
        for name in asked:
            if name in there:
                key, again, measuring = there[name], "", False
                findings = _given_rise_to(key, self.spec, sha256(self.audit.spec), self.desk)
                memory.keep(name, key, sha256(self.audit.spec), findings)
            elif (before := memory.of(name)) is not None and name in wanted:
                again, measuring = self._measured_again(name, wanted[name], turn)
                key, findings = before.evidence_key, memory.findings(before)
            else:
                continue
            method = METHODS[name]
            found += [
                self._seen(fact, method.area, method.part, key, again=again, measuring=measuring)
                for fact in gathered(findings, self.apart)
            ]
        twice = told_twice(found)
        return [
            one for one in found if one.name not in twice or one.standing.decision != "open" or one.before is not None
        ] + list(self._by_hand())

    def _measured_again(self, method: str, settings: dict[str, Any], turn: Turn) -> tuple[str, bool]:
        """Begin to measure, or say why it can't be; and whether it is under way."""
        try:
            if self.desk.board.failed(self.audit, self.context, method, settings):
                return "It was found before a change, and could not be measured again.", False
            self.desk.board.reading(self.audit, self.context, method, settings, turn=turn)
        except Refused as problem:
            return f"It was found before a change, and can not be measured again: {problem.message}", False
        return "It was found before a change, and is being measured again.", True

    def _seen(self, fact: Fact, area: Area, part: str, key: str, **more: Any) -> FindingView:
        return FindingView(
            **dict(fact),
            area=area,
            part=part,
            evidence=key,
            standing=standing_of(fact, self.judged, self.footing),
            before=_told(lapsed_of(fact, self.judged, self.footing)),
            number=self.rows[fact.name].number if fact.name in self.rows else 0,
            remarks=self.remarks[fact.name],
            apart=fact.name in self.apart,
            **more,
        )

    def _by_hand(self) -> Iterator[FindingView]:
        raised = self.audit.raised.select(Raised, EvidenceRow).join(EvidenceRow).order_by(Raised.created)
        for one in raised:
            if one.evidence.method not in METHODS:
                continue
            method = METHODS[one.evidence.method]
            changed = changes(self.audit, one)
            again = f"It was raised on a figure of before: {words.listing(changed)} changed since." if changed else ""
            yield self._seen(by_hand(one), method.area, method.part, one.evidence.key, author=one.author, again=again)


def _told(lapsed: Lapsed | None) -> LapsedView | None:
    return lapsed and LapsedView(**dict(lapsed), said=lapsed.sentence)


def by_hand(one: Raised) -> Fact:
    """A finding that a person raised, as a fact."""
    (fact,) = gathered([Finding(name=raised_name(one), kind="concern", statement=one.statement)])
    return fact.model_copy(update={"why": "it was raised by hand"})


_KNOWN: OrderedDict[tuple[str, str], tuple[Finding, ...]] = OrderedDict()
_MOST_KNOWN = 256


def _given_rise_to(name: str, spec: Spec, meant: str, desk: Desk) -> tuple[Finding, ...]:
    """The findings of a piece of evidence under a meaning. Neither changes, so they are read out of it once."""
    key = (name, meant)
    found = _KNOWN.get(key)
    if found is None:
        row = EvidenceRow.get(EvidenceRow.key == name)
        _KNOWN[key] = found = tuple(Evidence.model_validate(shelf.whole(row, desk.files)).findings(spec))
        if len(_KNOWN) > _MOST_KNOWN:
            _KNOWN.popitem(last=False)
    return found


def read_so_far(audit: Audit, desk: Desk, context: Context) -> bool:
    """Whether the comparison of groups, from which most findings come, has been read in a context."""
    return audit.spec is not None and bool(desk.board.there(audit, context, {"tilt": {}}))
