"""Audits and their intake: table, model, roles."""

from __future__ import annotations

import asyncio
import os
from datetime import UTC, datetime, timedelta

from fastapi import APIRouter, HTTPException, Query, Request
from pydantic import BaseModel
from starlette.requests import ClientDisconnect

from zerotilt.api.desk import PATIENCE, Desk, Seeing, TheDesk, connected, held
from zerotilt.api.identity import Who, identifier
from zerotilt.api.views import AuditView, TaskView
from zerotilt.core.csvdialect import Dialect
from zerotilt.core.inputs import input_named
from zerotilt.core.meaning import Context
from zerotilt.core.refusal import Refused
from zerotilt.store import removal
from zerotilt.store.check import lock_file
from zerotilt.store.database import database, patiently
from zerotilt.store.records import Audit, InputFile, ModelVersion
from zerotilt.tasks.board import current_table

router = APIRouter(prefix="/api", tags=["audits"])
OPENED_AGAIN = timedelta(minutes=1)
"""Within this time it is the same visit."""
MOST_TABLE_BYTES = 8 * 2**30
MOST_MODEL_BYTES = 512 * 2**20


@router.get("/health")
@connected
def health() -> dict[str, str]:
    """That the server answers, which one it is (the start command gave it this name and what comes next), and who runs models."""
    return {
        "state": "running",
        "instance": os.environ.get("ZT_INSTANCE", ""),
        "models": os.environ.get("ZT_MODELS", ""),
    }


@router.post("/demo", status_code=202)
@connected
def demo(desk: TheDesk) -> TaskView:
    return TaskView.of(desk.board.submit("demo", "Demo audit", {}, None, "demo"))


@router.get("/audits/{audit_id}")
@connected
def audit(audit: Audit) -> AuditView:
    now = datetime.now(UTC)
    if audit.opened is None or now - audit.opened > OPENED_AGAIN:
        Audit.update(opened=now).where(Audit.id == audit.id).execute()
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
    audit_id: str, who: Who, request: Request, desk: TheDesk, name: str = Query(min_length=1, max_length=255)
) -> TaskView:
    """The table file as the request's body; reading it is a task."""
    audit = await asyncio.to_thread(lambda: patiently(lambda: who.audit(audit_id), PATIENCE))
    digest, size = await _received(request, desk, MOST_TABLE_BYTES)
    return await asyncio.to_thread(_submit, desk, audit, "read_table", f"Reading {name}", name, digest, size)


@router.put("/audits/{audit_id}/models", status_code=202)
async def upload_model(
    audit_id: str, who: Who, request: Request, desk: TheDesk, name: str = Query(min_length=1, max_length=255)
) -> TaskView:
    """The ONNX file as the request's body; looking into it is a task."""
    audit = await asyncio.to_thread(lambda: patiently(lambda: who.audit(audit_id), PATIENCE))
    digest, size = await _received(request, desk, MOST_MODEL_BYTES)
    return await asyncio.to_thread(_submit, desk, audit, "inspect_model", f"Looking into {name}", name, digest, size)


@router.put("/audits/{audit_id}/inputs/{input_name}", status_code=202)
async def upload_input(
    audit_id: str,
    input_name: str,
    who: Who,
    request: Request,
    desk: TheDesk,
    name: str = Query(min_length=1, max_length=255),
) -> TaskView:
    """A file that some methods read besides table and model, as the request's body; looking into it is a task."""
    audit = await asyncio.to_thread(lambda: patiently(lambda: who.audit(audit_id), PATIENCE))
    found = input_named(input_name)
    digest, size = await _received(request, desk, found.most)
    more = {"input": found.name}
    return await asyncio.to_thread(_submit, desk, audit, "read_input", f"Looking into {name}", name, digest, size, more)


def _still(audit: Audit) -> Audit:
    """The audit, which may have been deleted while a long body was taken in."""
    found = Audit.get_or_none(Audit.id == audit.id)
    if found is None:
        raise HTTPException(404, "There is no such audit.")
    return found


def _submit(
    desk: Desk,
    audit: Audit,
    kind: str,
    title: str,
    name: str,
    digest: str,
    size: int,
    more: dict[str, str] | None = None,
) -> TaskView:
    def submit() -> TaskView:
        with database.atomic():
            lock_file(digest)
            if not desk.files.holds(digest):  # taken away between its upload and now
                raise Refused(
                    "The upload was overtaken by the removal of the same file.", todo="Upload the file again."
                )
            task = desk.board.submit(
                kind, title, {"name": name, "digest": digest, "bytes": size} | (more or {}), _still(audit)
            )
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


@router.delete("/audits/{audit_id}/table", status_code=204)
async def delete_table(audit_id: str, who: Who, desk: TheDesk) -> None:
    """Delete the audit's table and the meaning of its columns."""
    await asyncio.to_thread(desk.delete, lambda: removal.remove_table(held(who.audit(audit_id))))


@router.delete("/audits/{audit_id}/models/{model_id}", status_code=204)
async def delete_model(audit_id: str, model_id: str, who: Who, desk: TheDesk) -> None:
    """Delete a model version, with its decision rules."""

    def remove() -> list[str]:
        audit = held(who.audit(audit_id))
        found = ModelVersion.get_or_none((ModelVersion.id == identifier(model_id)) & (ModelVersion.audit == audit))
        if found is None:
            raise HTTPException(404, "There is no such model version.")
        return removal.remove_model(found)

    await asyncio.to_thread(desk.delete, remove)


@router.delete("/audits/{audit_id}/inputs/{input_name}", status_code=204)
async def delete_input(audit_id: str, input_name: str, who: Who, desk: TheDesk) -> None:
    """Delete a file that some methods read besides table and model."""

    def remove() -> list[str]:
        audit = held(who.audit(audit_id))
        if not audit.inputs.where(InputFile.input == input_name).exists():
            raise HTTPException(404, "The audit was given no such input.")
        return removal.remove_input(audit, input_name)

    await asyncio.to_thread(desk.delete, remove)


class Finish(BaseModel):
    model: str | None = None


@router.post("/audits/{audit_id}/finish", status_code=202)
@connected
def finish(audit: Audit, desk: TheDesk, saw: Seeing, wanted: Finish) -> TaskView:
    """Try everything the roles promise on the real rows and score the model."""
    saw.still(audit, "meaning", "table")
    return TaskView.of(desk.board.check(audit, Context(model=wanted.model)))
