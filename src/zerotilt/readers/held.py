"""What a process keeps open: a table, models bound to it, and the subjects that were read last."""

from __future__ import annotations

import hashlib
import json
import mmap
import os
from collections import OrderedDict
from collections.abc import Callable, Hashable
from pathlib import Path
from typing import Any, TypeVar

import pyarrow as pa

from zerotilt.core.evidence import Digests
from zerotilt.core.inputs import Given, input_named, path_of
from zerotilt.core.meaning import Context, Spec
from zerotilt.core.predictors import Predictor
from zerotilt.core.predictors.formats import opened
from zerotilt.core.predictors.packed import name_of
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.readers import structures

T = TypeVar("T")
MOST = 4
"""Of each kind; the least used is given up."""


class Held:
    """Opened once, found again by what it was made of."""

    def __init__(self) -> None:
        self._tables: OrderedDict[Hashable, Table] = OrderedDict()
        self._models: OrderedDict[Hashable, Predictor] = OrderedDict()
        self._inputs: OrderedDict[Hashable, Any] = OrderedDict()
        self._subjects: OrderedDict[Hashable, tuple[Subject, Digests]] = OrderedDict()
        self._new: dict[str, tuple[str, Predictor]] = {}

    def subject(self, arguments: dict[str, Any]) -> tuple[Subject, Digests]:
        """The subject that a job's arguments describe, and the digests of what it is made of.

        Raises
        ------
        Refused : the model does not fit the table, or cannot be loaded.
        """
        named = [arguments.get(f"{name}_digest") for name in ("table", "model", "alongside")]
        named.append(arguments.get("inputs") or {})
        meant = [arguments["spec"], arguments["context"]]
        key = hashlib.sha256(json.dumps([named, meant], sort_keys=True, default=str).encode()).hexdigest()
        return _kept(self._subjects, key, lambda: self._opened(arguments))

    def _opened(self, arguments: dict[str, Any]) -> tuple[Subject, Digests]:
        spec = Spec.model_validate(arguments["spec"])
        cases = _kept(self._tables, arguments["table_digest"], lambda: Table(mapped(arguments["table_path"])))
        context = Context.model_validate(arguments["context"])
        predictor, given = self._model(arguments, "model", cases, spec), self._given(arguments, cases, spec)
        beside, second = None, None
        if (other := context.beside()) is not None:
            second = self._model(arguments, "alongside", cases, spec)
            beside = Subject(spec, cases, second or predictor, other, inputs=given)
        digests = Digests.of(
            spec,
            arguments["table_digest"],
            predictor.digest if predictor else None,
            alongside=second.digest if second else None,
            inputs=arguments.get("inputs"),
        )
        return Subject(spec, cases, predictor, context, beside, inputs=given), digests

    def _given(self, arguments: dict[str, Any], cases: Table, spec: Spec) -> Given:
        """What else the audit was given; opened by who reads it."""

        def opener(name: str, digest: str) -> Callable[[], Any]:
            key = (name, digest, arguments["table_digest"], spec.digest())
            path = arguments[path_of(name)]
            return lambda: _kept(self._inputs, key, lambda: input_named(name).open(mapped(path), cases, spec))

        named = arguments.get("inputs") or {}
        return Given({name: opener(name, digest) for name, digest in named.items()})

    def _model(self, arguments: dict[str, Any], name: str, cases: Table, spec: Spec) -> Predictor | None:
        """A model version; none where no file stands for one."""
        path = arguments.get(f"{name}_path")
        if path is None:
            return None
        key = (arguments.get(f"{name}_digest"), arguments["table_digest"], spec.digest())
        return _kept(self._models, key, lambda: self._bound(arguments, name, cases, spec))

    def _bound(self, arguments: dict[str, Any], name: str, cases: Table, spec: Spec) -> Predictor:
        """A model bound to the table, with its structure where that was found before."""
        made = opened(mapped(arguments[f"{name}_path"]).read(), cases, spec)
        digest = arguments[f"{name}_digest"]
        kept = name_of(digest, arguments["table_digest"], spec.digest())
        if not structures.recall(arguments.get(f"{name}_folder_path"), made, kept):
            self._new[kept] = (digest, made)
        return made

    def leave_new(self, scratch: Path) -> list[list[str]]:
        """Write the structures found since this was asked last to scratch; of each its model's digest and its name."""
        new, self._new = self._new, {}
        return [[digest, name] for name, (digest, made) in new.items() if structures.leave(made, name, scratch)]


def _kept(shelf: OrderedDict[Hashable, T], key: Hashable, make: Callable[[], T]) -> T:
    if key not in shelf:
        shelf[key] = make()
        while len(shelf) > MOST:
            shelf.popitem(last=False)
    shelf.move_to_end(key)
    return shelf[key]


def mapped(path: str | int) -> pa.BufferReader:
    """A file, by its path or opened already, as memory.

    Read in this way, processes that share an open file do not move one another's place in it.
    """
    handle = os.open(path, os.O_RDONLY) if isinstance(path, str) else path
    try:
        size = os.fstat(handle).st_size
        found = mmap.mmap(handle, size, prot=mmap.PROT_READ) if size else b""
    finally:
        if isinstance(path, str):
            os.close(handle)
    return pa.BufferReader(pa.py_buffer(found))
