"""Findings: what the evidence says that someone should decide about, gathered into facts; and what was decided."""

from __future__ import annotations

from collections import Counter, OrderedDict
from datetime import UTC, date, datetime
from typing import Annotated

from fastapi import APIRouter, HTTPException, Query
from pydantic import BaseModel, Field, StringConstraints

from zerotilt.api.desk import Desk, TheDesk, connected, held
from zerotilt.api.identity import Who
from zerotilt.api.readings import evidence_of
from zerotilt.core.evidence import Evidence
from zerotilt.core.findings import Fact, Finding, Standing, gathered, standing_of
from zerotilt.core.meaning import Context, Spec, sha256
from zerotilt.core.method import Area
from zerotilt.core.methods import METHODS
from zerotilt.store import shelf
from zerotilt.store.decided import Seen, decide, raised_name, standing
from zerotilt.store.records import Audit, EvidenceRow, Raised, Remark, TakenApart, own

router = APIRouter(prefix="/api/audits/{audit_id}", tags=["findings"])
Name = Annotated[str, StringConstraints(min_length=1, max_length=2_000)]
Said = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=20_000)]
Author = Annotated[str, StringConstraints(strip_whitespace=True, max_length=200)]


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
    author: str = Field(description="Who raised it by hand; empty for what a method found")


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


def findings_of(audit: Audit, desk: Desk, context: Context) -> list[FindingView]:
    """The findings of what has been read in a context, and those raised by hand; nothing is computed."""
    if audit.spec is None or not audit.ready:
        return []
    spec = Spec.model_validate(audit.spec)
    meant = sha256(audit.spec)
    rows = {one.finding: one for one in audit.judgements}
    decided = {name: standing(row) for name, row in rows.items()}
    remarks = Counter(one.finding for one in audit.remarks.select(Remark.finding))
    apart = {one.finding for one in audit.apart}

    def seen(fact: Fact, area: Area, part: str, key: str, author: str = "") -> FindingView:
        return FindingView(
            **dict(fact),
            area=area,
            part=part,
            evidence=key,
            standing=standing_of(fact, decided),
            number=rows[fact.name].number if fact.name in rows else 0,
            remarks=remarks[fact.name],
            apart=fact.name in apart,
            author=author,
        )

    found = []
    asked = {one.name: one.unasked(spec) for one in METHODS.values() if one.findings}
    there = desk.board.there(
        audit, context, {name: dict(settings) for name, settings in asked.items() if settings is not None}
    )
    for name, key in there.items():
        facts = gathered(_given_rise_to(key, spec, meant, desk), apart)
        found += [seen(fact, METHODS[name].area, METHODS[name].part, key) for fact in facts]
    for one in audit.raised.select(Raised, EvidenceRow).join(EvidenceRow).order_by(Raised.created):
        if one.evidence.method in METHODS:
            method = METHODS[one.evidence.method]
            found.append(seen(_by_hand(one), method.area, method.part, one.evidence.key, one.author))
    return found


def _by_hand(one: Raised) -> Fact:
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
def judge(audit: Audit, desk: TheDesk, who: Who, wanted: Decided) -> int:
    """Write what was decided about a finding, why, and who sees to it; the number of this decision."""
    now = Standing(**{name: getattr(wanted, name) for name in Standing.model_fields})
    seen = _seen(audit, desk, wanted.finding, wanted.evidence) if wanted.evidence else None
    return decide(held(audit), wanted.finding, now, who.identity.signed(wanted.author), wanted.read, seen)


def _seen(audit: Audit, desk: Desk, finding: str, key: str) -> Seen:
    """What a finding is, in the evidence that it is decided on; a fact without parts where nothing of it is there any more."""
    row = EvidenceRow.get_or_none(EvidenceRow.key == key)
    if row is None or row.body["digests"]["table"] not in {one.digest for one in audit.tables}:
        raise HTTPException(404, "There is no such evidence.")
    own(audit, key)  # another audit of the same table may have asked for it first
    found = Evidence.model_validate(shelf.whole(row, desk.files))
    facts = gathered(found.findings(Spec.model_validate(audit.spec)), {one.finding for one in audit.apart})
    facts += tuple(_by_hand(one) for one in audit.raised)
    return Seen(
        fact=next((one for one in facts if one.name == finding), NOTHING),
        method=found.method,
        evidence=key,
        digests=found.digests,
        context=found.context,
        ending=found.ending,
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
def gather_apart(audit: Audit, who: Who, wanted: Gathering) -> None:
    """Take a part out of the fact that it was gathered into, or put it back."""
    audit = held(audit)
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
def raise_finding(audit: Audit, who: Who, wanted: NewFinding) -> str:
    """Raise a finding by hand on a figure; its name."""
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
