"""A piece of work in a process of its own, which the system ends: for what heeds no request to stop."""

from __future__ import annotations

import contextlib
import ctypes
import mmap
import os
import resource
import select
import signal
import time
from collections.abc import Callable
from typing import BinaryIO, Literal

Ending = Literal["done", "late", "too much memory", "died"]
_PR_SET_PDEATHSIG = 1
ADDRESSES = 2**47
"""More than a process can have."""
_OUT_OF_MEMORY = 86
"""Exit code of a process that was refused memory."""


def end_with_parent() -> None:
    """The process that calls this is killed when the one that made it ends; a change of user takes that back."""
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)


def bounded(work: Callable[[], None], seconds: float, memory: int, into: BinaryIO | None = None) -> Ending:
    """Do a piece of work in a copy of this process, for so many seconds and with so many bytes more than this one holds.

    What it has to say it writes into a file that was opened before. It is ended with this process, at the latest.

    Parameters
    ----------
    into : a file that is emptied where the work did not end by itself, so that nothing half written is read.
    """
    number = os.fork()
    if not number:
        code = 1
        try:
            end_with_parent()
            _allow(memory)
            work()
            code = 0
        except MemoryError:
            code = _OUT_OF_MEMORY
        finally:
            os._exit(code)
    status = None
    try:
        status = _waited(number, seconds)
    finally:
        if status is None:
            with contextlib.suppress(ProcessLookupError):
                os.kill(number, signal.SIGKILL)
            with contextlib.suppress(ChildProcessError):
                os.waitpid(number, 0)
    ending = _ending(status)
    if ending != "done" and into is not None:
        into.seek(0)
        into.truncate()
    return ending


def _ending(status: int | None) -> Ending:
    if status is None:
        return "late"
    code = os.waitstatus_to_exitcode(status)
    if code == _OUT_OF_MEMORY or code == -signal.SIGABRT:  # a library that is refused memory may give up so
        return "too much memory"
    return "done" if code == 0 else "died"


def _waited(number: int, seconds: float) -> int | None:
    """The status of a process that has ended within so many seconds; None where it goes on."""
    until = time.monotonic() + seconds
    ended = os.pidfd_open(number)
    try:
        while (left := until - time.monotonic()) > 0:
            if select.select([ended], [], [], left)[0]:
                return os.waitpid(number, 0)[1]
        return None
    finally:
        os.close(ended)


def _allow(memory: int) -> None:
    """So many bytes of addresses more than are in use, and no file of what was there when it died."""
    before, most = resource.getrlimit(resource.RLIMIT_AS)
    known = [one for one in (before, most) if one != resource.RLIM_INFINITY]
    wanted = min([_in_use(most) + memory, *known])
    resource.setrlimit(resource.RLIMIT_AS, (wanted, wanted))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def _in_use(most: int) -> int:
    """Bytes of addresses that are in use: the least limit under which one more page is granted, to a megabyte."""
    low, high = 0, ADDRESSES if most == resource.RLIM_INFINITY else most
    while high - low > 2**20:
        middle = (low + high) // 2
        resource.setrlimit(resource.RLIMIT_AS, (middle, most))
        try:
            mmap.mmap(-1, mmap.PAGESIZE).close()
            high = middle
        except (OSError, MemoryError):
            low = middle
    return high
