"""Findings: what the evidence says that someone should decide about, gathered into facts; and what was decided."""

from __future__ import annotations

import re
from collections import Counter, OrderedDict
from collections.abc import Iterator
from datetime import UTC, date, datetime
from typing import Annotated, Any

from fastapi import APIRouter, HTTPException, Query
from pydantic import BaseModel, Field, StringConstraints

from zerotilt.api.desk import Desk, Seeing, TheDesk, connected, held
from zerotilt.api.identity import Who
from zerotilt.api.readings import evidence_of
from zerotilt.core import words
from zerotilt.core.evidence import Evidence, footing_of
from zerotilt.core.findings import Fact, Finding, Lapsed, Standing, gathered, lapsed_of, standing_of
from zerotilt.core.meaning import Context, Spec, sha256
from zerotilt.core.method import Area
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.store import shelf
from zerotilt.store.decided import Seen, decide, judged, raised_name
from zerotilt.store.found import Memory
from zerotilt.store.records import Audit, EvidenceRow, Raised, Remark, TakenApart, own
from zerotilt.store.state import ChangedMeanwhile
from zerotilt.tasks.board import changes, changes_of, model_of, now_of
from zerotilt.tasks.queue import Turn

router = APIRouter(prefix="/api/audits/{audit_id}", tags=["findings"])
Name = Annotated[str, StringConstraints(min_length=1, max_length=2_000)]
Said = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=20_000)]
Author = Annotated[str, StringConstraints(strip_whitespace=True, max_length=200)]


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
    before: LapsedView | None = Field(
        default=None, description="What was decided about it under another meaning, table or rule; it is asked again"
    )


class Decided(Standing):
    finding: Name
    due: Annotated[date, Field(ge=date(2000, 1, 1), le=date(2199, 12, 31))] | None = None
    author: Author = ""
    evidence: str = Field(default="", description="Key of the evidence that it is decided on, as its finding says")
    read: int | None = Field(
        default=None, description="Number of the decision that was read, 0 for none; another one now is a conflict"
    )


class RemarkView(BaseModel):
    """One line of a finding's history."""

    created: datetime
    author: str
    changes: dict[str, tuple[str | None, str | None]] = Field(description="What was changed, from what to what")
    said: str


class NewRemark(BaseModel):
    finding: Name
    said: Said
    author: Author = ""


class Gathering(BaseModel):
    finding: Name = Field(description="A part of a fact, by its own name")
    apart: bool
    author: Author = ""


class NewFinding(BaseModel):
    """A finding that a person raises on a figure."""

    statement: Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=2_000)]
    key: str = Field(description="Of the evidence that it rests on")
    context: Context
    author: Author = ""


def findings_of(audit: Audit, desk: Desk, context: Context, turn: Turn = Turn.asked) -> list[FindingView]:
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
                key, again = there[name], ""
                findings = _given_rise_to(key, self.spec, sha256(self.audit.spec), self.desk)
                memory.keep(name, key, sha256(self.audit.spec), findings)
            elif (before := memory.of(name)) is not None and name in wanted:
                again = self._measured_again(name, wanted[name], turn)
                key, findings = before.evidence_key, memory.findings(before)
            else:
                continue
            method = METHODS[name]
            found += [
                self._seen(fact, method.area, method.part, key, again=again) for fact in gathered(findings, self.apart)
            ]
        return found + list(self._by_hand())

    def _measured_again(self, method: str, settings: dict[str, Any], turn: Turn) -> str:
        """Begin to measure, or say why it can't be."""
        try:
            if self.desk.board.failed(self.audit, self.context, method, settings):
                return "It was found before a change, and could not be measured again."
            self.desk.board.reading(self.audit, self.context, method, settings, turn=turn)
        except Refused as problem:
            return f"It was found before a change, and can not be measured again: {problem.message}"
        return "It was found before a change, and is being measured again."

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


@router.post("/glance")
@connected
def glance(audit: Audit, desk: TheDesk, context: Context) -> dict[str, int]:
    """Findings that are open in each area, of what has been read in this context."""
    return Counter(found.area for found in findings_of(audit, desk, context) if found.standing.decision == "open")


@router.post("/findings")
@connected
def read_findings(audit: Audit, desk: TheDesk, context: Context) -> list[FindingView]:
    return findings_of(audit, desk, context)


@router.put("/findings")
@connected
def judge(audit: Audit, desk: TheDesk, who: Who, saw: Seeing, wanted: Decided) -> int:
    """Write what was decided about a finding, why, and who sees to it; the number of this decision."""
    audit = held(audit)
    saw.still(audit, "meaning", "table", "rules")
    now = Standing(**{name: getattr(wanted, name) for name in Standing.model_fields})
    seen = _seen(audit, desk, wanted.finding, wanted.evidence)
    return decide(audit, wanted.finding, now, who.identity.signed(wanted.author), wanted.read, seen)


def _seen(audit: Audit, desk: Desk, finding: str, key: str) -> Seen:
    """What a finding is, in the evidence that it is decided on; a fact without parts where nothing of it is there any more.

    Raises
    ------
    ChangedMeanwhile : the evidence is of before a change.
    """
    spec = Spec.model_validate(audit.spec)
    mine = next((one for one in audit.raised if raised_name(one) == finding), None)
    if mine is not None or not key:
        return _seen_today(audit, spec, finding, mine)
    row = EvidenceRow.get_or_none(EvidenceRow.key == key)
    if row is None or row.body["digests"]["table"] not in {one.digest for one in audit.tables}:
        raise HTTPException(404, "There is no such evidence.")
    own(audit, key)  # another audit of the same table may have asked for it first
    found = Evidence.model_validate(shelf.whole(row, desk.files))
    there = found.context.model_copy(update={"model": model_of(audit, found.digests.model), "alongside": None})
    if changed := changes_of(audit, found, there):
        raise ChangedMeanwhile(f"What this finding was found in is of before: {words.listing(changed)} changed since.")
    facts = gathered(found.findings(spec), {one.finding for one in audit.apart})
    return Seen(
        fact=next((one for one in facts if one.name == finding), NOTHING),
        method=found.method,
        evidence=key,
        digests=found.digests,
        context=found.context,
        ending=found.ending,
        problem=spec.problem_digest(),
    )


OF_MODEL = re.compile(r"\[([0-9a-f]{64})\]$")


def _seen_today(audit: Audit, spec: Spec, finding: str, mine: Raised | None) -> Seen:
    """What a finding stands on now that was raised by hand, or is decided about without naming evidence."""
    named = OF_MODEL.search(finding)
    context = Context.model_validate(mine.context) if mine else Context()
    model = context.model if mine else model_of(audit, named[1] if named else None)
    try:
        digests, now = now_of(audit, context.model_copy(update={"model": model, "alongside": None}))
    except Refused:  # the version that it was raised on is gone
        digests, now = now_of(audit, context.model_copy(update={"model": None, "alongside": None}))
    return Seen(
        fact=by_hand(mine) if mine else NOTHING,
        method=mine.evidence.method if mine else "",
        evidence=mine.evidence.key if mine else "",
        digests=digests,
        context=now,
        ending="",
        problem=spec.problem_digest(),
    )


NOTHING = Fact(
    name="", kind="disparity", statement="", severity="low", why="", parts=(), columns=(), group="", rows=None
)


@router.get("/findings/history")
@connected
def history(audit: Audit, finding: Annotated[str, Query(max_length=2_000)]) -> list[RemarkView]:
    """What was decided and said about a finding, the first first."""
    lines = audit.remarks.where(Remark.finding == finding).order_by(Remark.created)
    return [RemarkView(created=one.created, author=one.author, changes=one.changes, said=one.said) for one in lines]


@router.post("/findings/history", status_code=201)
@connected
def remark(audit: Audit, who: Who, wanted: NewRemark) -> RemarkView:
    """Say something about a finding; it stays in its history."""
    made = Remark.create(
        audit=audit,
        finding=wanted.finding,
        said=wanted.said,
        author=who.identity.signed(wanted.author),
        created=datetime.now(UTC),
    )
    return RemarkView(created=made.created, author=made.author, changes={}, said=made.said)


@router.put("/findings/gathering", status_code=204)
@connected
def gather_apart(audit: Audit, who: Who, saw: Seeing, wanted: Gathering) -> None:
    """Take a part out of the fact that it was gathered into, or put it back."""
    audit = held(audit)
    saw.still(audit, "meaning", "table", "rules")
    author = who.identity.signed(wanted.author)
    mine = (TakenApart.audit == audit) & (TakenApart.finding == wanted.finding)
    before = TakenApart.select().where(mine).exists()
    if before == wanted.apart:
        return
    if wanted.apart:
        TakenApart.create(audit=audit, finding=wanted.finding, author=author)
    else:
        TakenApart.delete().where(mine).execute()
    said = "Taken out of what it was gathered with." if wanted.apart else "Put back with what it is gathered with."
    Remark.create(audit=audit, finding=wanted.finding, said=said, author=author, created=datetime.now(UTC))


@router.post("/findings/raised", status_code=201)
@connected
def raise_finding(audit: Audit, who: Who, saw: Seeing, wanted: NewFinding) -> str:
    """Raise a finding by hand on a figure; its name."""
    saw.still(held(audit), "meaning", "table", "rules")
    author = who.identity.signed(wanted.author)
    made = Raised.create(
        audit=audit,
        statement=wanted.statement,
        evidence=evidence_of(audit, wanted.key),
        context=wanted.context.model_dump(mode="json"),
        author=author,
        created=datetime.now(UTC),
    )
    name = raised_name(made)
    Remark.create(audit=audit, finding=name, said="Raised by hand.", author=author, created=datetime.now(UTC))
    return name
