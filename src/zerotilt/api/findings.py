"""Findings: what the evidence says that someone should decide about, and what was decided."""

from __future__ import annotations

from collections import OrderedDict
from datetime import UTC, datetime
from typing import Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from zerotilt.api.desk import Desk, TheDesk, connected
from zerotilt.core.evidence import Evidence
from zerotilt.core.findings import Finding
from zerotilt.core.meaning import Context, Spec, sha256
from zerotilt.core.method import Area
from zerotilt.core.methods import METHODS
from zerotilt.store import shelf
from zerotilt.store.records import Audit, EvidenceRow, Judgement

router = APIRouter(prefix="/api/audits/{audit_id}", tags=["findings"])
Decision = Literal["open", "accepted", "to mend", "no concern"]


class FindingView(Finding):
    area: Area
    part: str = Field(description="Of its sheet; the first when empty")
    evidence: str = Field(description="Key of the evidence it rests on")
    decision: Decision
    reason: str


class Judged(BaseModel):
    finding: str = Field(min_length=1, max_length=2_000)
    decision: Decision
    reason: str = Field(default="", max_length=20_000)


def findings_of(audit: Audit, desk: Desk, context: Context) -> list[FindingView]:
    """The findings of what has been read in a context; nothing is computed."""
    if audit.spec is None or not audit.ready:
        return []
    spec = Spec.model_validate(audit.spec)
    meant = sha256(audit.spec)
    judged = {one.finding: one for one in audit.judgements}
    found = []
    for method in METHODS.values():
        settings = method.unasked(spec) if method.findings else None
        row = desk.board.known(audit, context, method.name, dict(settings)) if settings is not None else None
        if row is None:
            continue
        found += [
            FindingView(
                **one.model_dump(),
                area=method.area,
                part=method.part,
                evidence=row.key,
                decision=judged[one.name].decision if one.name in judged else "open",
                reason=judged[one.name].reason if one.name in judged else "",
            )
            for one in _given_rise_to(row, spec, meant, desk)
        ]
    return found


_KNOWN: OrderedDict[tuple[str, str], tuple[Finding, ...]] = OrderedDict()
_MOST_KNOWN = 256


def _given_rise_to(row: EvidenceRow, spec: Spec, meant: str, desk: Desk) -> tuple[Finding, ...]:
    """The findings of a piece of evidence under a meaning. Neither changes, so they are read out of it once."""
    key = (row.key, meant)
    found = _KNOWN.get(key)
    if found is None:
        _KNOWN[key] = found = tuple(Evidence.model_validate(shelf.whole(row, desk.files)).findings(spec))
        if len(_KNOWN) > _MOST_KNOWN:
            _KNOWN.popitem(last=False)
    return found


def read_so_far(audit: Audit, desk: Desk, context: Context) -> bool:
    """Whether the comparison of groups, from which most findings come, has been read in a context."""
    return audit.spec is not None and desk.board.known(audit, context, "tilt", {}) is not None


@router.post("/findings")
@connected
def read_findings(audit: Audit, desk: TheDesk, context: Context) -> list[FindingView]:
    return findings_of(audit, desk, context)


@router.put("/findings", status_code=204)
@connected
def judge(audit: Audit, wanted: Judged) -> None:
    """Write what was decided about a finding, and why."""
    Judgement.insert(
        audit=audit, finding=wanted.finding, decision=wanted.decision, reason=wanted.reason, changed=datetime.now(UTC)
    ).on_conflict(
        conflict_target=[Judgement.audit, Judgement.finding],
        preserve=[Judgement.decision, Judgement.reason, Judgement.changed],
    ).execute()
