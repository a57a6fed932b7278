"""Progress of a task under way, written down as it comes; and whether it is asked to end."""

from __future__ import annotations

import time

from zerotilt.core.refusal import Cancelled
from zerotilt.store.database import Unreachable, patiently
from zerotilt.store.records import Task
from zerotilt.tasks.lane import Lane
from zerotilt.tasks.ownership import Superseded, now, ours

WRITE_SECONDS = 0.3


class Ticker:
    """Writes progress and heartbeat now and then, and reads the wish to cancel. A database that is away is waited out."""

    def __init__(self, task: Task, lane: Lane | None = None):
        self._task, self._lane = task, lane
        self._last = 0.0
        self._stretch = ("", 0.0)
        self._state = (0, 0, "")

    def __call__(self, done: int, total: int, what: str) -> bool:
        if time.monotonic() - self._last < WRITE_SECONDS:
            return True
        self._last = time.monotonic()
        if what != self._stretch[0]:
            self._stretch = (what, self._last)
        self._state = (done, total, what)
        try:
            return patiently(lambda: self._write(done, total, what), 0.5)
        except Unreachable:
            return True

    def beat(self) -> None:
        """Still at work, without being any further.

        Raises
        ------
        Cancelled : it is no longer wanted.
        """
        if not self(*self._state):
            raise Cancelled

    def _write(self, done: int, total: int, what: str) -> bool:
        spent = self._last - self._stretch[1]
        left = spent * (total - done) / done if done and spent else None
        mine = (
            Task.update(done=done, total=total, what=what, seconds_left=left, heartbeat=now())
            .where(ours(self._task))
            .execute()
        )
        if not mine:
            raise Superseded
        cancel, unwatched = Task.select(Task.cancel, Task.unwatched).where(
            Task.id == self._task.id
        ).tuples().first() or (True, False)
        if self._lane is not None:
            self._lane.tick(unwatched)
        return not cancel
