"""Background work: look, follow, cancel."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator
from datetime import UTC, datetime, timedelta

from fastapi import APIRouter, HTTPException
from sse_starlette import EventSourceResponse

from zerotilt.api.desk import PATIENCE, connected, identifier
from zerotilt.api.views import TaskView
from zerotilt.store.database import Unreachable, patiently
from zerotilt.store.records import ACTIVE, Audit, Task

router = APIRouter(prefix="/api", tags=["tasks"])
LOOK_SECONDS = 0.15
RECENT = timedelta(seconds=20)


@router.get("/tasks/{task_id}")
@connected
def task(task_id: str) -> TaskView:
    return TaskView.of(_found(task_id))


@router.post("/tasks/{task_id}/cancel")
@connected
def cancel(task_id: str) -> TaskView:
    """Ask a task to end; work under way is stopped within a second."""
    Task.update(cancel=True).where((Task.id == identifier(task_id)) & Task.state.in_(ACTIVE)).execute()
    Task.update(state="cancelled", finished=datetime.now(UTC)).where(
        (Task.id == identifier(task_id)) & (Task.state == "queued")
    ).execute()
    return TaskView.of(_found(task_id))


def _found(task_id: str) -> Task:
    found = Task.get_or_none(Task.id == identifier(task_id))
    if found is None:
        raise HTTPException(404, "There is no such task.")
    return found


@router.get("/audits/{audit_id}/tasks")
@connected
def tasks(audit: Audit) -> list[TaskView]:
    return [TaskView.of(found) for found in _recent(str(audit.id))]


def _recent(audit_id: str) -> list[Task]:
    lately = Task.finished > datetime.now(UTC) - RECENT
    return list(
        Task.select()
        .where((Task.audit == audit_id) & (Task.state.in_(ACTIVE) | lately))
        .order_by(Task.created)
        .limit(200)
    )


@router.get("/audits/{audit_id}/events")
async def events(audit_id: str) -> EventSourceResponse:
    """Server-sent events: a task whenever it changes."""
    wanted = str(identifier(audit_id))

    async def changes() -> AsyncIterator[dict[str, str]]:
        seen: dict[str, str] = {}
        while True:
            try:
                found = await asyncio.to_thread(
                    lambda: patiently(lambda: [TaskView.of(task) for task in _recent(wanted)], PATIENCE)
                )
            except Unreachable:
                yield {"event": "trouble", "data": "The database does not answer; trying again."}
                continue
            for view in found:
                text = view.model_dump_json()
                if seen.get(view.id) != text:
                    seen[view.id] = text
                    yield {"event": "task", "data": text}
            if not seen:
                yield {"event": "quiet", "data": json.dumps({})}
                seen[""] = ""
            await asyncio.sleep(LOOK_SECONDS)

    return EventSourceResponse(changes(), ping=15)
