"""Structures of models, kept in a folder a model: found once by a reader, and again by every reader after it.

A folder is opened before a reader gives up its rights, so that a model's process reaches its own structures and nobody
else's. What a reader found it leaves in its scratch, and who started it puts it into the folder.
"""

from __future__ import annotations

import contextlib
import os
import uuid
from pathlib import Path

from zerotilt.core.predictors import Predictor
from zerotilt.core.predictors.protocol import Unfit

MOST_BYTES = 512 * 2**20
SUFFIX = ".structure"


def recall(folder: str | int | None, predictor: Predictor, name: str) -> bool:
    """Give a model the structure that is kept under a name; whether there was one that fits."""
    if folder is None:
        return False
    with contextlib.suppress(OSError, Unfit):
        predictor.recall(_read(folder, name))
        return True
    return False


def _read(folder: str | int, name: str) -> bytes:
    if isinstance(folder, str):
        return (Path(folder) / name).read_bytes()
    with os.fdopen(os.open(name, os.O_RDONLY, dir_fd=folder), "rb") as file:
        return file.read()


def leave(predictor: Predictor, name: str, scratch: Path) -> bool:
    """Write what was found to scratch, to be kept; whether anything was found."""
    found = predictor.remembered()
    if found is None:
        return False
    (scratch / f"{name}{SUFFIX}").write_bytes(found)
    return True


def keep(scratch: Path, name: str, folder: Path) -> None:
    """Put what a reader left into a model's folder: complete or not at all. A reader's word is not relied on."""
    left = scratch / f"{name}{SUFFIX}"
    if len(name) != 64 or not set(name) <= set("0123456789abcdef"):
        return
    with contextlib.suppress(OSError):
        source = os.open(left, os.O_RDONLY | os.O_NOFOLLOW)
        with os.fdopen(source, "rb") as file:
            data = file.read(MOST_BYTES + 1)
        if len(data) > MOST_BYTES:
            return
        folder.mkdir(parents=True, exist_ok=True)
        new = folder / f"{name}.{uuid.uuid4().hex}"
        new.write_bytes(data)
        new.chmod(0o644)
        new.replace(folder / name)
        left.unlink()


def clear(root: Path, wanted: set[str]) -> None:
    """Remove the folders of models that are kept no more."""
    for folder in root.iterdir() if root.exists() else ():
        if folder.name not in wanted:
            for file in folder.iterdir():
                file.unlink(missing_ok=True)
            folder.rmdir()
