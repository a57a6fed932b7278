"""The resident readers of a worker: one for each table and model that is open, a bounded number, the least used retired."""

from __future__ import annotations

import contextlib
import json
import logging
import os
import shutil
import signal
import tempfile
import threading
import time
from collections import OrderedDict
from collections.abc import Hashable
from multiprocessing.connection import Connection
from multiprocessing.reduction import send_handle
from pathlib import Path
from typing import Any

from zerotilt.core.inputs import path_of
from zerotilt.core.refusal import Cancelled, Refused
from zerotilt.readers import alone
from zerotilt.readers.inside import TICK, give, other_user, told
from zerotilt.readers.structures import keep
from zerotilt.readers.warm import serve
from zerotilt.readers.watch import HelperDied, Limits, OnTick, ended_without_a_word, followed, result_of, stop_hanging

log = logging.getLogger(__name__)
READ_WARM = frozenset({"evidence", "check", "report", "preview"})
FILES = ("table_path", "model_path", "alongside_path")
MOST = 8
SPARE_MEMORY = 512 * 2**20
"""What a process that answers may hold beyond its reader before another takes its place."""
SHARE_OF_MEMORY = 0.25
"""Of the machine's memory that readers at rest may hold together."""


class Lost(Exception):
    """A reader is gone or does not answer."""


class Reader:
    """One resident process, and the way to ask it. Questions are answered one at a time; jobs run beside each other."""

    def __init__(self, files: dict[str, Any], scratch: Path | None, limits: Limits, structures: Path | None = None):
        self._scratch = tempfile.mkdtemp(prefix=f"zt-reader-{os.getpid()}-", dir=scratch)
        self._structures = structures
        self._models = {files.get("model_digest"), files.get("alongside_digest")} - {None}
        spawn = alone.context()
        self._control, there = spawn.Pipe(duplex=True)
        self._asking = threading.Lock()
        self._limits = limits
        self._standing: Standing | None = None
        self._answering = threading.Lock()
        self._process = spawn.Process(target=serve, args=(there, files, self._scratch, limits.memory), daemon=True)
        self.jobs = 0
        self.opened = False
        """Whether it has opened its files, and so answers without a pause."""
        try:
            alone.started(self._process, there)
        except HelperDied:
            self._tidy()
            raise

    def begin(self, job: str, arguments: dict, scratch: Path, gives_way: bool, pipe: Connection, wait: Wait) -> int:
        """Start a job that writes to ``pipe``; the number of its process.

        Raises
        ------
        Lost : the reader is gone. Cancelled, Refused : as ``wait`` says.
        """
        while not self._asking.acquire(timeout=TICK):
            wait.tick()
        try:
            self._control.send(("begin", job, arguments, str(scratch), gives_way))
            send_handle(self._control, pipe.fileno(), self._process.pid)
            while not self._control.poll(TICK):
                wait.tick()
            number, found = told(self._control)[1]
            self._keep(found)
            self.opened = True
            return int(number)
        except (EOFError, OSError, ValueError, TypeError) as problem:
            raise Lost(str(problem)) from None
        except BaseException:  # asked and not answered: what comes next would be another's answer
            self.end()
            raise
        finally:
            self._asking.release()

    def _keep(self, found: list[list[str]]) -> None:
        """Structures that the reader has found, each into the folder of its model."""
        for digest, name in found if self._structures else ():
            if digest in self._models:
                keep(Path(self._scratch), name, self._structures / digest)

    def ending(self, number: int) -> int | None:
        """How a job's process ended.

        Raises
        ------
        HelperDied : the reader has ended, and with it the job.
        """
        with self._asking:
            try:
                self._control.send(("ended", number))
                return told(self._control)[1]
            except (EOFError, OSError, ValueError):
                raise HelperDied("the reader was ended, and the job with it") from None

    def answer(self, job: str, arguments: dict, seconds: float) -> dict[str, Any] | None:
        """The result of a quick job; None where it was not there in time, or nobody stood free to do it.

        Raises
        ------
        Refused : what the job refused. RuntimeError : something unexpected happened in it.
        """
        until = time.monotonic() + seconds
        if not self._answering.acquire(timeout=seconds):
            return None
        try:
            standing = self._standing or self._stand(until)
            self._standing = standing
            # who has waited long for others gets no answer in time, and would only end who gives them
            if standing is None or until - time.monotonic() < seconds / 2:
                return None
            self._standing, outcome = None, None
            try:
                outcome = standing.answer(job, arguments, until, self._limits)
            finally:
                if outcome is not None and standing.bytes < self.bytes + SPARE_MEMORY:
                    self._standing = standing
                else:
                    standing.end()
        finally:
            self._answering.release()
        return None if outcome is None else result_of(*outcome)

    def stand_by(self) -> None:
        """Have a process stand ready before the first quick job is asked for."""
        with self._answering:
            if self._standing is None and self.alive:
                self._standing = self._stand(time.monotonic() + self._limits.stall)

    def _stand(self, until: float) -> Standing | None:
        """A process that answers; None where the reader is at something else."""
        if not self._asking.acquire(timeout=max(until - time.monotonic(), 0)):
            return None
        here, there = alone.context().Pipe(duplex=True)
        try:
            with there:
                self._control.send(("stand",))
                send_handle(self._control, there.fileno(), self._process.pid)
                # it may still be at what follows a job; who waits has gone another way by then
                if self._control.poll(self._limits.stall):
                    return Standing(int(told(self._control)[1][0]), here)
            self.end()
            return None
        except (EOFError, OSError, ValueError, TypeError):
            here.close()
            return None
        finally:
            self._asking.release()

    @property
    def unready(self) -> bool:
        """Whether nobody stands ready, nor is at work."""
        return self._standing is None and not self._answering.locked()

    @property
    def alive(self) -> bool:
        return self._process.is_alive()

    @property
    def bytes(self) -> int:
        return memory_of(self._process.pid)

    def end(self) -> None:
        """End it, and with it the jobs it has started."""
        if self._process.is_alive():
            self._process.kill()
        self._process.join(5)
        self._control.close()
        if self._standing is not None:
            self._standing.end()
        self._tidy()

    def _tidy(self) -> None:
        shutil.rmtree(self._scratch, ignore_errors=True)


class Standing:
    """A reader's process that answers one quick job after the other."""

    def __init__(self, number: int, pipe: Connection):
        self._number, self._pipe = number, pipe

    def answer(self, job: str, arguments: dict, until: float, limits: Limits) -> tuple[str, Any] | None:
        """How a job ended, as :func:`followed` says it; None where it has not ended in time, or without a word."""
        with contextlib.suppress(Cancelled, Refused, OSError):
            self._pipe.send_bytes(json.dumps([job, arguments]).encode())
            return followed(self._pipe, lambda *_: time.monotonic() < until, limits)
        return None

    @property
    def bytes(self) -> int:
        return memory_of(self._number)

    def end(self) -> None:
        with contextlib.suppress(OSError):
            os.kill(self._number, signal.SIGKILL)
        self._pipe.close()


def memory_of(number: int | None) -> int:
    """Bytes of memory that a process holds."""
    try:
        return int(Path(f"/proc/{number}/statm").read_text().split()[1]) * os.sysconf("SC_PAGESIZE")
    except (OSError, IndexError):
        return 0


class Wait:
    """Waiting for a reader: who waits is asked whether to go on, and not longer than a job may stand still."""

    def __init__(self, on_tick: OnTick, limits: Limits):
        self._on_tick, self._limits, self._began = on_tick, limits, time.monotonic()

    def tick(self) -> None:
        if not self._on_tick(0, 0, ""):
            raise Cancelled
        stop_hanging(self._began, self._limits, "the table and the model were opened")


class Room:
    """Runs jobs: in the resident reader of their table and model where they read one, else in a process alone."""

    def __init__(self, scratch: Path | None = None, most: int = MOST, structures: Path | None = None):
        self._scratch, self._most, self._structures = scratch, most, structures
        self._readers: OrderedDict[Hashable, Reader] = OrderedDict()
        self._held = threading.Lock()
        self._user = other_user(*([scratch] if scratch else []))

    def run(
        self,
        job: str,
        arguments: dict[str, Any],
        scratch: Path,
        on_tick: OnTick,
        limits: Limits | None = None,
        gives_way: bool = False,
        on_start: Any = None,
    ) -> dict[str, Any]:
        """The result of a job; ``on_start`` is told the number of its process.

        Raises
        ------
        Refused : what the job refused, or that it crashed or broke a limit.
        Cancelled : ``on_tick`` said no. HelperDied : it was ended with the process that started it.
        """
        limits = limits or Limits()
        if job not in READ_WARM:
            return alone.run(job, arguments, scratch, on_tick, limits)
        if self._user is not None:
            give(scratch, self._user)
        reader = self._taken(arguments, limits)
        try:
            found = self._run(reader, job, arguments, scratch, on_tick, limits, gives_way, on_start)
            if not gives_way and reader.unready:
                threading.Thread(target=reader.stand_by, name="stands by", daemon=True).start()
            return found
        except Lost:
            # it died while it opened the files: alone, the job says why
            log.warning("a reader was lost; its job is done alone")
            return alone.run(job, arguments, scratch, on_tick, limits)
        finally:
            self._given_back(reader)

    def answer(self, job: str, arguments: dict[str, Any], seconds: float) -> dict[str, Any] | None:
        """The result of a job that is expected to be quick, by a process that stands ready; None where none does.

        Raises
        ------
        Refused : what the job refused. RuntimeError : something unexpected happened in it.
        """
        with self._held:
            key = _key(arguments)
            reader = self._readers.get(key)
            if reader is None or not reader.alive or not reader.opened:
                return None
            self._readers.move_to_end(key)
            reader.jobs += 1
        try:
            return reader.answer(job, arguments, seconds)
        finally:
            self._given_back(reader)

    def _run(self, reader, job, arguments, scratch, on_tick, limits, gives_way, on_start) -> dict[str, Any]:
        here, there = alone.context().Pipe(duplex=False)
        with here:
            with there:
                number = reader.begin(job, arguments, scratch, gives_way, there, Wait(on_tick, limits))
            if on_start is not None:
                on_start(number)
            outcome = None
            try:
                outcome = followed(here, on_tick, limits)
            finally:
                if outcome is None:
                    with contextlib.suppress(OSError):
                        os.kill(number, signal.SIGKILL)
        if outcome is not None:
            return result_of(*outcome)
        raise ended_without_a_word(job, reader.ending(number), limits.memory)

    def _taken(self, arguments: dict[str, Any], limits: Limits) -> Reader:
        key = _key(arguments)
        with self._held:
            reader = self._readers.pop(key, None)
            if reader is not None and not reader.alive:
                reader.end()
                reader = None
            if reader is None:
                reader = Reader(self._files(arguments), self._scratch, limits, self._structures)
            self._readers[key] = reader
            reader.jobs += 1
            return reader

    def _files(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """What a reader opens before it gives up its rights."""
        named = (*FILES, *map(path_of, arguments.get("inputs") or ()))
        files = {name: arguments[name] for name in named if arguments.get(name)}
        for name in ("model", "alongside"):
            if self._structures and (digest := arguments.get(f"{name}_digest")):
                folder = self._structures / digest
                folder.mkdir(parents=True, exist_ok=True)
                folder.chmod(0o711)  # opened before rights are given up, and passed through after
                files |= {f"{name}_folder_path": str(folder), f"{name}_digest": digest}
        return files

    def _given_back(self, reader: Reader) -> None:
        with self._held:
            reader.jobs -= 1
            held = sum(one.bytes for one in self._readers.values())
            most = SHARE_OF_MEMORY * os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGESIZE")
            for key, one in list(self._readers.items())[:-1]:  # the one used last stays
                if (len(self._readers) > self._most or held > most) and not one.jobs:
                    held -= one.bytes
                    self._readers.pop(key).end()

    def close(self) -> None:
        """End all readers."""
        with self._held:
            while self._readers:
                self._readers.popitem()[1].end()


def _key(arguments: dict[str, Any]) -> Hashable:
    """What a reader is of: a table, its models, and what else the audit was given."""
    given = tuple(sorted((arguments.get("inputs") or {}).items()))
    return (*(arguments.get(name.replace("path", "digest")) for name in FILES), given)
