"""Following a job in another process: progress, limits, cancel, and how it ended."""

from __future__ import annotations

import signal
import time
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection
from typing import Any

from zerotilt.core.meaning import ModelReading
from zerotilt.core.refusal import Cancelled, Choice, Refused
from zerotilt.readers.inside import TICK, told

MEMORY_BYTES = 12 * 2**30
SECONDS = 3 * 3600
STALL_SECONDS = 600
"""Without any progress for so long, a model is taken to hang."""

OnTick = Callable[[int, int, str], bool]


FROM_OUTSIDE = (-signal.SIGKILL, -signal.SIGTERM)
"""How a process ends that another ended; what a model's own fault ends in is another signal."""


class EndedFromOutside(Refused):
    """A job was ended by no fault that is known of its own; it may well be done when it is tried again."""


class HelperDied(Exception):
    """The process that starts jobs is gone, and with it the job; nothing is wrong with the job."""


@dataclass(frozen=True)
class Limits:
    """What a job may take: seconds in all, bytes of memory, seconds without any progress."""

    seconds: float = SECONDS
    memory: int = MEMORY_BYTES
    stall: float = STALL_SECONDS


def followed(pipe: Connection, on_tick: OnTick, limits: Limits) -> tuple[str, Any] | None:
    """How a job ended: ``result``, ``refused`` or ``failed`` with its body; None where it ended without a word.

    ``on_tick(done, total, what)`` is called several times a second and says whether to go on.

    Raises
    ------
    Refused : it broke a limit. Cancelled : ``on_tick`` said no. The job still runs then, and is to be ended.
    """
    started = moved = time.monotonic()
    state = (0, 0, "")
    while True:
        try:
            if pipe.poll(TICK):
                kind, body = told(pipe)
                if kind != "progress":
                    return kind, body
                state, moved = tuple(body), time.monotonic()
        except (EOFError, OSError, ValueError):
            return None
        if not on_tick(*state):
            raise Cancelled
        stop_hanging(moved, limits, state[2])
        if time.monotonic() - started > limits.seconds:
            raise Refused(
                f"The work took longer than {limits.seconds:,.0f} s and was stopped.",
                todo="Read fewer rows, or check whether the model hangs.",
            )


def stop_hanging(moved: float, limits: Limits, what: str = "") -> None:
    """Refuse to wait any longer for what has not moved since a moment of the monotonic clock."""
    if time.monotonic() - moved > limits.stall:
        raise Refused(
            f"The work made no progress for {limits.stall:,.0f} s and was stopped{f', while {what}' if what else ''}; the model may hang.",
            todo="Check the model on a few rows.",
        )


def result_of(kind: str, body: Any) -> dict[str, Any]:
    """The result of a job that ended with a word.

    Raises
    ------
    Refused : the job refused. RuntimeError : something unexpected happened in it.
    """
    if kind == "refused":
        choices = [
            Choice(one["label"], one["detail"], ModelReading.model_validate(one["reading"]), 0.0)
            for one in body.get("choices", [])
        ]
        raise Refused(body["message"], where=body["where"], todo=body["todo"], choices=choices)
    if kind == "failed":
        raise RuntimeError(body)
    return body


READERS = {"read_table": "that read the table", "inspect_model": "that looked into the model"}


def ended_without_a_word(job: str, code: int | None, memory: int) -> Refused:
    """Why, as far as is known; the model is blamed only where a model was run and ended itself."""
    who = READERS.get(job, "that ran the model")
    if code in FROM_OUTSIDE:
        return EndedFromOutside(
            f"The process {who} was ended by {signal.Signals(-code).name}: by somebody, or because the machine ran out of memory.",
            todo="Try again; where it is ended again, read fewer rows.",
        )
    todo = {
        "read_table": " Write the file again at its source, for example as CSV, and upload it again.",
        "inspect_model": " Export the model again.",
    }.get(job, " Read fewer rows, or check the model file.")
    if code is not None and code < 0:
        return Refused(f"The process {who} was ended by {signal.Signals(-code).name}.{todo}")
    return Refused(
        f"The process {who} ended without a result (code {code}); "
        f"it may have needed more than its {memory / 2**30:,.3g} GiB of memory.{todo}"
    )
