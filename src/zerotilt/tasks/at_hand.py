"""What is quick is asked for directly: from the server to the worker beside it and back, with no record of the work.

Over a socket in the house's own folder, in JSON. Where the worker is away, busy or not done in time, the answer is that
there is none, and the work goes the long way, as a task.
"""

from __future__ import annotations

import contextlib
import json
import logging
import os
import threading
from collections.abc import Callable
from multiprocessing.connection import Client, Connection, Listener
from pathlib import Path
from typing import Any

log = logging.getLogger(__name__)
NAME = "at-hand"
GRACE = 0.5
"""Seconds by which an answer may come later than the work was given."""
Answer = Callable[[dict[str, Any], float], dict[str, Any] | None]


class Answering:
    """The worker's side: each question is answered in a thread of whoever asks."""

    def __init__(self, folder: Path, answer: Answer):
        self._answer = answer
        # kept open: the socket is taken away under the same address in the end
        self._folder = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
        place = _within(self._folder)
        with contextlib.suppress(FileNotFoundError):
            os.unlink(place)  # left by a worker before this one
        before = os.umask(0o077)  # from the first moment on its owner's alone
        try:
            self._listener = Listener(place, family="AF_UNIX", backlog=64)
        finally:
            os.umask(before)
        threading.Thread(target=self._listen, name="at hand", daemon=True).start()

    def _listen(self) -> None:
        while True:
            try:
                pipe = self._listener.accept()
            except OSError as problem:
                log.info("nobody can ask directly any more: %s", problem)
                return
            threading.Thread(target=self._talk, args=(pipe,), daemon=True).start()

    def _talk(self, pipe: Connection) -> None:
        with contextlib.suppress(EOFError, OSError), pipe:
            while True:
                asked, seconds = json.loads(pipe.recv_bytes())
                found = None
                try:
                    found = self._answer(asked, seconds)
                except Exception:  # the long way says what is wrong
                    log.exception("a direct question was not answered")
                pipe.send_bytes(json.dumps(found).encode())


class DirectLine:
    """The server's side. Connections are kept; each is used for one question at a time."""

    def __init__(self, folder: Path):
        self._folder = folder
        self._free: list[Connection] = []

    def ask(self, question: dict[str, Any], seconds: float) -> dict[str, Any] | None:
        """The answer; None where there is none in so many seconds."""
        try:
            pipe = self._free.pop()
        except IndexError:
            pipe = self._connected()
        if pipe is None:
            return None
        try:
            pipe.send_bytes(json.dumps([question, seconds]).encode())
            if pipe.poll(seconds + GRACE):
                found = json.loads(pipe.recv_bytes())
                self._free.append(pipe)
                return found
        except (EOFError, OSError, ValueError):
            self._free.clear()  # another worker listens now; what led to the one before is of no use
        pipe.close()  # an answer that comes late would be taken for the next question's
        return None

    def _connected(self) -> Connection | None:
        with contextlib.suppress(OSError):
            folder = os.open(self._folder, os.O_RDONLY | os.O_DIRECTORY)
            try:
                return Client(_within(folder), family="AF_UNIX")
            finally:
                os.close(folder)
        return None


def _within(folder: int) -> str:
    """The socket's address in an open folder, however long that one's own name is: sockets' names hold 107 signs."""
    return f"/proc/self/fd/{folder}/{NAME}"
