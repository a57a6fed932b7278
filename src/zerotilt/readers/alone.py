"""One job in a process of its own, with limits, so that no file can take the worker down."""

from __future__ import annotations

import multiprocessing
import os
from multiprocessing import forkserver
from multiprocessing.context import ForkServerContext
from pathlib import Path
from typing import Any

from zerotilt.cluster import executor_at
from zerotilt.readers.inside import end_with_parent, limit_memory, perform, unprivileged
from zerotilt.readers.walls import raise_walls
from zerotilt.readers.watch import HelperDied, Limits, OnTick, ended_without_a_word, followed, result_of


def context() -> ForkServerContext:
    """Fork server with everything imported: a job starts in milliseconds and holds no connection."""
    found = multiprocessing.get_context("forkserver")
    found.set_forkserver_preload(["zerotilt.readers.ready"])
    return found


def run(job: str, arguments: dict[str, Any], scratch: Path, on_tick: OnTick, limits: Limits | None = None) -> dict:
    """Run ``jobs.JOBS[job](arguments, scratch, work)`` elsewhere; its result.

    Raises
    ------
    Refused : what the job refused, or that it crashed or broke a limit.
    Cancelled : ``on_tick`` said no. HelperDied : it was ended with the process that started it.
    """
    limits = limits or Limits()
    spawn = context()
    here, there = spawn.Pipe(duplex=False)
    process = spawn.Process(target=_inside, args=(there, job, arguments, str(scratch), limits.memory), daemon=True)
    started(process, there)
    helper = _helper()
    outcome = None
    try:
        outcome = followed(here, on_tick, limits)
    finally:
        if outcome is None and process.is_alive():
            process.kill()
        process.join(5)
        here.close()
    if outcome is None:
        # a job ends with the process that started it, and its own end is then not to be known
        if (process.exitcode in (None, 255) and _helper() != helper) or (helper is not None and not alive(helper)):
            raise HelperDied("the process that starts jobs was ended, and the job with it")
        raise ended_without_a_word(job, process.exitcode, limits.memory)
    return result_of(*outcome)


def started(process: multiprocessing.process.BaseProcess, *theirs: Any) -> None:
    """Start a process, and close the ends of pipes that are its own.

    Raises
    ------
    HelperDied : the process that starts jobs does not answer.
    """
    try:
        process.start()
    except (ConnectionError, EOFError, OSError) as problem:
        raise HelperDied(f"the process that starts jobs does not answer ({problem})") from None
    finally:
        for end in theirs:
            end.close()


def _helper() -> int | None:
    """The number of the process that starts jobs."""
    return getattr(forkserver._forkserver, "_forkserver_pid", None)


def alive(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def _inside(pipe, job: str, arguments: dict, scratch: str, memory: int) -> None:
    os.umask(0o077)
    arguments = unprivileged(arguments, scratch)
    end_with_parent()
    raise_walls()
    limit_memory(memory)
    from zerotilt.readers.jobs import JOBS

    perform(pipe, lambda work: JOBS[job](arguments, Path(scratch), work), memory, executor_at())
