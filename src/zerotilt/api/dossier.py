"""Kept evidence and its notes; reports."""

from __future__ import annotations

from fastapi import APIRouter, HTTPException
from fastapi.responses import FileResponse
from pydantic import BaseModel, Field

from zerotilt.api.desk import TheDesk, connected, identifier, ready
from zerotilt.api.views import KeptView, ReportView, TaskView, kept
from zerotilt.core.spec import Context, Spec
from zerotilt.store.records import Audit, EvidenceRow, Kept, Report

router = APIRouter(prefix="/api/audits/{audit_id}", tags=["dossier"])
REPORT_POLICY = "default-src 'none'; style-src 'unsafe-inline'; img-src data:; frame-ancestors 'self'; sandbox"


class Keep(BaseModel):
    key: str
    context: Context


class Note(BaseModel):
    note: str | None = Field(default=None, max_length=20_000)
    removed: bool | None = None


@router.get("/dossier")
@connected
def dossier(audit: Audit) -> list[KeptView]:
    if audit.spec is None:
        return []
    spec = Spec.model_validate(audit.spec)
    rows = (
        Kept.select(Kept, EvidenceRow)
        .join(EvidenceRow)
        .where((Kept.audit == audit) & ~Kept.removed)
        .order_by(Kept.created)
    )
    return [kept(row, spec) for row in rows]


@router.post("/dossier", status_code=201)
@connected
def keep(audit: Audit, wanted: Keep) -> KeptView:
    """Keep evidence; keeping the same twice gives the item that is there."""
    if EvidenceRow.get_or_none(EvidenceRow.key == wanted.key) is None:
        raise HTTPException(404, "There is no such evidence.")
    found = Kept.get_or_none((Kept.audit == audit) & (Kept.evidence == wanted.key) & ~Kept.removed)
    found = found or Kept.create(audit=audit, evidence=wanted.key, context=wanted.context.model_dump(mode="json"))
    return _view(audit, found.id)


@router.patch("/dossier/{kept_id}")
@connected
def change(audit: Audit, kept_id: str, wanted: Note) -> KeptView:
    """Write the note, or take the item out and put it back; nothing is deleted."""
    changes = wanted.model_dump(exclude_none=True)
    if changes:
        Kept.update(**changes).where((Kept.id == identifier(kept_id)) & (Kept.audit == audit)).execute()
    return _view(audit, identifier(kept_id))


def _view(audit: Audit, kept_id) -> KeptView:
    row = Kept.get_or_none((Kept.id == kept_id) & (Kept.audit == audit))
    if row is None:
        raise HTTPException(404, "The dossier has no such item.")
    return kept(row, Spec.model_validate(audit.spec))


@router.get("/reports")
@connected
def reports(audit: Audit) -> list[ReportView]:
    return [ReportView.of(report) for report in audit.reports.order_by(Report.number)]


@router.post("/reports", status_code=202)
@connected
def write_report(audit: Audit, desk: TheDesk, context: Context) -> TaskView:
    task = desk.board.report(ready(audit), context)
    return TaskView.of(type(task).get_by_id(task.id))


@router.get("/reports/{number}", response_class=FileResponse)
@connected
def report(audit: Audit, desk: TheDesk, number: int) -> FileResponse:
    path = desk.files.path(_numbered(audit, number).html_digest)
    return FileResponse(path, media_type="text/html", headers={"Content-Security-Policy": REPORT_POLICY})


@router.get("/reports/{number}/audit.json", response_class=FileResponse)
@connected
def report_numbers(audit: Audit, desk: TheDesk, number: int) -> FileResponse:
    path = desk.files.path(_numbered(audit, number).json_digest)
    return FileResponse(path, media_type="application/json", filename=f"audit-{number}.json")


def _numbered(audit: Audit, number: int) -> Report:
    found = Report.get_or_none((Report.audit == audit) & (Report.number == number))
    if found is None:
        raise HTTPException(404, f"This audit has no report {number}.")
    return found
