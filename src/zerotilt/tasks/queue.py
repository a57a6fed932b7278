"""The durable queue: Huey's messages in the same PostgreSQL, written as JSON."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable
from enum import IntEnum

from huey import Huey
from huey.contrib.sql_huey import SqlStorage
from huey.registry import Message
from huey.serializer import Serializer

from zerotilt.store.bell import QUEUED, ring
from zerotilt.store.database import database


class JsonSerializer(Serializer):
    """Messages as JSON text, so that nothing read from a table is ever executed."""

    def _serialize(self, data) -> bytes:
        return json.dumps(list(data) if isinstance(data, Message) else data).encode()

    def _deserialize(self, data: bytes):
        found = json.loads(bytes(data))
        return Message(*found) if isinstance(found, list) and len(found) == len(Message._fields) else found


class Awaited(SqlStorage):
    """Messages that are waited for: who finds none is woken when one comes, and looks again by itself now and then."""

    blocking = True

    def __init__(self, *args, **more):
        super().__init__(*args, **more)
        self._come = threading.Condition()
        self._times = 0

    def wake(self) -> None:
        """There is something in the queue."""
        with self._come:
            self._times += 1
            self._come.notify_all()

    def dequeue(self):
        before = self._times
        found = super().dequeue()
        if found is None:
            with self._come:
                self._come.wait_for(lambda: self._times != before, LOOK_SECONDS)
        return found


LOOK_SECONDS = 0.5
DAY = 86_400.0


class Turn(IntEnum):
    """Who comes first: a quick first look, then what a person waits for, then what is made ready for later."""

    ahead = 0
    asked = 10
    first_look = 20


class Queue:
    """One kind of message: perform this task. The server sends, the worker performs."""

    def __init__(self, perform: Callable[[str], None] | None = None):
        self.perform = perform
        self.huey = Huey(
            "zerotilt", storage_class=Awaited, database=database, serializer=JsonSerializer(), results=False
        )
        self._run = self.huey.task(name="perform")(self._perform)

    def send(self, task_id: str, turn: Turn = Turn.asked) -> None:
        """Ask for a task to be performed; of one turn the newest wish comes first, of what is made ready the oldest."""
        # the queue keeps seven digits: a day's moments are told apart to a few hundredths of a second
        late = time.time() % DAY / DAY
        self._run(task_id, priority=int(turn) + 9 * (1 - late if turn is Turn.ahead else late))
        ring(QUEUED, "")

    def wake(self) -> None:
        """Look into the queue now."""
        if isinstance(self.huey.storage, Awaited):
            self.huey.storage.wake()

    def _perform(self, task_id: str) -> None:
        assert self.perform is not None, "this process sends tasks and performs none"
        self.perform(task_id)
