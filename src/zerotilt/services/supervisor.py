"""Start everything, keep it running, and end it all."""

from __future__ import annotations

import contextlib
import json
import os
import secrets
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.request
from functools import cached_property
from typing import Any

from zerotilt import key
from zerotilt.readers.inside import runs_as
from zerotilt.services.addresses import DATABASE, FILES, database_for
from zerotilt.services.home import Home, die_with_parent, listening, rotate
from zerotilt.services.postgres import NotStarted
from zerotilt.store import database
from zerotilt.tasks.queue import Queue

FIRST_PORT = 8420


class Supervisor:
    """Database, worker and server as child processes; one that dies is started again."""

    def __init__(self, home: Home):
        self.home = home
        self.postgres = database_for(home)
        self.port = 0
        self.instance = secrets.token_hex(8)
        self.socket: socket.socket | None = None
        self.children: dict[str, subprocess.Popen] = {}
        self.ending = threading.Event()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    @property
    def entrance(self) -> str:
        """The address to be opened in a browser, with the house's key."""
        return key.entrance(self.url, self.home.key)

    @cached_property
    def models(self) -> tuple[str, str]:
        """Who runs models, what keeps them in, and what to do about it."""
        return runs_as(self.home.scratch)

    def start(self) -> None:
        if not self.home.take():
            found = self.home.running()
            where = f": it runs at {found['url']}" if found and "url" in found else "; it is being started or ended"
            raise SystemExit(f"Zero Tilt has this folder ({self.home.folder}) already{where}.")
        os.umask(0o077)
        self.home.sweep()
        for log in self.home.logs.glob("*.log"):
            rotate(log)
        self.socket = listening(FIRST_PORT)
        self.port = self.socket.getsockname()[1]
        self._launch("server")
        try:
            self.postgres.start()
            database.bind(self.postgres.address)
            for name in database.migrate():
                print(f"database: applied {name}", flush=True)
            Queue()  # makes the queue's own tables, which server and worker would make at the same moment
        except BaseException:
            self.stop()
            raise
        self._tell("server")
        self._wait_for_server()
        # loading takes a core to itself; pages are served meanwhile
        self._launch("worker")
        self._tell("worker")
        self._note()

    def _launch(self, name: str) -> None:
        # addresses may hold passwords, which models must not find: they are told, not inherited
        inherited = {name: value for name, value in os.environ.items() if name not in (DATABASE, FILES, key.GIVEN)}
        environment = inherited | {
            "ZT_HOME": str(self.home.folder),
            "ZT_SOCKET": str(self.socket.fileno()),
            "ZT_INSTANCE": self.instance,
            "ZT_MODELS": self.models[0],
        }
        with (self.home.logs / f"{name}.log").open("ab") as log:
            self.children[name] = subprocess.Popen(
                [sys.executable, "-m", "zerotilt.services", name],
                env=environment,
                stdout=log,
                stderr=log,
                stdin=subprocess.PIPE,
                start_new_session=True,
                pass_fds=(self.socket.fileno(),) if name == "server" else (),
                preexec_fn=die_with_parent(signal.SIGKILL),
            )

    def _tell(self, name: str) -> None:
        """The database's address, with its password, which no environment holds; a child loads everything until then."""
        given = self.children[name].stdin
        assert given is not None
        with contextlib.suppress(BrokenPipeError), given:  # one that has died is started again
            told = {"database": self.postgres.address, "files": os.environ.get(FILES)}
            given.write(json.dumps(told).encode() + b"\n")

    def _note(self) -> None:
        self.home.write_note(
            url=self.url,
            postgres=self.postgres.process and self.postgres.process.pid,
            database_port=self.postgres.port,
            **{name: process.pid for name, process in self.children.items()},
        )

    def _wait_for_server(self) -> None:
        until = time.monotonic() + 60
        while True:
            try:
                if self.ask("/api/health")["instance"] == self.instance:
                    return
                raise SystemExit(f"Another server answers at {self.url}.")
            except OSError:
                if self.children["server"].poll() is not None or time.monotonic() > until:
                    self.stop()
                    raise SystemExit(f"The server did not start; see {self.home.logs / 'server.log'}.") from None
                time.sleep(0.05)

    def ask(self, path: str, method: str = "GET") -> Any:
        request = urllib.request.Request(self.url + path, method=method, data=b"" if method == "POST" else None)
        request.add_header("Authorization", f"Bearer {self.home.key}")
        with urllib.request.urlopen(request, timeout=60) as answer:
            return json.load(answer)

    def load_demo(self) -> None:
        """Make the demo audit when there is none, and wait for it."""
        if any(audit["demo"] for audit in self.ask("/api/audits")):
            return
        print("Making the demo: inventing claims, training models …", flush=True)
        task = self.ask("/api/demo", "POST")
        while task["state"] in ("queued", "running"):
            if self.children["worker"].poll() is not None:
                raise SystemExit(f"The worker ended; see {self.home.logs / 'worker.log'}.")
            time.sleep(0.1)
            task = self.ask(task["address"])
        if task["state"] != "done":
            raise SystemExit(f"The demo could not be made: {task['error']['message']}")

    def heed(self) -> None:
        """From here on, being told to end is an orderly end; to be called before anybody is told that all runs."""
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            signal.signal(number, lambda *_: self.ending.set())

    def watch(self) -> None:
        """Stay until told to end; start again whatever died meanwhile."""
        try:
            while not self.ending.wait(0.3):
                self.revive()
                for log in self.home.logs.glob("*.log"):
                    rotate(log)
        finally:
            self.stop()

    def revive(self) -> None:
        """Start again whatever has died since the last look."""
        again = False
        if self.postgres.process is not None and self.postgres.process.poll() is not None:
            print("database: ended unexpectedly, starting it again", flush=True)
            try:
                self.postgres.start(self.postgres.port)
            except NotStarted as problem:  # sessions of the dead server may still be ending
                print(f"database: {problem}", flush=True)
                return
            again = True
        for name, process in list(self.children.items()):
            if process.poll() is not None:
                print(f"{name}: ended unexpectedly (code {process.returncode}), starting it again", flush=True)
                time.sleep(0.2)
                self._launch(name)
                self._tell(name)
                again = True
        if again:
            self._note()

    def stop(self) -> None:
        """End every process that was started: asked first, then made to. Of another's folder nothing is touched."""
        if not self.home.taken:
            return
        for process in self.children.values():
            _signal_group(process, signal.SIGTERM)
        until = time.monotonic() + 5
        for process in self.children.values():
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(max(until - time.monotonic(), 0.05))
            _signal_group(process, signal.SIGKILL)
            process.wait()
        self.postgres.stop()
        if self.socket is not None:
            self.socket.close()
        self.home.note.unlink(missing_ok=True)
        self.home.let_go()


def _signal_group(process: subprocess.Popen, number: int) -> None:
    """To the process and its own children, which share its session."""
    with contextlib.suppress(ProcessLookupError):
        os.killpg(process.pid, number)


def stop_running(home: Home) -> bool:
    """End what runs from this folder; False when nothing does."""
    found = home.running()
    if found is None:
        return False
    os.kill(found["pid"], signal.SIGTERM)
    until = time.monotonic() + 30
    while home.running() is not None:
        if time.monotonic() > until:
            raise SystemExit(f"The process {found['pid']} does not end.")
        time.sleep(0.05)
    return True
