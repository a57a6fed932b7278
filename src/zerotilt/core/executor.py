"""Who computes the pieces of a method: this machine's cores, or somebody with the same interface."""

from __future__ import annotations

import os
import threading
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any, Protocol

Function = Callable[[Any, Any], Any]


class Executor(Protocol):
    """Runs pieces of work and gives their results in order."""

    def run(self, function: Function, shared: Any, pieces: Sequence[Any]) -> Iterator[Any]:
        """``function(shared, piece)`` for every piece, in the order of the pieces.

        ``function`` is at the top of a module; it, ``shared`` and the pieces can be
        sent elsewhere. Results are waited for one after the other; a caller that
        stops asking stops the rest.
        """
        ...


def cores() -> int:
    """Cores this process may use."""
    return len(os.sched_getaffinity(0))


_here = threading.local()


def _enter() -> None:
    _here.busy = True


def side_by_side(function: Callable[[Any], Any], pieces: Sequence[Any]) -> list[Any]:
    """``function(piece)`` for every piece on all cores; one after the other where this is itself a piece of some work."""
    if len(pieces) < 2 or getattr(_here, "busy", False):
        return [function(piece) for piece in pieces]
    with ThreadPoolExecutor(cores(), initializer=_enter) as pool:
        return list(pool.map(function, pieces))


class LocalExecutor:
    """Threads of this process; models and compiled kernels run outside the interpreter's lock."""

    def __init__(self, threads: int | None = None):
        self.threads = threads or cores()

    def run(self, function: Function, shared: Any, pieces: Sequence[Any]) -> Iterator[Any]:
        if self.threads == 1 or len(pieces) == 1:
            for piece in pieces:
                yield function(shared, piece)
            return
        with ThreadPoolExecutor(self.threads, initializer=_enter) as pool:
            yield from in_order(lambda piece: pool.submit(function, shared, piece), pieces, self.threads + 1)


def in_order(submit: Callable[[Any], Any], pieces: Sequence[Any], most: int) -> Iterator[Any]:
    """Results of futures in the order of the pieces, with at most ``most`` under way, so that memory stays bounded."""
    waiting: deque = deque()
    try:
        for piece in pieces:
            waiting.append(submit(piece))
            if len(waiting) >= most:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        for future in waiting:
            future.cancel()
