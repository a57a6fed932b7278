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


BAND = 9.0
"""Of one turn to the next: 10; what is left keeps them apart where the queue rounds."""


class Turn(IntEnum):
    """Who comes first: what has waited long, one at a time; then a quick first look, what a person waits for, what found
    every place taken, what findings are measured again by, and what is made ready for later.
    """

    ahead = 0
    again = 10
    put_back = 20
    asked = 30
    first_look = 40
    overdue = 50

    @property
    def unwatched(self) -> bool:
        """Whether nobody waits for it before the rest of a page."""
        return self <= Turn.again


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
        self._run(task_id, priority=int(turn) + BAND * (1 - late if turn.unwatched else late))
        ring(QUEUED, "")

    def messages(self) -> dict[str, Turn]:
        """Every task that a message is there for, with the turn of its first one."""
        storage = self.huey.storage
        assert isinstance(storage, Awaited)
        rows = storage.tasks(storage.Task.data, storage.Task.priority).tuples()
        found: dict[str, Turn] = {}
        for data, priority in rows.iterator():
            (name,) = self.huey.deserialize_task(data).args
            found[name] = max(found.get(name, Turn.ahead), Turn(int(priority // 10) * 10))
        return found

    def wake(self) -> None:
        """Look into the queue now."""
        if isinstance(self.huey.storage, Awaited):
            self.huey.storage.wake()

    def _perform(self, task_id: str) -> None:
        assert self.perform is not None, "this process sends tasks and performs none"
        self.perform(task_id)
