"""A resident reader: opens table and model once, and starts a process for each job, which finds them open."""

from __future__ import annotations

import contextlib
import gc
import importlib
import json
import os
import sys
import time
from collections.abc import Callable
from functools import partial
from multiprocessing.connection import Connection
from multiprocessing.reduction import recv_handle
from pathlib import Path
from typing import Any

from zerotilt.cluster import executor_at
from zerotilt.core.contributions.sums_met import make_ready
from zerotilt.core.evidence import libraries
from zerotilt.core.methods import method_named
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work
from zerotilt.readers import jobs
from zerotilt.readers.inside import end_with_parent, limit_memory, perform, tell, unprivileged
from zerotilt.readers.walls import raise_walls

BACKGROUND = 10
"""How far what takes long gives way to what is looked at (nice)."""
END_SECONDS = 2.0
DRAWING = frozenset({"report", "preview"})


def serve(control: Connection, files: dict[str, Any], scratch: str, memory: int) -> None:
    """Answer until told to end, or until who asks is gone.

    Asked ``("begin", job, arguments, scratch, gives_way)`` and given a pipe, a process is started for the job; told are
    its number, and of which models structures were found and left in ``scratch``. Asked ``("ended", number)``, how it
    ended. Asked ``("stand",)`` and given a pipe, a process is started that answers one quick job after the other there.
    """
    os.umask(0o077)
    opened = unprivileged(files, scratch)
    end_with_parent()
    raise_walls()
    limit_memory(memory)
    codes: dict[int, int] = {}
    rehearsed = False
    while True:
        try:
            asked = control.recv()  # from the worker, which is trusted; what goes back is JSON
        except (EOFError, OSError):
            os._exit(0)
        if asked is None:
            os._exit(0)
        if asked[0] == "ended":
            tell(control, "ended", _ending(asked[1], codes))
            continue
        if asked[0] == "stand":
            pipe = Connection(recv_handle(control))
            _reap(codes)
            gc.freeze()
            number = os.fork()
            if not number:
                control.close()
                _stand(pipe, opened, scratch, memory)
            gc.unfreeze()
            pipe.close()
            tell(control, "begun", [number, []])
            continue
        _, job, arguments, place, gives_way = asked
        pipe = Connection(recv_handle(control), readable=False)
        arguments |= {name: value for name, value in opened.items() if name.endswith("path")}
        _read_ahead(arguments)
        _reap(codes)
        gc.freeze()  # a job that tidies up would touch, and so copy, all that it shares with this process
        number = os.fork()
        if not number:
            control.close()
            _job(pipe, job, arguments, place, gives_way, memory)
        gc.unfreeze()
        pipe.close()
        tell(control, "begun", [number, jobs.HELD.leave_new(Path(scratch))])
        if job in DRAWING:
            _learn_to_draw(scratch)
        if arguments.get("method") == "query":
            importlib.import_module("duckdb")  # who asks once asks again; the next question finds the engine loaded
        if not rehearsed and os.environ.get("ZT_AHEAD") != "off":
            rehearsed = True
            _rehearse(arguments)


def _learn_to_draw(scratch: str) -> None:
    """Load what draws for print, and look for its fonts: longer than a page takes, so the next one finds it here."""
    if "zerotilt.report.render" not in sys.modules:
        os.environ.setdefault("MPLCONFIGDIR", scratch)
        importlib.import_module("zerotilt.report.render")
        importlib.import_module("zerotilt.report.auditfile")
        importlib.import_module("matplotlib.backends.backend_svg")


def _job(pipe: Connection, job: str, arguments: dict, scratch: str, gives_way: bool, memory: int) -> None:
    try:
        end_with_parent()
        if gives_way:
            os.nice(BACKGROUND)
        os.environ["HOME"] = os.environ["MPLCONFIGDIR"] = scratch
        perform(pipe, lambda work: jobs.JOBS[job](arguments, Path(scratch), work), memory, executor_at())
        pipe.close()
    finally:
        os._exit(0)  # nothing of the reader's is tidied up here


def _stand(pipe: Connection, opened: dict[str, Any], scratch: str, memory: int) -> None:
    """Answer quick jobs one after the other: what a process of its own costs is paid once for all of them."""
    try:
        end_with_parent()
        os.environ["HOME"] = os.environ["MPLCONFIGDIR"] = scratch
        paths = {name: value for name, value in opened.items() if name.endswith("path")}
        while True:
            job, arguments = json.loads(pipe.recv_bytes())
            perform(pipe, partial(jobs.JOBS[job], arguments | paths, Path(scratch)), memory, executor_at())
    finally:
        os._exit(0)


def _read_ahead(arguments: dict) -> None:
    """What every job of this context begins with, once for all of them. What is refused here, the job itself says."""
    with contextlib.suppress(Exception):
        subject, _ = jobs.opened(arguments)
        for one in (subject, subject.beside):
            if one is not None:
                for step in STEPS:
                    with contextlib.suppress(Exception):
                        step(one)


def _rehearse(arguments: dict) -> None:
    """Once, while the first job is under way, count a segment, explain a case and draw a response here.

    Kernels are loaded for the numbers of this table and model, which takes each a hundredth of a second, and are then
    there for every job that follows. Only where the model is read as a sum: another might hang.
    """
    with contextlib.suppress(Exception):
        subject, _ = jobs.opened(arguments)
        if subject.predictor is None or subject.predictions.structure[0] is None:
            return
        every = {"column": subject.table.names[0], "missing": True, "negated": True}
        counting = method_named("segment")
        counting.compute(subject, counting.settings.model_validate({"blocks": [[every]]}), 0, Work())
        first = {"row": int(subject.rows.numbers[0])}
        for name, settings in (("ladder", first), ("response", {}), ("tried", first)):
            method = method_named(name)
            method.compute(subject, method.settings(**settings), 0, Work())


STEPS: tuple[Callable[[Subject], Any], ...] = (
    lambda subject: libraries(),
    lambda subject: subject.rows.numbers,
    lambda subject: subject.predictor and subject.predictions.outputs,
    lambda subject: subject.rows.outcome_if_known,
    lambda subject: subject.predictor and subject.predictions.find_structure(),
    lambda subject: subject.predictor and make_ready(subject),
)


def _reap(codes: dict[int, int]) -> None:
    """Take note of the jobs that have ended."""
    with contextlib.suppress(ChildProcessError):
        while (found := os.waitpid(-1, os.WNOHANG))[0]:
            codes[found[0]] = os.waitstatus_to_exitcode(found[1])


def _ending(number: int, codes: dict[int, int]) -> int | None:
    """Exit code of a process that has ended or is about to, negative for a signal; None where it is not known."""
    until = time.monotonic() + END_SECONDS
    while number not in codes and time.monotonic() < until:
        _reap(codes)
        time.sleep(0.01)
    return codes.pop(number, None)
