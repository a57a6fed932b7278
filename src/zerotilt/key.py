"""The house's key: who holds it may read and write everything that is in it, through the server.

It is a file in the house's folder that the owner alone can read. The address that is printed at the start carries it once,
and the browser keeps it as a cookie; programs of the same owner find it by themselves and send it as a bearer token.
"""

from __future__ import annotations

import contextlib
import hmac
import json
import os
import secrets
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

KEY = "key"
"""What the address calls it."""
GIVEN = "ZT_KEY"
"""Name in the environment of the key of a house whose folder is not known here."""
FOLDER = "ZT_HOME"


def kept_in(folder: Path) -> str:
    """The key of a house, made once."""
    path = folder / "token"
    with contextlib.suppress(FileExistsError):
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "w") as file:
            file.write(secrets.token_urlsafe(32))
    found = path.read_text().strip()
    if not found:  # it was killed between making the file and writing it
        path.unlink()
        return kept_in(folder)
    return found


def folder_named() -> Path:
    """The house's folder, as the environment names it; the project's own otherwise."""
    return Path(os.environ.get(FOLDER) or Path(__file__).resolve().parents[2] / ".zt").resolve()


def of(address: str) -> str | None:
    """The key of a running house, by its address: in the address, in the environment, or in its folder; None where
    nobody told."""
    parts = urlsplit(address)
    for given in (*parse_qs(parts.query).get(KEY, ()), os.environ.get(GIVEN)):
        if given:
            return given
    folder = folder_named()
    try:
        running = json.loads((folder / "running.json").read_text())
        if urlsplit(str(running["url"])).netloc == parts.netloc:
            return (folder / "token").read_text().strip() or None
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        pass
    return None


def same(given: str, key: str) -> bool:
    """Whether it is the key, told in a time that says nothing of how far it is right."""
    return hmac.compare_digest(given.encode("utf-8", "replace"), key.encode())


def entrance(url: str, key: str) -> str:
    """The address that lets a browser in."""
    return f"{url}/?{KEY}={key}"
