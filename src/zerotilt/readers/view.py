"""A view of the machine in which another user can enter what a reader needs, and nothing else of a closed folder.

Where Python or the program lies under a folder that only root can enter (root's own, as a rule), the user who reads models
could not load a line of them. A process that is root may then take a view of its own (a mount namespace): the closed folder
is an empty one that everybody may enter, with what is needed bound to where it was. What else it holds is not there at all.
"""

from __future__ import annotations

import ctypes
import json
import os
import pwd
import sys
import tempfile
from collections.abc import Iterable, Sequence
from functools import cache
from pathlib import Path

NEW_VIEW, PRIVATE, BIND, DETACHED = 0x20000, 0x4000 | 0x40000, 0x1000 | 0x4000, 2  # of <sched.h> and <sys/mount.h>


def needed() -> list[Path]:
    """Folders of Python and of the program."""
    program = Path(__file__).resolve().parents[3]
    held = [Path(sys.base_prefix), Path(sys.prefix), program, *(Path(one) for one in sys.path if one)]
    if sys.pycache_prefix:
        held.append(Path(sys.pycache_prefix))
    return _outermost(one.resolve() for one in held if one.is_dir())


def closed(paths: Iterable[Path]) -> dict[Path, list[Path]]:
    """Folders that not everybody may enter, the outermost ones, with the paths that lie in them."""
    found: dict[Path, list[Path]] = {}
    for path in paths:
        for folder in reversed(path.parents):
            if not folder.stat().st_mode & 0o001:
                found.setdefault(folder, []).append(path)
                break
    return found


def open_to_others(*own: Path) -> bool:
    """Take the view, for this process and all that it starts; whether others can enter everything that is needed then.

    To be called before there are other threads. Does nothing where nothing is closed, or where this is not root.

    Parameters
    ----------
    own : further folders that are needed: the data folder, and the scratch in it.
    """
    if os.geteuid() != 0:
        return False
    wanted = _outermost([*needed(), *(one.resolve() for one in own)])
    if not (tops := closed(wanted)):
        return True
    if any(not one.stat().st_mode & 0o001 for one in wanted):
        return False  # what is needed is closed itself, and would be afterwards
    try:
        _taken(tops)
    except OSError:
        return False
    return not closed(wanted)


@cache
def can_be_taken(*own: Path) -> bool:
    """Whether this machine lets root take such a view; tried in a process of its own."""
    number = os.fork()
    if not number:
        code = 1
        try:
            if open_to_others(*own):
                other = pwd.getpwnam("nobody")
                os.setgroups([])
                os.setgid(other.pw_gid)
                os.setuid(other.pw_uid)
                for one in (__file__, json.__file__, sys.executable):
                    with open(one, "rb") as source:
                        source.read(1)
                code = 0
        finally:
            os._exit(code)
    return os.waitstatus_to_exitcode(os.waitpid(number, 0)[1]) == 0


def _taken(tops: dict[Path, Sequence[Path]]) -> None:
    libc = ctypes.CDLL(None, use_errno=True)

    def done(result: int) -> None:
        if result:
            number = ctypes.get_errno()
            raise OSError(number, os.strerror(number))

    def mount(source: str, target: Path, kind: bytes | None, flags: int, data: bytes | None = None) -> None:
        done(libc.mount(os.fsencode(source), os.fsencode(target), kind, flags, data))

    done(libc.unshare(NEW_VIEW))
    mount("none", Path("/"), None, PRIVATE)  # what is mounted here is seen here alone
    aside = Path(tempfile.mkdtemp(prefix="zt-view-"))
    mount("tmpfs", aside, b"tmpfs", 0, b"mode=0700,size=1m")
    for number, (top, paths) in enumerate(tops.items()):
        for place, path in enumerate(paths):
            held = aside / f"{number}-{place}"
            held.mkdir()
            mount(str(path), held, None, BIND)
        mount("tmpfs", top, b"tmpfs", 0, b"mode=0755,size=1m")
        for place, path in enumerate(paths):
            path.mkdir(mode=0o755, parents=True)
            for folder in path.parents:
                if folder.is_relative_to(top):
                    folder.chmod(0o755)
            mount(str(aside / f"{number}-{place}"), path, None, BIND)
    done(libc.umount2(os.fsencode(aside), DETACHED))
    aside.rmdir()


def _outermost(paths: Iterable[Path]) -> list[Path]:
    """Each once, and none that lies in another."""
    each = sorted(set(paths))
    return [one for one in each if not any(other != one and one.is_relative_to(other) for other in each)]
