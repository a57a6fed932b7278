"""Background work: look, follow, cancel."""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections.abc import AsyncIterator
from datetime import UTC, datetime, timedelta

from fastapi import APIRouter, HTTPException
from peewee import fn
from pydantic import BaseModel, Field
from sse_starlette import EventSourceResponse

from zerotilt.api.desk import PATIENCE, TheDesk, connected
from zerotilt.api.identity import Who, identifier
from zerotilt.api.views import TaskView
from zerotilt.store import state
from zerotilt.store.bell import ENDED, ring
from zerotilt.store.database import Unreachable, patiently
from zerotilt.store.records import ACTIVE, Audit, Task

router = APIRouter(prefix="/api", tags=["tasks"])
LOOK_SECONDS, IDLE_SECONDS = 0.15, 0.3
"""Between two looks at the work of an audit: while some is under way, and while none is."""
RECENT = timedelta(seconds=20)


@router.get("/tasks/{task_id}")
@connected
def task_of_no_audit(task_id: str) -> TaskView:
    """Work that belongs to no audit: making the demo."""
    return TaskView.of(_found(task_id, None))


@router.post("/tasks/{task_id}/cancel")
@connected
def cancel_of_no_audit(task_id: str) -> TaskView:
    return _cancelled(_found(task_id, None))


@router.get("/audits/{audit_id}/tasks/{task_id}")
@connected
def task(audit: Audit, task_id: str) -> TaskView:
    return TaskView.of(_found(task_id, audit))


@router.post("/audits/{audit_id}/tasks/{task_id}/cancel")
@connected
def cancel(audit: Audit, task_id: str) -> TaskView:
    """Ask a task to end; work under way is stopped within a second."""
    return _cancelled(_found(task_id, audit))


@router.post("/audits/{audit_id}/tasks/{task_id}/leave")
@connected
def leave(audit: Audit, task_id: str) -> TaskView:
    """Say that nobody looks any more: what has not begun is dropped, what is under way steps back behind the rest."""
    task = _found(task_id, audit)
    if task.kind == "evidence":
        Task.update(unwatched=True).where((Task.id == task.id) & Task.state.in_(ACTIVE)).execute()
        Task.update(state="dropped", finished=datetime.now(UTC)).where(
            (Task.id == task.id) & (Task.state == "queued")
        ).execute()
    return TaskView.of(Task.get_by_id(task.id))


def _cancelled(task: Task) -> TaskView:
    Task.update(cancel=True).where((Task.id == task.id) & Task.state.in_(ACTIVE)).execute()
    Task.update(state="cancelled", finished=datetime.now(UTC)).where(
        (Task.id == task.id) & (Task.state == "queued")
    ).execute()
    ring(ENDED, str(task.id))
    return TaskView.of(Task.get_by_id(task.id))


def _found(task_id: str, audit: Audit | None) -> Task:
    """A task of one audit, or of none; another's is as if it were not there."""
    mine = Task.audit.is_null() if audit is None else Task.audit == audit
    found = Task.get_or_none((Task.id == identifier(task_id)) & mine)
    if found is None:
        raise HTTPException(404, "There is no such task.")
    return found


@router.get("/audits/{audit_id}/tasks")
@connected
def tasks(audit: Audit) -> list[TaskView]:
    return [TaskView.of(found) for found in _recent(str(audit.id))]


def _recent(audit_id: str) -> list[Task]:
    lately = Task.finished > datetime.now(UTC) - RECENT
    # of what the work starts from only the method is shown; the rest is large, and read several times a second
    shown = [one for one in Task._meta.sorted_fields if one is not Task.payload]  # type: ignore[attr-defined]
    return list(
        Task.select(*shown, fn.jsonb_build_object("method", Task.payload["method"]).alias("payload"))
        .where((Task.audit == audit_id) & (Task.state.in_(ACTIVE) | lately))
        .order_by(Task.created)
        .limit(200)
    )


def _standing(audit_id: str) -> tuple[list[TaskView], state.Tags | None]:
    """The work of an audit and its state; None once it is deleted, until it is brought back."""
    if not Audit.select().where((Audit.id == audit_id) & Audit.deleted.is_null()).exists():
        return [], None
    return [TaskView.of(task) for task in _recent(audit_id)], state.tags(audit_id)


@router.get("/audits/{audit_id}/events")
async def events(audit_id: str, who: Who, desk: TheDesk) -> EventSourceResponse:
    """Server-sent events: a task whenever it changes, the audit's state whenever that does, and that it was deleted."""
    wanted = str((await asyncio.to_thread(lambda: patiently(lambda: who.audit(audit_id), PATIENCE))).id)

    async def changes() -> AsyncIterator[dict[str, str]]:
        seen: dict[str, str] = {}
        standing: dict[str, str] | None = {}
        while True:
            try:
                found, now = await asyncio.to_thread(lambda: patiently(lambda: _standing(wanted), PATIENCE))
            except Unreachable:
                yield {"event": "trouble", "data": "The database does not answer; trying again."}
                continue
            if now is None:
                if standing is not None:
                    yield {"event": "gone", "data": json.dumps({})}
                standing = None
                await asyncio.sleep(IDLE_SECONDS)
                continue
            if now != standing:
                standing = now
                yield {"event": "state", "data": StateView.of(now).model_dump_json()}
            for view in found:
                text = view.model_dump_json()
                if seen.get(view.id) != text:
                    seen[view.id] = text
                    yield {"event": "task", "data": text}
            if not seen:
                yield {"event": "quiet", "data": json.dumps({})}
                seen[""] = ""
            active = any(view.state in ACTIVE for view in found)
            await desk.changes.wait(wanted, LOOK_SECONDS if active else IDLE_SECONDS)

    return EventSourceResponse(changes(), ping=15)


class StateView(BaseModel):
    state: str = Field(description="Another one when anything has changed")
    basis: str = Field(default="", description="The same without the findings that were measured")
    tags: dict[str, str] = Field(default={}, description="The same part by part, of records")
    clock: int = Field(default=0, description="Greater in a later state, whichever is heard of first")

    @classmethod
    def of(cls, tags: state.Tags) -> StateView:
        return cls(state=state.together(tags), basis=state.basis(tags), tags=tags, clock=tags.clock)


@router.get("/audits/{audit_id}/state")
@connected
def state_of(audit: Audit) -> StateView:
    """The state of an audit: what was read under another one may be told otherwise by now."""
    return StateView.of(state.tags(audit))


@router.get("/state")
@connected
def state_of_all() -> StateView:
    """The state of the list of audits."""
    return StateView(state=state.of_all())


@router.get("/events")
async def events_of_all(who: Who, desk: TheDesk) -> EventSourceResponse:
    """Server-sent events: the state of the list of audits whenever it changes."""

    async def changes() -> AsyncIterator[dict[str, str]]:
        standing = ""
        while True:
            with contextlib.suppress(Unreachable):
                now = await asyncio.to_thread(lambda: patiently(state.of_all, PATIENCE))
                if now != standing:
                    standing = now
                    yield {"event": "state", "data": json.dumps({"state": now})}
            await desk.changes.wait("", IDLE_SECONDS)

    return EventSourceResponse(changes(), ping=15)
