"""Where a running Zero Tilt keeps its things."""

from __future__ import annotations

import ctypes
import json
import os
import secrets
import signal
import socket
from collections.abc import Callable
from pathlib import Path
from typing import Any


class Home:
    """The data folder: database, files, log, and a note of what runs.

    ``ZT_HOME`` names it; the project's own ``.zt`` otherwise.
    """

    def __init__(self, folder: Path | None = None):
        project = Path(__file__).resolve().parents[3]
        self.project = project
        self.folder = Path(folder or os.environ.get("ZT_HOME") or project / ".zt").resolve()
        self.folder.mkdir(parents=True, exist_ok=True)
        self.files = self.folder / "files"
        self.logs = self.folder / "logs"
        self.logs.mkdir(exist_ok=True)
        self.note = self.folder / "running.json"
        self._secret = self.folder / "database-password"

    @property
    def password(self) -> str:
        """The database's password, made once and readable by the owner only."""
        if not self._secret.exists():
            handle = os.open(self._secret, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(handle, "w") as file:
                file.write(secrets.token_urlsafe(24))
        return self._secret.read_text()

    def running(self) -> dict[str, Any] | None:
        """What runs from this folder, None when its supervisor is gone."""
        try:
            found = json.loads(self.note.read_text())
            os.kill(found["pid"], 0)
        except (FileNotFoundError, ProcessLookupError, ValueError, KeyError):
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
