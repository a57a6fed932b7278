"""Audits and their intake: table, model, roles."""

from __future__ import annotations

import asyncio

from fastapi import APIRouter, HTTPException, Query, Request
from pydantic import BaseModel, Field
from starlette.requests import ClientDisconnect

from zerotilt.api.desk import PATIENCE, Desk, TheDesk, audit_named, connected
from zerotilt.api.views import AuditLine, AuditView, TaskView, line
from zerotilt.core.csvfile import Dialect
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Context, Spec
from zerotilt.store.database import patiently
from zerotilt.store.records import Audit
from zerotilt.tasks.board import current_table

router = APIRouter(prefix="/api", tags=["audits"])
MOST_TABLE_BYTES = 8 * 2**30
MOST_MODEL_BYTES = 512 * 2**20


class NewAudit(BaseModel):
    title: str = Field(min_length=1, max_length=200)


@router.get("/health")
@connected
def health() -> dict[str, str]:
    return {"state": "running"}


@router.get("/audits")
@connected
def audits() -> list[AuditLine]:
    return [line(audit) for audit in Audit.select().order_by(Audit.created)]


@router.post("/audits", status_code=201)
@connected
def new_audit(new: NewAudit) -> AuditLine:
    audit = Audit.create(title=new.title.strip() or "Untitled audit")
    return line(Audit.get_by_id(audit.id))


@router.post("/demo", status_code=202)
@connected
def demo(desk: TheDesk) -> TaskView:
    return TaskView.of(desk.board.submit("demo", "Demo audit", {}, None, "demo"))


@router.get("/audits/{audit_id}")
@connected
def audit(audit: Audit) -> AuditView:
    return AuditView.whole(audit)


async def _received(request: Request, desk: Desk, most: int) -> tuple[str, int]:
    """Stream a request's body into the store; its digest and size. A broken-off upload leaves nothing."""
    incoming = desk.files.receive(most)
    announced = request.headers.get("content-length")
    try:
        with incoming:
            async for piece in request.stream():
                await asyncio.to_thread(incoming.write, piece)
            if announced is not None and incoming.bytes != int(announced):
                raise Refused("The upload broke off before the end.", todo="Upload the file again.")
            if not incoming.bytes:
                raise Refused("The file is empty.", todo="Choose a file with something in it.")
            return await asyncio.to_thread(incoming.keep), incoming.bytes
    except ClientDisconnect:
        raise HTTPException(400, "The upload broke off; nothing of it was kept.") from None


@router.put("/audits/{audit_id}/table", status_code=202)
async def upload_table(
    audit_id: str, request: Request, desk: TheDesk, name: str = Query(min_length=1, max_length=255)
) -> TaskView:
    """The table file as the request's body; reading it is a task."""
    await asyncio.to_thread(_exists, audit_id)
    digest, size = await _received(request, desk, MOST_TABLE_BYTES)
    return await asyncio.to_thread(_submit, desk, audit_id, "read_table", f"Reading {name}", name, digest, size)


@router.put("/audits/{audit_id}/models", status_code=202)
async def upload_model(
    audit_id: str, request: Request, desk: TheDesk, name: str = Query(min_length=1, max_length=255)
) -> TaskView:
    """The ONNX file as the request's body; looking into it is a task."""
    await asyncio.to_thread(_exists, audit_id)
    digest, size = await _received(request, desk, MOST_MODEL_BYTES)
    return await asyncio.to_thread(_submit, desk, audit_id, "inspect_model", f"Looking into {name}", name, digest, size)


def _exists(audit_id: str) -> Audit:
    """The audit, looked up before a long body is taken in."""
    return patiently(lambda: audit_named(audit_id), PATIENCE)


def _submit(desk: Desk, audit_id: str, kind: str, title: str, name: str, digest: str, size: int) -> TaskView:
    def submit() -> TaskView:
        task = desk.board.submit(kind, title, {"name": name, "digest": digest, "bytes": size}, audit_named(audit_id))
        return TaskView.of(type(task).get_by_id(task.id))

    return patiently(submit, PATIENCE)


class Reread(BaseModel):
    dialect: Dialect


@router.post("/audits/{audit_id}/table/reread", status_code=202)
@connected
def reread(audit: Audit, desk: TheDesk, how: Reread) -> TaskView:
    """Read the uploaded file again under a corrected dialect."""
    table = current_table(audit)
    payload = {
        "name": table.name,
        "digest": table.raw_digest,
        "bytes": table.bytes,
        "dialect": how.dialect.model_dump(),
    }
    return TaskView.of(desk.board.submit("read_table", f"Reading {table.name}", payload, audit))


@router.put("/audits/{audit_id}/spec")
@connected
def save_spec(audit: Audit, spec: Spec) -> AuditView:
    """Keep what the columns mean, finished or not, so that nothing entered is lost."""
    known = {column["name"] for column in current_table(audit).profile["columns"]}
    for column in spec.columns:
        if column.name not in known:
            raise Refused(f"The table has no column “{column.name}”.", where=f"column “{column.name}”")
    changed = audit.spec is None or Spec.model_validate(audit.spec).digest() != spec.digest()
    audit.spec = spec.model_dump(mode="json")
    audit.ready = audit.ready and not changed
    audit.save(only=[Audit.spec, Audit.ready])
    return AuditView.whole(Audit.get_by_id(audit.id))


class Finish(BaseModel):
    model: str | None = None


@router.post("/audits/{audit_id}/finish", status_code=202)
@connected
def finish(audit: Audit, desk: TheDesk, wanted: Finish) -> TaskView:
    """Try everything the roles promise on the real rows and score the model."""
    return TaskView.of(desk.board.check(audit, Context(model=wanted.model)))
