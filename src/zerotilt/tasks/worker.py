"""The worker: takes tasks from the queue, runs each in a child process, keeps its record true."""

from __future__ import annotations

import contextlib
import logging
import os
import re
import shutil
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

from peewee import fn

from zerotilt.core.attached import digests_in
from zerotilt.core.inputs import path_of
from zerotilt.core.refusal import Cancelled, Refused
from zerotilt.readers.room import Room
from zerotilt.readers.watch import EndedFromOutside, HelperDied
from zerotilt.store import ledger, removal, shelf
from zerotilt.store.bell import CHANGED, ENDED, ring
from zerotilt.store.check import discard_unowned, sweep_unowned
from zerotilt.store.database import Unreachable, database, patiently
from zerotilt.store.files import FileStore
from zerotilt.store.records import FINDING, Task, own
from zerotilt.tasks import reporting
from zerotilt.tasks.board import Board
from zerotilt.tasks.expectation import QUICK_SECONDS, learn
from zerotilt.tasks.finishing import FINISHERS
from zerotilt.tasks.lane import Lane
from zerotilt.tasks.ownership import Superseded, claim, now, ours
from zerotilt.tasks.queue import Queue, Turn
from zerotilt.tasks.ticker import Ticker

log = logging.getLogger(__name__)
STALE = timedelta(seconds=6)
SWEEP_SECONDS = 2.0
FILES_SECONDS, FORGOTTEN = 30.0, 300.0
"""How often files without a record are looked for, and how old they are by then: more than twice the patience with which a
record is written."""
OWNED = re.compile(r"zt-(?:reader-)?(\d+)-")
"""Folders in scratch are named after the process that made them."""
LONG = timedelta(seconds=20)
"""After this time a wish comes before newer ones."""
MOST_ATTEMPTS, MOST_ENDED = 10, 3
"""A worker runs no model, and ends because it is ended: what it was doing is hardly to blame, and is taken up again for long.
What a job alone was ended at is tried a few times."""
PLACES, QUICK_PLACES, WAIT_SECONDS = 3, 2, 0.3
"""Tasks at a time: long ones, and beside them, before them on the cores, quick ones."""
CALM_SECONDS = 1.0
"""How long long work waits for quick work to be done."""
PATIENCE = 120.0


class Worker:
    """Performs the tasks of a queue."""

    def __init__(self, queue: Queue, files: FileStore, scratch: Path | None = None, structures: Path | None = None):
        self._files = files
        self._scratch = scratch
        self._places = threading.BoundedSemaphore(PLACES)
        self._quick_places = threading.BoundedSemaphore(QUICK_PLACES)
        self._ahead_place = threading.BoundedSemaphore(1)
        self._calm = threading.Condition()
        self._hurried = 0
        self._overdue = ""
        self._queue = queue
        self._room = Room(scratch, structures=structures)
        self._board = Board(queue)
        queue.perform = self.perform

    def perform(self, task_id: str) -> None:
        """Run one task to its end: done, failed or cancelled. Repeating is harmless.

        What is quick has places of its own; what may take long waits for one of a few, so that hanging models never take
        all there are; what nobody has asked for yet is made ready one after the other.
        """
        task = patiently(lambda: Task.get_or_none((Task.id == task_id) & (Task.state == "queued")), PATIENCE)
        if task is None:  # done already: asked for at once, and found in the queue later
            return
        ahead = task.unwatched
        quick = not ahead and task.expected is not None and task.expected <= QUICK_SECONDS
        place = self._ahead_place if ahead else self._quick_places if quick else self._places
        if not place.acquire(timeout=None if quick else WAIT_SECONDS):
            # one that has waited long stays before the others until a place is free; the rest lets through what is quick
            turn = _turn(task) if ahead else Turn.overdue if task_id == self._overdue else Turn.put_back
            patiently(lambda: self._back(task_id, turn), PATIENCE)
            return
        lane = Lane(place, quick, ahead)
        try:
            with self._hurry(quick):
                self._perform(task_id, lane)
        finally:
            lane.give_back()

    def at_once(self, arguments: dict[str, Any], seconds: float) -> dict[str, Any] | None:
        """A quick reading by a process that stands ready, kept nowhere yet; None where it is to go the long way."""
        if not self._quick_places.acquire(timeout=seconds / 4):
            return None
        try:
            with self._hurry(True), contextlib.suppress(Refused):
                return self._room.answer("evidence", self._with_files(arguments), seconds)
        finally:
            self._quick_places.release()
        return None

    @contextlib.contextmanager
    def _hurry(self, quick: bool) -> Iterator[None]:
        """Quick work under way is counted; long work lets it have the cores to itself before it begins, for a moment."""
        with self._calm:
            if not quick:
                self._calm.wait_for(lambda: not self._hurried, CALM_SECONDS)
            self._hurried += quick
        try:
            yield
        finally:
            with self._calm:
                self._hurried -= quick
                self._calm.notify_all()

    def _back(self, task_id: str, turn: Turn) -> None:
        """Every place is taken: the message goes back to the end of the queue."""
        with database.atomic():
            if Task.update(queued=now()).where((Task.id == task_id) & (Task.state == "queued")).execute():
                self._queue.send(task_id, turn)

    def _perform(self, task_id: str, lane: Lane) -> None:
        task = patiently(lambda: claim(task_id), PATIENCE)
        if task is None:
            return
        log.info("task %s %s: attempt %d", task.kind, task_id, task.attempts)
        try:
            if task.attempts > MOST_ATTEMPTS:
                raise Refused(
                    f"This was interrupted {MOST_ATTEMPTS} times, each time with the process that did it and other work.",
                    todo="Ask for it again when the machine is calm.",
                )
            ticker = Ticker(task, lane)
            with tempfile.TemporaryDirectory(prefix=f"zt-{os.getpid()}-", dir=self._scratch) as scratch:
                arguments = patiently(lambda: self._arguments(task, ticker), PATIENCE)
                if given := arguments.pop("given_digest", None):
                    # a copy: a reader reaches its scratch and no file of the store
                    source, copied = self._files.verified(given, ticker.beat), Path(scratch) / "given.parquet"
                    arguments["given_path"] = str(shutil.copyfile(source, copied))
                if others := arguments.get("context", {}).get("others") if task.kind == "evidence" else None:
                    arguments["others_paths"] = {
                        one["digest"]: str(
                            shutil.copyfile(
                                self._files.verified(one["digest"], ticker.beat),
                                Path(scratch) / f"{one['digest']}.onnx",
                            )
                        )
                        for one in others
                    }
                began = time.monotonic()
                result = self._room.run(
                    task.kind, arguments, Path(scratch), ticker, gives_way=not lane.quick, on_start=lane.started
                )
                took = time.monotonic() - began
                kept = self._keep_files(task.kind, result, ticker)
            removal.discard(self._files, patiently(lambda: self._finish(task, kept), PATIENCE))
            if task.kind == "report":
                self._note()
            if task.kind == "evidence":
                patiently(lambda: learn(task.payload, task.payload.get("cells", 0), took), PATIENCE)
        except Superseded:
            log.info("task %s: attempt %d was overtaken; what it made is not used", task_id, task.attempts)
        except HelperDied as problem:
            log.warning("task %s: %s; it is taken up again", task_id, problem)
            self._again(task)
        except Cancelled:
            self._end(task, "cancelled")
        except EndedFromOutside as problem:
            log.warning("task %s: %s", task_id, problem)
            if task.attempts < MOST_ENDED:
                self._again(task)
            else:
                self._end(task, "failed", problem.as_dict())
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
            ended = Task.update(state=state, error=error, finished=now()).where(ours(task)).execute()
            ring(ENDED, str(task.id))
            if ended and "digest" in task.payload:
                discard_unowned(self._files, task.payload["digest"])

        try:
            patiently(write, PATIENCE)
        except Unreachable:
            log.error("task %s: its end (%s) could not be written; it will be taken up again", task.id, state)

    def _again(self, task: Task) -> None:
        """Put a task back that could not be done for no fault of its own."""

        def write() -> None:
            with database.atomic():
                if Task.update(state="queued", queued=now()).where(ours(task)).execute():
                    self._queue.send(str(task.id))

        patiently(write, PATIENCE)

    def _arguments(self, task: Task, ticker: Ticker) -> dict[str, Any]:
        """The payload with digests turned into paths of files that hold what they should, and what only the records know."""
        arguments = self._with_files(task.payload, ticker.beat)
        if "digest" in arguments:  # what was uploaded, or written
            arguments["path"] = str(self._files.verified(arguments["digest"], ticker.beat))
        if task.kind in ("report", "preview"):
            arguments |= reporting.arguments(task, self._files)
        return arguments

    def _with_files(self, payload: dict[str, Any], beat: Callable[[], None] = lambda: None) -> dict[str, Any]:
        """A payload with the paths of table, models and other inputs."""
        found = dict(payload)
        for name in ("table", "model", "alongside"):
            if found.get(f"{name}_digest"):
                found[f"{name}_path"] = str(self._files.verified(found[f"{name}_digest"], beat))
        for name, digest in (found.get("inputs") or {}).items():
            found[path_of(name)] = str(self._files.verified(digest, beat))
        return found

    def _keep_files(self, kind: str, result: dict[str, Any], ticker: Ticker) -> dict[str, Any]:
        """Move files from scratch into the store; the result with digests in their place. Bytes before rows."""
        kept = dict(result)
        if "file" in kept:
            kept["file_bytes"] = Path(kept["file"]).stat().st_size
            kept["file"] = self._files.take(Path(kept["file"]), ticker.beat)
        for name, path in kept.get("files", {}).items():
            kept["files"] = kept["files"] | {name: self._files.take(Path(path), ticker.beat)}
        for audit in kept.get("audits", []):
            audit["models"] = [
                model | {"file": self._files.take(Path(model["file"]), ticker.beat)} for model in audit["models"]
            ]
        return kept

    def _finish(self, task: Task, result: dict[str, Any]) -> list[str]:
        """One transaction: the records of the result, and the task's end; nothing where another attempt has overtaken it.
        The digests of files that may be unowned now.
        """
        with database.atomic():
            # the fence: the row is taken for as long as this lasts, and only by the attempt that it says
            if not Task.update(heartbeat=now()).where(ours(task)).execute():
                raise Superseded
            for body in result.pop("evidence", []):
                if not set(digests_in(body["result"]).values()) <= set(result.get("files", {}).values()):
                    raise Refused("The result names a file that was not made with it.", todo="Check the model file.")
                shelf.keep(self._files, body)
                if task.audit_id is not None:
                    own(task.audit_id, body["key"])
            finish = FINISHERS.get(task.kind)
            outcome = finish(self._board, self._files, task, result) if finish else {}
            left = outcome.pop("left", [])
            Task.update(state="done", result=outcome, finished=now(), done=Task.total).where(ours(task)).execute()
            ring(ENDED, str(task.id))
            ring(CHANGED, str(task.audit_id or ""))
        return left

    def _note(self) -> None:
        """What was written is noted in the ledger; where that cannot be now, at the next sweep."""
        try:
            patiently(lambda: ledger.catch_up(self._files), PATIENCE)
        except OSError as problem:
            log.warning("the ledger cannot be written: %s", problem)

    def sweep(self) -> int:
        """Take up again what a dead worker left; how many tasks. Remove what was deleted a while ago."""
        with database.connection_context():
            with database.atomic():
                files = removal.expire(self._files)
            removal.discard(self._files, files)
            stale = (Task.state == "running") & (Task.heartbeat < now() - STALE)
            left = list(Task.select().where(stale | ((Task.state == "queued") & (Task.queued < now() - STALE))))
            # a message can be lost: who took it died before the task was claimed
            waited = (Task.state == "queued") & (fn.least(Task.created, Task.queued) < now() - STALE)
            messages = self._queue.messages() if Task.select().where(waited).exists() else {}
            left = [task for task in left if task.state == "running" or str(task.id) not in messages]
            for task in left:
                self._send_again(task, _turn(task))
            self._advance(messages)
        return len(left)

    def sweep_scratch(self) -> int:
        """Remove what processes left in scratch that were killed while others go on; how many folders there were."""
        gone = [
            folder
            for folder in (self._scratch.iterdir() if self._scratch else ())
            if (of := OWNED.match(folder.name)) and not Path(f"/proc/{of[1]}").exists()
        ]
        for folder in gone:
            shutil.rmtree(folder, ignore_errors=True)
        return len(gone)

    def _send_again(self, task: Task, turn: Turn) -> None:
        with database.atomic():
            mine = (Task.id == task.id) & (Task.state == task.state)
            if Task.update(state="queued", queued=now()).where(mine).execute():
                self._queue.send(str(task.id), turn)

    def _advance(self, messages: dict[str, Turn]) -> None:
        """The newest wish comes first, but not for ever: of those that have waited long the oldest is next, one at a time."""
        if any(turn is Turn.overdue for turn in messages.values()):
            return
        waiting = (Task.state == "queued") & ~Task.unwatched & (Task.created < now() - LONG)
        oldest = Task.select().where(waiting).order_by(Task.created).first() if messages else None
        self._overdue = str(oldest.id) if oldest is not None else ""
        if oldest is not None:
            self._send_again(oldest, Turn.overdue)

    def keep_sweeping(self, stop: threading.Event) -> None:
        swept = 0.0  # at first all: a process that was killed may have left behind what it had replaced long before
        while not stop.wait(SWEEP_SECONDS):
            try:
                self.sweep()
                self.sweep_scratch()
                if (until := time.time() - FORGOTTEN) - swept > FILES_SECONDS:
                    sweep_unowned(self._files, swept, until)
                    swept = until
                    self._note()
            except Exception as problem:  # the database may be away for a while; the next sweep tries again
                log.warning("sweep failed: %s", problem)


def _turn(task: Task) -> Turn:
    """Which turn a task has that is sent again: what findings come of is measured before what else is made ready."""
    if not task.unwatched:
        return Turn.asked
    return Turn.again if task.payload.get("method") in FINDING else Turn.ahead
