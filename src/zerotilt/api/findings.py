"""Findings: what the evidence says that someone should decide about, and what was decided."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from zerotilt.api.desk import TheDesk, connected, held
from zerotilt.core.evidence import Evidence
from zerotilt.core.findings import Finding
from zerotilt.core.method import Area
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Context, Expected, Spec
from zerotilt.store.records import Audit, Judgement
from zerotilt.tasks.board import Board

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


class Expect(BaseModel):
    feature: str
    expected: Expected | None


def findings_of(audit: Audit, board: Board, context: Context) -> list[FindingView]:
    """The findings of what has been read in a context; nothing is computed."""
    if audit.spec is None or not audit.ready:
        return []
    spec = Spec.model_validate(audit.spec)
    judged = {one.finding: one for one in audit.judgements}
    found = []
    for method in METHODS.values():
        settings = method.unasked(spec) if method.findings else None
        row = board.known(audit, context, method.name, dict(settings)) if settings is not None else None
        if row is None:
            continue
        evidence = Evidence.model_validate(row.body)
        found += [
            FindingView(
                **one.model_dump(),
                area=method.area,
                part=method.part,
                evidence=evidence.key,
                decision=judged[one.name].decision if one.name in judged else "open",
                reason=judged[one.name].reason if one.name in judged else "",
            )
            for one in evidence.found(spec)
        ]
    return found


@router.post("/findings")
@connected
def read_findings(audit: Audit, desk: TheDesk, context: Context) -> list[FindingView]:
    return findings_of(audit, desk.board, context)


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


@router.put("/expectations")
@connected
def expect(audit: Audit, wanted: Expect) -> Spec:
    """Set or clear the direction that is expected of a feature; no number changes by it."""
    audit = held(audit)
    if audit.spec is None:
        raise Refused("The columns have no meaning yet.", todo="Finish Intake first.")
    spec = Spec.model_validate(audit.spec)
    spec.column(wanted.feature)
    columns = tuple(
        column.model_copy(update={"expected": wanted.expected}) if column.name == wanted.feature else column
        for column in spec.columns
    )
    changed = spec.model_copy(update={"columns": columns})
    audit.spec = changed.model_dump(mode="json")
    audit.version += 1
    audit.save(only=[Audit.spec, Audit.version])
    return changed
