"""The worker: takes tasks from the queue, runs each in a child process, keeps its record true."""

from __future__ import annotations

import logging
import tempfile
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from peewee import SQL

from zerotilt.core.refusal import Cancelled, Refused
from zerotilt.core.spec import Context, Spec
from zerotilt.store.check import discard_unowned
from zerotilt.store.database import Unreachable, database, patiently
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit, EvidenceRow, ModelVersion, Report, TableFile, Task
from zerotilt.tasks import child
from zerotilt.tasks.board import Board, kept_items, next_number
from zerotilt.tasks.queue import Queue, Turn

log = logging.getLogger(__name__)
STALE = timedelta(seconds=6)
SWEEP_SECONDS = 2.0
MOST_ATTEMPTS = 3
WRITE_SECONDS = 0.3
PATIENCE = 120.0


def now() -> datetime:
    return datetime.now(UTC)


class Worker:
    """Performs the tasks of a queue."""

    def __init__(self, queue: Queue, files: FileStore):
        self._files = files
        self._queue = queue
        self._board = Board(queue)
        queue.perform = self.perform

    def perform(self, task_id: str) -> None:
        """Run one task to its end: done, failed or cancelled. Repeating is harmless."""
        task = patiently(lambda: _claim(task_id), PATIENCE)
        if task is None:
            return
        log.info("task %s %s: attempt %d", task.kind, task_id, task.attempts)
        try:
            if task.attempts > MOST_ATTEMPTS:
                raise Refused(
                    f"The worker died {MOST_ATTEMPTS} times while doing this.",
                    todo="Read fewer rows, or check the model file.",
                )
            with tempfile.TemporaryDirectory(prefix="zt-") as scratch:
                arguments = patiently(lambda: self._arguments(task), PATIENCE)
                result = child.run(task.kind, arguments, Path(scratch), _Ticker(task))
                kept = self._keep_files(task.kind, result)
            patiently(lambda: self._finish(task, kept), PATIENCE)
        except Cancelled:
            self._end(task, "cancelled")
        except Refused as problem:
            self._end(task, "failed", problem.as_dict())
        except Unreachable:
            log.error("task %s: the database did not come back; the task will be taken up again", task_id)
        except Exception as problem:
            log.exception("task %s failed", task_id)
            self._end(
                task,
                "failed",
                Refused(
                    f"Something unexpected went wrong: {problem}", todo="Try again; the log has the details."
                ).as_dict(),
            )

    def _end(self, task: Task, state: str, error: dict | None = None) -> None:
        """Write that a task ended without a result; an upload that came to nothing is removed."""

        def write() -> None:
            Task.update(state=state, error=error, finished=now()).where(Task.id == task.id).execute()
            if "digest" in task.payload:
                discard_unowned(self._files, task.payload["digest"])

        try:
            patiently(write, PATIENCE)
        except Unreachable:
            log.error("task %s: its end (%s) could not be written; it will be taken up again", task.id, state)

    def _arguments(self, task: Task) -> dict[str, Any]:
        """The payload with digests turned into paths, and what only the records know."""
        arguments = dict(task.payload)
        for name in ("table", "model", "alongside"):
            if arguments.get(f"{name}_digest"):
                arguments[f"{name}_path"] = str(self._files.path(arguments[f"{name}_digest"]))
        if "digest" in arguments:
            arguments["path"] = str(self._files.path(arguments["digest"]))
        if task.kind == "report":
            audit = task.audit
            of_table = SQL("body->'digests'->>'table' = %s", (arguments["table_digest"],))
            rows = EvidenceRow.select().where(of_table & (EvidenceRow.method != "cases"))
            arguments |= {
                "known": [row.body for row in rows],
                "kept": kept_items(audit),
                "number": next_number(audit),
                "judgements": {one.finding: (one.decision, one.reason) for one in audit.judgements},
            }
        return arguments

    def _keep_files(self, kind: str, result: dict[str, Any]) -> dict[str, Any]:
        """Move files from scratch into the store; the result with digests in their place. Bytes before rows."""
        kept = dict(result)
        for name in ("file", "html", "json"):
            if name in kept:
                kept[f"{name}_bytes"] = Path(kept[name]).stat().st_size
                kept[name] = self._files.take(Path(kept[name]))
        for audit in kept.get("audits", []):
            audit["models"] = [model | {"file": self._files.take(Path(model["file"]))} for model in audit["models"]]
        return kept

    def _finish(self, task: Task, result: dict[str, Any]) -> None:
        """One transaction: the records of the result, and the task's end."""
        with database.atomic():
            for body in result.pop("evidence", []):
                EvidenceRow.insert(key=body["key"], method=body["method"], body=body).on_conflict_ignore().execute()
            outcome = FINISHERS[task.kind](self, task, result) if task.kind in FINISHERS else {}
            Task.update(state="done", result=outcome, finished=now(), done=Task.total).where(
                Task.id == task.id
            ).execute()

    def _finish_table(self, task: Task, result: dict[str, Any]) -> dict[str, Any]:
        payload = task.payload
        before = task.audit.tables.order_by(TableFile.created.desc()).first()
        spec = _carried_over(task.audit.spec, before.profile if before else None, result)
        TableFile.create(
            audit=task.audit,
            name=payload["name"],
            raw_digest=payload["digest"],
            digest=result["file"],
            bytes=payload["bytes"],
            profile=result["profile"],
        )
        Audit.update(spec=spec, ready=False).where(Audit.id == task.audit_id).execute()
        return {"rows": result["profile"]["rows"]}

    def _finish_model(self, task: Task, result: dict[str, Any]) -> dict[str, Any]:
        model = ModelVersion.create(
            audit=task.audit, name=task.payload["name"], digest=task.payload["digest"], card=result["card"]
        )
        return {"model": str(model.id)}

    def _finish_check(self, task: Task, result: dict[str, Any]) -> dict[str, Any]:
        Audit.update(ready=True).where(Audit.id == task.audit_id).execute()
        return {name: result[name] for name in ("counts", "unknown_outcomes", "classes")}

    def _finish_report(self, task: Task, result: dict[str, Any]) -> dict[str, Any]:
        report = Report.create(
            audit=task.audit,
            number=next_number(task.audit),
            html_digest=result["html"],
            json_digest=result["json"],
            flagged=result["flagged"],
        )
        return {"number": report.number}

    def _finish_demo(self, task: Task, result: dict[str, Any]) -> dict[str, Any]:
        began = now()  # one transaction has one time; the audits keep their order all the same
        opened = [
            self._demo_audit(made, result, began + timedelta(milliseconds=place))
            for place, made in enumerate(result["audits"])
        ]
        for audit, first in opened:
            self._board.check(audit, first)
        for audit, first in opened:
            self._warm(audit, first)
        return {"audit": str(opened[0][0].id)}

    def _demo_audit(self, made: dict[str, Any], result: dict[str, Any], created: datetime) -> tuple[Audit, Context]:
        """One audit of the demo's table, and the context it opens with."""
        audit = Audit.create(title=made["title"], demo=True, spec=made["spec"], ready=True, created=created)
        TableFile.create(
            audit=audit,
            name="claims.parquet",
            raw_digest=result["file"],
            digest=result["file"],
            bytes=result["file_bytes"],
            profile=result["profile"],
        )
        models = [
            ModelVersion.create(
                audit=audit,
                name=model["name"],
                digest=model["file"],
                card=model["card"],
                created=created + timedelta(milliseconds=place),
            )
            for place, model in enumerate(made["models"])
        ]
        return audit, Context(model=str(models[0].id))

    def _warm(self, audit: Audit, context: Context) -> None:
        """Queue what the sheets open with, so that the first visitor does not wait."""
        event = audit.spec["task"] == "binary"
        for method in ("performance", "tilt", "response", "cases", "drivers"):
            if event or method != "cases":
                self._board.reading(audit, context, method, {}, turn=Turn.ahead)
        if expected := Spec.model_validate(audit.spec).expectations:
            self._board.reading(audit, context, "expectations", {"expected": expected}, turn=Turn.ahead)

    def sweep(self) -> int:
        """Take up again what a dead worker left; how many tasks."""
        with database.connection_context():
            left = list(
                Task.select().where(
                    ((Task.state == "running") & (Task.heartbeat < now() - STALE))
                    | ((Task.state == "queued") & (Task.queued < now() - STALE))
                )
            )
            if any(task.state == "queued" for task in left) and self._queue.huey.pending_count():
                left = [task for task in left if task.state == "running"]  # the others wait their turn
            for task in left:
                with database.atomic():
                    Task.update(state="queued", queued=now()).where(
                        (Task.id == task.id) & (Task.state == task.state)
                    ).execute()
                    self._queue.send(str(task.id))
        return len(left)

    def keep_sweeping(self, stop: threading.Event) -> None:
        while not stop.wait(SWEEP_SECONDS):
            try:
                self.sweep()
            except Exception as problem:  # the database may be away for a while; the next sweep tries again
                log.warning("sweep failed: %s", problem)


FINISHERS: dict[str, Callable[[Worker, Task, dict], dict]] = {
    "read_table": Worker._finish_table,
    "inspect_model": Worker._finish_model,
    "check": Worker._finish_check,
    "report": Worker._finish_report,
    "demo": Worker._finish_demo,
}


def _carried_over(earlier: dict | None, profile: dict | None, result: dict[str, Any]) -> dict[str, Any]:
    """The guesses for a new table, with what a person had entered for columns that are still there.

    A column that is now stored otherwise keeps its role and takes the new kind.
    """
    if earlier is None or profile is None:
        return result["spec"]
    entered = {column["name"]: column for column in earlier["columns"]}
    stored = {column["name"]: column["stored"] for column in profile["columns"]}
    now_stored = {column["name"]: column["stored"] for column in result["profile"]["columns"]}
    names = set(now_stored)
    if not names & set(entered):
        return result["spec"]
    columns = []
    for guess in result["spec"]["columns"]:
        kept = entered.get(guess["name"])
        if kept is not None and stored.get(guess["name"]) != now_stored[guess["name"]]:
            kept = kept | {"kind": guess["kind"], "order": guess["order"], "cuts": []}
        columns.append(kept or guess)
    crossings = [crossing for crossing in earlier["intersections"] if set(crossing) <= names]
    inputs = [name for name in earlier["model_inputs"] if name in names]
    return earlier | {"columns": columns, "intersections": crossings, "model_inputs": inputs}


def _claim(task_id: str) -> Task | None:
    """Take a queued task; None when it has ended or is another's."""
    with database.atomic():
        taken = (
            Task.update(state="running", heartbeat=now(), started=now(), attempts=Task.attempts + 1)
            .where((Task.id == task_id) & (Task.state == "queued") & ~Task.cancel)
            .execute()
        )
        if not taken:
            Task.update(state="cancelled", finished=now()).where(
                (Task.id == task_id) & (Task.state == "queued") & Task.cancel
            ).execute()
            return None
        task = Task.get_by_id(task_id)
        _ = task.audit  # read here, while connected
        return task


class _Ticker:
    """Writes progress and heartbeat now and then, and reads the wish to cancel. A database that is away is waited out."""

    def __init__(self, task: Task):
        self._task = task
        self._last = 0.0
        self._stretch = ("", 0.0)

    def __call__(self, done: int, total: int, what: str) -> bool:
        if time.monotonic() - self._last < WRITE_SECONDS:
            return True
        self._last = time.monotonic()
        if what != self._stretch[0]:
            self._stretch = (what, self._last)
        try:
            return patiently(lambda: self._write(done, total, what), 0.5)
        except Unreachable:
            return True

    def _write(self, done: int, total: int, what: str) -> bool:
        spent = self._last - self._stretch[1]
        left = spent * (total - done) / done if done and spent else None
        Task.update(done=done, total=total, what=what, seconds_left=left, heartbeat=now()).where(
            Task.id == self._task.id
        ).execute()
        return not Task.select(Task.cancel).where(Task.id == self._task.id).scalar()
