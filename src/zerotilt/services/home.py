"""Where a running Zero Tilt keeps its things."""

from __future__ import annotations

import ctypes
import fcntl
import json
import os
import secrets
import shutil
import signal
import socket
import stat
from collections.abc import Callable
from pathlib import Path
from typing import Any

from zerotilt import key


class Home:
    """The data folder: database, files, log, and a note of what runs.

    ``ZT_HOME`` names it; the project's own ``.zt`` otherwise.
    """

    def __init__(self, folder: Path | None = None):
        self.project = Path(__file__).resolve().parents[3]
        self.folder = Path(folder).resolve() if folder else key.folder_named()
        made = not self.folder.exists()
        self.files, self.logs, self.scratch, self.structures = (
            self.folder / name for name in ("files", "logs", "scratch", "structures")
        )
        try:
            self._make(made)
        except OSError as problem:
            raise SystemExit(
                f"The data folder {self.folder} cannot be used: {problem.strerror}. Name another in ZT_HOME, or make this one "
                "writable."
            ) from None
        self.note = self.folder / "running.json"
        self._secret = self.folder / "database-password"
        self._lock: int | None = None

    def _make(self, made: bool) -> None:
        """Its folders, each open to its owner alone."""
        self.folder.mkdir(parents=True, exist_ok=True)
        # what people bring in is theirs alone; as root the database's own user and whoever runs models must pass through
        # the folder itself, also where it was there before
        if os.geteuid() == 0:
            mode = stat.S_IMODE(self.folder.stat().st_mode)
            self.folder.chmod(0o711 if made else mode | 0o011)
        elif made:
            self.folder.chmod(0o700)
        for own in (self.files, self.logs, self.structures):
            own.mkdir(exist_ok=True)
            own.chmod(0o700)
        self.scratch.mkdir(exist_ok=True)
        self.scratch.chmod(0o711 if os.geteuid() == 0 else 0o700)

    @property
    def password(self) -> str:
        """The database's password, made once and readable by the owner only."""
        if not self._secret.exists():
            handle = os.open(self._secret, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(handle, "w") as file:
                file.write(secrets.token_urlsafe(24))
        return self._secret.read_text()

    @property
    def key(self) -> str:
        """What who talks to the server must hold, made once and readable by the owner only."""
        return key.kept_in(self.folder)

    def take(self) -> bool:
        """Take the folder for this process, until it ends; False where another has it."""
        if self._lock is None:
            handle = os.open(self.folder / "lock", os.O_RDWR | os.O_CREAT, 0o600)
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                os.close(handle)
                return False
            self._lock = handle
        return True

    @property
    def taken(self) -> bool:
        return self._lock is not None

    def let_go(self) -> None:
        if self._lock is not None:
            os.close(self._lock)
            self._lock = None

    def sweep(self) -> int:
        """Remove what killed processes left in scratch; how many folders there were. Only while nothing runs from here."""
        left = list(self.scratch.iterdir())
        for folder in left:
            shutil.rmtree(folder, ignore_errors=True)
        return len(left)

    def running(self) -> dict[str, Any] | None:
        """What runs from this folder, None when its supervisor is gone."""
        try:
            found = json.loads(self.note.read_text())
            if not isinstance(found, dict) or type(found.get("pid")) is not int or found["pid"] <= 0:
                return None  # whatever wrote that, it is no note of ours
            os.kill(found["pid"], 0)
        except (FileNotFoundError, ProcessLookupError, ValueError, OverflowError, RecursionError):
            return None
        except PermissionError:
            pass
        return found if _started(found["pid"]) == found.get("started") else None

    def write_note(self, **entries: Any) -> None:
        part = self.note.with_suffix(".part")
        part.write_text(json.dumps({"pid": os.getpid(), "started": _started(os.getpid()), **entries}))
        part.replace(self.note)


def _started(pid: int) -> str | None:
    """The start time of a process, so that a reused number is not taken for it."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[19]
    except OSError:
        return None


MOST_LOG = 10 * 2**20


def rotate(log: Path, most: int = MOST_LOG) -> bool:
    """Set a log that has grown aside, while who writes it goes on: it is written at its end, wherever that is."""
    try:
        if log.stat().st_size <= most:
            return False
    except FileNotFoundError:
        return False
    shutil.copyfile(log, aside := log.with_suffix(".log.1"))
    aside.chmod(0o600)
    os.truncate(log, 0)
    return True


def listening(first: int) -> socket.socket:
    """A socket that listens on loopback, on the first port from ``first`` on that nobody has; nobody else can get it."""
    for port in range(first, first + 200):
        attempt = socket.socket()
        attempt.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            attempt.bind(("127.0.0.1", port))
            attempt.listen(256)
            return attempt
        except OSError:
            attempt.close()
    raise SystemExit(f"No free port between {first} and {first + 200}.")


def free_port(first: int) -> int:
    """The first port on loopback from ``first`` on that nothing listens on."""
    for port in range(first, first + 200):
        with socket.socket() as attempt:
            attempt.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                attempt.bind(("127.0.0.1", port))
                return port
            except OSError:
                continue
    raise SystemExit(f"No free port between {first} and {first + 200}.")


_PR_SET_PDEATHSIG = 1


def die_with_parent(number: signal.Signals) -> Callable[[], None]:
    """To be run in a new child: the kernel sends it this signal when its parent is gone."""
    library = ctypes.CDLL(None)
    return lambda: library.prctl(_PR_SET_PDEATHSIG, number) and None
