"""Run one job in a process of its own, with limits, so that no model can take the server down."""

from __future__ import annotations

import ctypes
import multiprocessing
import os
import pwd
import resource
import signal
import sys
import time
from collections.abc import Callable
from multiprocessing import forkserver
from multiprocessing.context import ForkServerContext
from pathlib import Path
from typing import Any

from zerotilt.cluster import executor_at
from zerotilt.core.meaning import ModelReading
from zerotilt.core.refusal import Cancelled, Choice, Refused
from zerotilt.core.work import Work

MEMORY_BYTES = 12 * 2**30
SECONDS = 3 * 3600
STALL_SECONDS = 600
"""Without any progress for so long, a model is taken to hang."""
TICK = 0.2
_PR_SET_PDEATHSIG = 1


class HelperDied(Exception):
    """The process that starts jobs is gone, and with it the job; nothing is wrong with the job."""


def context() -> ForkServerContext:
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
    try:
        process.start()
    except (ConnectionError, EOFError, OSError) as problem:
        here.close()
        raise HelperDied(f"the process that starts jobs does not answer ({problem})") from None
    finally:
        there.close()
    helper = _helper()
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
        # a job ends with the process that started it, and its own end is then not to be known
        if (process.exitcode in (None, 255) and _helper() != helper) or (helper is not None and not _alive(helper)):
            raise HelperDied("the process that starts jobs was ended, and the job with it")
        raise Refused(*_ending(job, process.exitcode, memory))
    kind, body = outcome
    if kind == "refused":
        choices = [
            Choice(one["label"], one["detail"], ModelReading.model_validate(one["reading"]), 0.0)
            for one in body.get("choices", [])
        ]
        raise Refused(body["message"], where=body["where"], todo=body["todo"], choices=choices)
    if kind == "failed":
        raise RuntimeError(body)
    return body


def _helper() -> int | None:
    """The number of the process that starts jobs."""
    return getattr(forkserver._forkserver, "_forkserver_pid", None)


def _alive(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


READERS = {"read_table": "that read the table", "inspect_model": "that looked into the model"}


def _ending(job: str, code: int | None, memory: int) -> tuple[str]:
    """Why a job ended without a word, as far as is known; the model is blamed only where a model was run."""
    who = READERS.get(job, "that ran the model")
    todo = {
        "read_table": " Write the file again at its source, for example as CSV, and upload it again.",
        "inspect_model": " Export the model again.",
    }.get(job, " Read fewer rows, or check the model file.")
    if code is not None and code < 0:
        return (f"The process {who} was ended by {signal.Signals(-code).name}.{todo}",)
    return (
        f"The process {who} ended without a result (code {code}); "
        f"it may have needed more than its {memory / 2**30:,.3g} GiB of memory.{todo}",
    )


def _unprivileged(arguments: dict, scratch: str) -> dict:
    """Give up being root: a model is somebody's file. Files it may read are opened before; scratch is its own.

    Stays where it is when it is not root, or when that user could not reach the program's own files.
    """
    if os.geteuid() != 0:
        return arguments
    other = pwd.getpwnam("nobody")
    if not all(_passable(path) for path in (Path(__file__), Path(sys.executable))):
        return arguments
    opened = {
        name: os.open(value, os.O_RDONLY) if name.endswith("path") and isinstance(value, str) else value
        for name, value in arguments.items()
    }
    os.chown(scratch, other.pw_uid, other.pw_gid)
    os.environ["HOME"] = os.environ["MPLCONFIGDIR"] = scratch
    os.setgroups([])
    os.setgid(other.pw_gid)
    os.setuid(other.pw_uid)
    return opened


def _passable(path: Path) -> bool:
    """Whether everybody may go through all folders above a file."""
    return all(folder.stat().st_mode & 0o001 for folder in path.resolve().parents)


def _inside(pipe, job: str, arguments: dict, scratch: str, memory: int) -> None:
    os.umask(0o077)
    arguments = _unprivileged(arguments, scratch)
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)  # after the change of user, which clears it
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
