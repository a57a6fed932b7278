"""The place that work takes on this machine: what is quick is done at once, the rest behind it, at lower priority."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from pathlib import Path

from zerotilt.readers.warm import BACKGROUND

AGED_SECONDS = 2.0
"""Work taken for quick that lasts longer gives its place to what comes after."""
UNWATCHED = 19


class Lane:
    """One task's place, given back once, at its end or when it steps back.

    Parameters
    ----------
    place : taken already. quick : whether it was taken for quick work. ahead : whether it was taken for work that nobody
        has asked for yet; that keeps its place, so that no more of it is begun.
    """

    def __init__(self, place: threading.Semaphore, quick: bool, ahead: bool = False):
        self._place, self.quick, self._ahead = place, quick, ahead
        self._began = time.monotonic()
        self._number: int | None = None
        self._given_back = False
        self._priority = 0 if quick else BACKGROUND

    def started(self, number: int) -> None:
        """The process that does the work."""
        self._number = number

    def tick(self, unwatched: bool) -> None:
        """To be called now and then while the work is under way."""
        if unwatched:
            self._step_back(UNWATCHED)
        elif self._priority == UNWATCHED:  # somebody looks after all; only root may come forward again
            self._renice(BACKGROUND)
        elif self.quick and time.monotonic() - self._began > AGED_SECONDS:
            self._step_back(BACKGROUND)

    def _step_back(self, priority: int) -> None:
        if not self._ahead:
            self.give_back()
        if priority > self._priority:
            self._renice(priority)

    def _renice(self, priority: int) -> None:
        if self._number is None:
            return
        self._priority = priority
        with contextlib.suppress(OSError):
            for thread in Path(f"/proc/{self._number}/task").iterdir():
                os.setpriority(os.PRIO_PROCESS, int(thread.name), priority)

    def give_back(self) -> None:
        if not self._given_back:
            self._given_back = True
            self._place.release()
