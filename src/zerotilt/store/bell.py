"""Being told at once what was committed, by PostgreSQL's own notifications; what is missed is found by looking."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import select
import threading
from collections.abc import Callable

import psycopg2

from zerotilt.store.database import database

log = logging.getLogger(__name__)
ASKED, ENDED, QUEUED, CHANGED = "zt_asked", "zt_ended", "zt_queued", "zt_changed"
LOOK_SECONDS = 1.0


def ring(channel: str, name: str) -> None:
    """Tell who listens, when this transaction is committed."""
    database.execute_sql("select pg_notify(%s, %s)", (channel, name))


class Listener:
    """Calls ``heard(name)`` for everything that is told on a channel, in a thread of its own."""

    def __init__(self, channel: str, heard: Callable[[str], None]):
        self._channel, self._heard = channel, heard
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._listen, name=f"listens to {channel}", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()

    def _listen(self) -> None:
        while not self._stop.is_set():
            try:
                self._hear()
            except psycopg2.Error as problem:  # the database is being started again
                log.info("not listening to %s: %s", self._channel, str(problem).strip())
                self._stop.wait(0.3)

    def _hear(self) -> None:
        connection = psycopg2.connect(dbname=database.database, **database.connect_params)
        try:
            connection.autocommit = True
            with connection.cursor() as cursor:
                cursor.execute(f"listen {self._channel}")
            while not self._stop.is_set():
                if select.select([connection], [], [], LOOK_SECONDS)[0]:
                    connection.poll()
                    while connection.notifies:
                        self._heard(connection.notifies.pop(0).payload)
        finally:
            connection.close()


class Changes:
    """Waiting for an audit to change, or for any to; who hears nothing looks by itself after a while."""

    def __init__(self) -> None:
        self._waiting: dict[str, set[asyncio.Future]] = {}
        self._held = threading.Lock()
        self._listener = Listener(CHANGED, self._changed)
        self._begun = False

    def _changed(self, name: str) -> None:
        with self._held:
            woken = [*self._waiting.get(name, ()), *self._waiting.get("", ())]
        for one in woken:
            # who has left meanwhile hears nothing, nor does one whose loop has ended
            with contextlib.suppress(RuntimeError):
                one.get_loop().call_soon_threadsafe(lambda one=one: one.done() or one.set_result(None))

    async def wait(self, name: str, seconds: float) -> None:
        """Until an audit has changed, any where the name is empty; at most so long."""
        mine = asyncio.get_running_loop().create_future()
        with self._held:
            if not self._begun:
                self._begun = True
                self._listener.start()
            self._waiting.setdefault(name, set()).add(mine)
        try:
            await asyncio.wait([mine], timeout=seconds)
        finally:
            with self._held:
                self._waiting[name].discard(mine)
                if not self._waiting[name]:
                    del self._waiting[name]


class Endings:
    """Waiting for tasks of other processes to end."""

    def __init__(self) -> None:
        self._waiting: dict[str, list[threading.Event]] = {}
        self._held = threading.Lock()
        self._listener = Listener(ENDED, self._ended)
        self._begun = False

    def _ended(self, name: str) -> None:
        with self._held:
            for event in self._waiting.get(name, ()):
                event.set()

    def wait(self, name: str, is_over: Callable[[], bool], seconds: float) -> bool:
        """Until a task has ended, at most so long; whether it has. ``is_over`` looks whether it had ended before."""
        event = threading.Event()
        with self._held:
            if not self._begun:
                self._begun = True
                self._listener.start()
            self._waiting.setdefault(name, []).append(event)
        try:
            return is_over() or event.wait(seconds) or is_over()
        finally:
            with self._held:
                self._waiting[name].remove(event)
                if not self._waiting[name]:
                    del self._waiting[name]
