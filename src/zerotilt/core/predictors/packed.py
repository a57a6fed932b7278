"""A model's structure as bytes, so that it is read once and found again: arrays as NPZ, words as JSON, never pickles."""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
from collections.abc import Callable
from dataclasses import fields
from typing import Any

import numpy as np
from numpy.lib.npyio import NpzFile
from numpy.typing import NDArray

from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.protocol import Unfit
from zerotilt.core.predictors.structure import Encoder, Structure
from zerotilt.core.trees.ensemble import Trees

VERSION = 1
"""To be raised when a structure is read or laid out otherwise: older bytes are then not looked for."""
_TREES = tuple(field.name for field in fields(Trees))


def name_of(model: str, table: str, spec: str) -> str:
    """What a structure is kept under: SHA-256 of what it was read from and held against, by their digests."""
    return hashlib.sha256(json.dumps([VERSION, model, table, spec]).encode()).hexdigest()


def packed(found: Structure | None, why: str, output: str | None) -> bytes:
    """A structure, or why there is none; ``output``: which of the graph's outputs is meant."""
    said: dict[str, Any] = {"version": VERSION, "why": why, "output": output, "found": found is not None}
    arrays: dict[str, NDArray] = {}
    if found is not None:
        said |= {"link": found.link, "reach": found.reach, "finite": found.finite}
        said |= {"sources": found.encode.sources, "inside": found.encode.inside, "part": found.encode.part is not None}
        arrays |= {"owner": found.owner, "base": found.base}
        arrays |= {"part": np.frombuffer(found.encode.part or b"", np.uint8)}
        if found.coefficients is not None:
            arrays["coefficients"] = found.coefficients
        if found.trees is not None:
            arrays |= {f"trees_{name}": getattr(found.trees, name) for name in _TREES}
    sink = io.BytesIO()
    np.savez_compressed(sink, said=np.frombuffer(json.dumps(said).encode(), np.uint8), allow_pickle=False, **arrays)
    return sink.getvalue()


def unpacked(data: bytes, feed: Callable[[Frame], dict[str, NDArray]]) -> tuple[Structure | None, str, str | None]:
    """The inverse of :func:`packed`; ``feed``: raw rows to the graph's inputs.

    Raises
    ------
    Unfit : the bytes are damaged, or of another version.
    """
    try:
        with NpzFile(io.BytesIO(data), allow_pickle=False) as file:
            said = json.loads(file["said"].tobytes())
            if said["version"] != VERSION:
                raise Unfit(f"version {said['version']}")
            if not said["found"]:
                return None, said["why"], said["output"]
            part = file["part"].tobytes() if said["part"] else None
            trees = Trees(**{name: file[f"trees_{name}"] for name in _TREES}) if "trees_roots" in file else None
            found = Structure(
                Encoder(feed, said["sources"], part, said["inside"]),
                file["owner"],
                trees,
                file.get("coefficients"),
                file["base"],
                said["link"],
                said["reach"],
                tuple(said["finite"]),
            )
            return found, said["why"], said["output"]
    except (KeyError, TypeError, ValueError, EOFError, OSError, zipfile.BadZipFile) as problem:
        raise Unfit(str(problem)) from None
