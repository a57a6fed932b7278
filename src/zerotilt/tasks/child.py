"""Run one job in a process of its own, with limits, so that no model can take the server down."""

from __future__ import annotations

import ctypes
import multiprocessing
import os
import resource
import signal
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from zerotilt.cluster import executor_at
from zerotilt.core.refusal import Cancelled, Refused
from zerotilt.core.work import Work

MEMORY_BYTES = 12 * 2**30
SECONDS = 3 * 3600
STALL_SECONDS = 600
"""Without any progress for so long, a model is taken to hang."""
TICK = 0.2
_PR_SET_PDEATHSIG = 1


def context() -> multiprocessing.context.BaseContext:
    """Fork server with everything imported: a job starts in milliseconds and holds no connection."""
    found = multiprocessing.get_context("forkserver")
    found.set_forkserver_preload(["zerotilt.tasks.ready"])
    return found


def run(
    job: str,
    arguments: dict[str, Any],
    scratch: Path,
    on_tick: Callable[[int, int, str], bool],
    seconds: float = SECONDS,
    memory: int = MEMORY_BYTES,
    stall: float = STALL_SECONDS,
) -> dict[str, Any]:
    """Run ``jobs.JOBS[job](arguments, scratch, work)`` elsewhere; its result.

    ``on_tick(done, total, what)`` is called several times a second and says
    whether to go on.

    Raises
    ------
    Refused : what the job refused, or that it crashed or broke a limit.
    Cancelled : ``on_tick`` said no.
    """
    spawn = context()
    here, there = spawn.Pipe(duplex=False)
    process = spawn.Process(target=_inside, args=(there, job, arguments, str(scratch), memory), daemon=True)
    process.start()
    there.close()
    started = moved = time.monotonic()
    state = (0, 0, "")
    outcome: tuple[str, Any] | None = None
    try:
        while outcome is None:
            try:
                if here.poll(TICK):
                    kind, body = here.recv()
                    if kind == "progress":
                        state, moved = body, time.monotonic()
                    else:
                        outcome = (kind, body)
            except EOFError:
                break
            if not on_tick(*state):
                raise Cancelled
            if time.monotonic() - moved > stall:
                raise Refused(
                    f"The work made no progress for {stall:,.0f} s and was stopped{f', while {state[2]}' if state[2] else ''}; the model may hang.",
                    todo="Check the model on a few rows.",
                )
            if time.monotonic() - started > seconds:
                raise Refused(
                    f"The work took longer than {seconds:,.0f} s and was stopped.",
                    todo="Read fewer rows, or check whether the model hangs.",
                )
    finally:
        if outcome is None and process.is_alive():
            process.kill()
        process.join(5)
        here.close()
    if outcome is None:
        raise Refused(_ending(process.exitcode, memory), todo="Read fewer rows, or check the model file.")
    kind, body = outcome
    if kind == "refused":
        raise Refused(body["message"], where=body["where"], todo=body["todo"])
    if kind == "failed":
        raise RuntimeError(body)
    return body


def _ending(code: int | None, memory: int) -> str:
    if code is not None and code < 0:
        return f"The process that ran the model was ended by {signal.Signals(-code).name}."
    return (
        f"The process that ran the model ended without a result (code {code}); "
        f"it may have needed more than its {memory / 2**30:,.3g} GiB of memory."
    )


def _inside(pipe, job: str, arguments: dict, scratch: str, memory: int) -> None:
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is the parent's business
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    from zerotilt.tasks.jobs import JOBS

    last = 0.0

    def report(done: int, total: int, what: str) -> None:
        nonlocal last
        now = time.monotonic()
        if now - last > TICK / 2 or done >= total:
            last = now
            pipe.send(("progress", (done, total, what)))

    try:
        pipe.send(("result", JOBS[job](arguments, Path(scratch), Work(report, executor_at()))))
    except Refused as problem:
        pipe.send(("refused", problem.as_dict()))
    except MemoryError:
        pipe.send(
            (
                "refused",
                Refused(
                    f"The work needed more than {memory / 2**30:,.3g} GiB of memory and was stopped.",
                    todo="Read fewer rows, or use a smaller table.",
                ).as_dict(),
            )
        )
    except (BrokenPipeError, ConnectionResetError):
        os._exit(1)  # nobody is listening any more
    except Exception as problem:
        pipe.send(("failed", f"{type(problem).__name__}: {problem}"))
