"""What a process does to itself before it touches anybody's file, and how it answers: JSON, never pickles."""

from __future__ import annotations

import json
import os
import pwd
import resource
import signal
import stat
import sys
import time
from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from zerotilt.core import bounded
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work
from zerotilt.readers import walls
from zerotilt.readers.view import can_be_taken

TICK = 0.2


def unprivileged(arguments: dict, scratch: str) -> dict:
    """Give up being root: a model is somebody's file. Files it may read are opened before; scratch is its own.

    Stays where it is when it is not root, or when that user could not reach the program's own files.
    """
    # whatever a library wants to leave somewhere, it leaves in scratch
    for name in [one for one in os.environ if one.startswith("XDG_")]:
        del os.environ[name]
    os.environ["HOME"] = os.environ["MPLCONFIGDIR"] = scratch
    other = other_user(Path(scratch).parent)
    if other is None:
        return arguments
    opened = {
        name: os.open(value, os.O_RDONLY) if name.endswith("path") and isinstance(value, str) else value
        for name, value in arguments.items()
    }
    give(Path(scratch), other)
    os.setgroups([])
    os.setgid(other.pw_gid)
    os.setuid(other.pw_uid)
    _keep_no_kernels()
    return opened


def give(scratch: Path, other: pwd.struct_passwd) -> None:
    """Make a scratch folder, and the files that were put there for its job, another user's own."""
    for one in scratch.iterdir():
        found = one.lstat()
        # a job that was lost may have left something there that leads elsewhere
        if stat.S_ISREG(found.st_mode) and found.st_nlink == 1:
            os.chown(one, other.pw_uid, other.pw_gid, follow_symlinks=False)
    os.chown(scratch, other.pw_uid, other.pw_gid)


def _keep_no_kernels() -> None:
    """What has to be compiled from here on is compiled for this process alone.

    Compiled kernels lie beside the sources, where this user may not write, nor read where root keeps files to itself; the
    compiler would fail over either. What somebody's model could have left there is run by nobody else, too.
    """
    caching = sys.modules.get("numba.core.caching")
    if caching is not None:
        caching.IndexDataCacheFile.load = caching.IndexDataCacheFile.save = lambda *_: None


def other_user(*own: Path) -> pwd.struct_passwd | None:
    """Who runs models where this is root; None where it is not, or where that user could not reach the program or ``own``."""
    return None if os.geteuid() != 0 or _closed(*own) is not None else pwd.getpwnam("nobody")


def runs_as(*own: Path) -> tuple[str, str]:
    """Who runs models here and what keeps them in, in words; and what to do about it where that is root or nothing.

    Parameters
    ----------
    own : the folder in which its processes have their scratch, which they must reach besides the program.
    """
    (who, other), (kept, install) = _who(*own), walls.said()
    return f"{who}; {kept}", f"{other} {install}".strip()


def _who(*own: Path) -> tuple[str, str]:
    if os.geteuid() != 0:
        return f"models run as {pwd.getpwuid(os.geteuid()).pw_name}, who started Zero Tilt", ""
    if (closed := _closed(*own)) is not None and not can_be_taken(*own):
        return (
            f"models run as root, since other users cannot enter {closed}",
            "Start Zero Tilt as an ordinary user, or keep it, its Python and its data where other users can enter.",
        )
    return "models run as nobody, who owns nothing", ""


def _closed(*own: Path) -> Path | None:
    """A folder above the program, its Python or ``own`` that not everybody may go through; None where there is none."""
    for path in (Path(__file__), Path(sys.executable), *(one / "scratch" for one in own)):
        for folder in path.resolve().parents:
            if not folder.stat().st_mode & 0o001:
                return folder
    return None


def end_with_parent() -> None:
    """To be called after the change of user, which clears it."""
    bounded.end_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is the parent's business


def limit_memory(memory: int) -> None:
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))


def tell(pipe: Connection, kind: str, body: Any) -> None:
    pipe.send_bytes(json.dumps([kind, body]).encode())


def told(pipe: Connection) -> tuple[str, Any]:
    """What was told. The other side has run somebody's model, so nothing it says is executed here.

    Raises
    ------
    EOFError : it is gone. ValueError : it says something else.
    """
    kind, body = json.loads(pipe.recv_bytes())
    return kind, body


def perform(pipe: Connection, job: Callable[[Work], dict[str, Any]], memory: int, executor: Any = None) -> None:
    """Do a job and tell of its progress and its end."""
    last = 0.0

    def report(done: int, total: int, what: str) -> None:
        nonlocal last
        now = time.monotonic()
        if now - last > TICK / 2 or done >= total:
            last = now
            tell(pipe, "progress", (int(done), int(total), what))

    try:
        tell(pipe, "result", job(Work(report, executor)))
    except Refused as problem:
        tell(pipe, "refused", problem.as_dict())
    except MemoryError:
        tell(
            pipe,
            "refused",
            Refused(
                f"The work needed more than {memory / 2**30:,.3g} GiB of memory and was stopped.",
                todo="Read fewer rows, or use a smaller table.",
            ).as_dict(),
        )
    except (BrokenPipeError, ConnectionResetError):
        os._exit(1)  # nobody is listening any more
    except Exception as problem:
        tell(pipe, "failed", f"{type(problem).__name__}: {problem}")
