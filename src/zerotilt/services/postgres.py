"""A PostgreSQL server of our own on loopback, data in our own folder."""

from __future__ import annotations

import os
import pwd
import shutil
import signal
import subprocess
import time
from pathlib import Path

import psycopg2

from zerotilt.services.home import Home, die_with_parent, free_port

FIRST_PORT = 54_420
PORTS_TRIED = 5
DATABASE = "zerotilt"


def _binary(name: str) -> str:
    found = sorted(Path("/usr/lib/postgresql").glob(f"*/bin/{name}"), reverse=True)
    path = str(found[0]) if found else shutil.which(name)
    if not path:
        raise SystemExit("PostgreSQL is not installed. Run: apt-get install postgresql-15")
    return path


class NotStarted(SystemExit):
    """The server did not start; at the first start this ends the program, later it is tried again."""


class Postgres:
    """Start, stop and address one server. As root it runs under the ``postgres`` user, as it refuses root."""

    def __init__(self, home: Home):
        self.home = home
        self.as_root = os.geteuid() == 0
        self.folder = self._folder()
        self.port = 0
        self.process: subprocess.Popen | None = None

    def _folder(self) -> Path:
        """The project's own folder; a system folder where the ``postgres`` user cannot reach into it."""
        own = self.home.folder / "postgres"
        if not self.as_root or self._reachable(own.parent):
            return own
        name = "-".join(self.home.folder.parts[1:])
        return Path("/var/lib/postgresql/zerotilt") / name

    def _reachable(self, folder: Path) -> bool:
        return self._run("test", "-x", str(folder)).returncode == 0

    @property
    def _user(self) -> dict:
        return {"user": "postgres", "group": "postgres", "extra_groups": []} if self.as_root else {}

    def _run(self, *command: str) -> subprocess.CompletedProcess:
        return subprocess.run(command, capture_output=True, text=True, cwd="/", **self._user)

    @property
    def address(self) -> dict:
        return {
            "dbname": DATABASE,
            "host": "127.0.0.1",
            "port": self.port,
            "user": "zerotilt",
            "password": self.home.password,
        }

    def start(self, port: int | None = None) -> None:
        """Make the data folder when absent, start the server, wait until it answers, make the database."""
        if not (self.folder / "PG_VERSION").exists():
            self._initialise()
        self._clear_stale_lock()
        for attempt in range(PORTS_TRIED):
            self.port = port or free_port(FIRST_PORT + 7 * attempt)
            try:
                self._launch()
                return
            except NotStarted:
                # somebody took the port between looking for it and listening on it
                if port or attempt == PORTS_TRIED - 1 or "could not bind" not in self._last_words():
                    raise

    def _last_words(self) -> str:
        with (self.home.logs / "postgres.log").open("rb") as log:
            log.seek(max(log.seek(0, os.SEEK_END) - 2_000, 0))
            return log.read().decode("utf-8", "replace")

    def _launch(self) -> None:
        options = [
            "-D", str(self.folder), "-p", str(self.port),
            "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
            "-c", "max_connections=110", "-c", "shared_buffers=128MB",
            # what people entered stays out of the log
            "-c", "log_statement=none", "-c", "log_min_error_statement=panic", "-c", "log_error_verbosity=terse",
            "-c", "log_parameter_max_length=0", "-c", "log_parameter_max_length_on_error=0",
        ]  # fmt: skip
        with (self.home.logs / "postgres.log").open("ab") as log:
            self.process = subprocess.Popen(
                [_binary("postgres"), *options],
                stdout=log, stderr=log, stdin=subprocess.DEVNULL, cwd="/", start_new_session=True,
                preexec_fn=die_with_parent(signal.SIGINT), **self._user,
            )  # fmt: skip
        self._wait()

    def _clear_stale_lock(self) -> None:
        """A server that was killed leaves its lock; another program may have its number by now."""
        lock = self.folder / "postmaster.pid"
        if lock.exists():
            first = lock.read_text().split("\n")[0].strip()
            if first.isdigit() and self._serves(int(first)):
                self._run(_binary("pg_ctl"), "stop", "-D", str(self.folder), "-m", "fast", "-w")
            lock.unlink(missing_ok=True)

    def _serves(self, pid: int) -> bool:
        """Whether a process is a PostgreSQL of this very data folder; one of another is none of our business."""
        try:
            ours = b"postgres" in Path(f"/proc/{pid}/cmdline").read_bytes().split(b"\0")[0]
            return ours and os.path.samefile(f"/proc/{pid}/cwd", self.folder)
        except OSError:
            return False

    def _make_folder(self) -> None:
        """The data folder, and where it lies outside the home, folders above it that its own user can enter."""
        elsewhere = self.folder.parent != self.home.folder
        made = [one for one in (self.folder.parent, self.folder) if elsewhere or one == self.folder]
        for folder in made:
            folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            if self.as_root:
                self._give(folder)

    @staticmethod
    def _give(path: Path) -> None:
        owner = pwd.getpwnam("postgres")
        os.chown(path, owner.pw_uid, owner.pw_gid)

    def _initialise(self) -> None:
        self._make_folder()
        # beside the data and not in it: initdb wants an empty folder
        secret = self.folder.with_name(f"{self.folder.name}.pw")
        secret.touch(mode=0o600)
        secret.write_text(self.home.password)
        if self.as_root:
            self._give(secret)
        try:
            done = self._run(
                _binary("initdb"), "-D", str(self.folder), "-U", "zerotilt", "-E", "UTF8",
                "--locale=C.UTF-8", "--auth=scram-sha-256", f"--pwfile={secret}",
            )  # fmt: skip
        finally:
            secret.unlink()
        if done.returncode:
            shutil.rmtree(self.folder, ignore_errors=True)
            raise SystemExit(f"The database could not be made in {self.folder}:\n{done.stderr.strip()}")

    def _wait(self) -> None:
        until = time.monotonic() + 30
        while True:
            try:
                connection = psycopg2.connect(**(self.address | {"dbname": "postgres"}), connect_timeout=2)
                break
            except psycopg2.OperationalError as problem:
                if self.process.poll() is not None or time.monotonic() > until:
                    raise NotStarted(
                        f"PostgreSQL did not start; see {self.home.logs / 'postgres.log'}. {problem}"
                    ) from None
                time.sleep(0.05)
        connection.autocommit = True
        with connection.cursor() as cursor:
            cursor.execute("select 1 from pg_database where datname = %s", (DATABASE,))
            if not cursor.fetchone():
                cursor.execute(f"create database {DATABASE}")
        connection.close()

    def stop(self) -> None:
        """Fast shutdown: sessions are ended, data is safe."""
        if self.process is None:
            return
        self.process.send_signal(signal.SIGINT)
        try:
            self.process.wait(15)
        except subprocess.TimeoutExpired:
            self.process.kill()
        self.process = None
