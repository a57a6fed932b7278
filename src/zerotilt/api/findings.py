"""Findings: what the evidence says that someone should decide about, gathered into facts; and what was decided."""

from __future__ import annotations

import re
from collections import Counter
from datetime import UTC, date, datetime
from typing import Annotated

from fastapi import APIRouter, HTTPException, Query
from pydantic import BaseModel, Field, StringConstraints

from zerotilt.api.desk import Desk, Seeing, TheDesk, connected, held
from zerotilt.api.identity import Who
from zerotilt.api.listed import FindingView, by_hand, findings_of
from zerotilt.api.readings import evidence_of
from zerotilt.core import words
from zerotilt.core.evidence import Evidence
from zerotilt.core.findings import Fact, Standing, gathered
from zerotilt.core.meaning import Context, Spec
from zerotilt.core.refusal import Refused
from zerotilt.store import shelf
from zerotilt.store.decided import Seen, decide, raised_name
from zerotilt.store.records import Audit, EvidenceRow, Raised, Remark, TakenApart, own
from zerotilt.store.state import ChangedMeanwhile
from zerotilt.tasks.board import changes_of, model_of, now_of

router = APIRouter(prefix="/api/audits/{audit_id}", tags=["findings"])
Name = Annotated[str, StringConstraints(min_length=1, max_length=2_000)]
Said = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=20_000)]
Author = Annotated[str, StringConstraints(strip_whitespace=True, max_length=200)]


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
