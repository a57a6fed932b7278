"""Evidence: one computed result with everything needed to compute it again."""

from __future__ import annotations

import hashlib
import json
import time
from datetime import UTC, datetime
from importlib.metadata import version
from typing import Any

from pydantic import BaseModel, Field, ValidationError

from zerotilt import __version__
from zerotilt.core import rows
from zerotilt.core.methods import METHODS, Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Context, Frozen, Spec
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

LIBRARIES = ("numpy", "scipy", "numba", "pyarrow", "onnx", "onnxruntime")


class Digests(Frozen):
    """SHA-256 of everything a result depends on."""

    table: str
    spec: str
    model: str | None
    alongside: str | None = Field(default=None, description="Of the second model version, where one is read")
    compared: str = Field(
        default="", description="Of flag policy, intersections and segments; counts where groups are compared"
    )


class Evidence(Frozen):
    """A result and its provenance. ``key`` names everything it depends on."""

    key: str
    method: str
    method_version: int
    title: str
    digests: Digests
    context: Context
    rows: int
    rows_described: str
    settings: dict[str, Any]
    seed: int
    libraries: dict[str, str]
    computed: str = Field(description="UTC time, ISO 8601")
    seconds: float
    result: dict[str, Any]

    @property
    def settled(self) -> BaseModel:
        """The settings as the method's own type."""
        return METHODS[self.method].settings.model_validate(self.settings)

    @property
    def typed(self) -> BaseModel:
        """The result as the method's own type."""
        return METHODS[self.method].result.model_validate(self.result)

    def read(self, spec: Spec) -> Reading:
        """The sentence for this result in the audit's present wording."""
        if not self.readable:
            return plain(
                f"{self.title}, computed on {self.computed[:10]} by an earlier version of Zero Tilt; read it again to see it here.",
                "Its numbers are kept as they were.",
            )
        return METHODS[self.method].read(self.typed, spec.wording, self.settled)

    @property
    def readable(self) -> bool:
        """Whether this version knows the result's form; those of earlier versions may have had another."""
        try:
            self.typed, self.settled  # noqa: B018
        except (ValidationError, KeyError):
            return False
        return True


def changed_since(found: Evidence, digests: Digests, context: Context) -> tuple[str, ...]:
    """What has changed since a result was computed, in words; empty where it would be computed alike today.

    Parameters
    ----------
    digests, context : those of today, for the same model version and rows.
    """
    method, was = METHODS[found.method], found.digests
    parts = {
        "the table": was.table != digests.table,
        "the meaning of its columns": was.spec != digests.spec,
        "the model version": was.model != digests.model,
        "what is read alongside": method.reads_alongside and was.alongside != digests.alongside,
        "the flag policy, or what is compared": method.reads_groups and was.compared != digests.compared,
        "the decision rule": found.context.rule != context.rule,
        "how it is computed": found.method_version != method.version,
    }
    return tuple(part for part, changed in parts.items() if changed)


def method_named(name: str) -> Method:
    if name not in METHODS:
        raise Refused(f"method: “{name}” is unknown; there are {', '.join(METHODS)}.")
    return METHODS[name]


def key(method: Method, digests: Digests, context: Context, settings: BaseModel, seed: int) -> str:
    """SHA-256 over everything the result depends on; models count by their digests, not by their names."""
    body = {
        "method": method.name,
        "version": method.version,
        "digests": digests.model_dump(exclude=set() if method.reads_groups else {"compared"}),
        "context": context.model_dump(exclude={"model": True, "alongside": {"model"}}),
        "settings": settings.model_dump(mode="json"),
        "seed": seed,
    }
    return hashlib.sha256(json.dumps(body, sort_keys=True).encode()).hexdigest()


def compute(subject: Subject, digests: Digests, name: str, settings: BaseModel, seed: int, work: Work) -> Evidence:
    """Run a method and keep all that is needed to run it again."""
    method = method_named(name)
    started = time.perf_counter()
    if subject.predictor is not None:
        subject.steady  # noqa: B018  refuses a model that changes its mind
    result = method.compute(subject, settings, seed, work)
    return Evidence(
        key=key(method, digests, subject.context, settings, seed),
        method=name,
        method_version=method.version,
        title=method.title,
        digests=digests,
        context=subject.context,
        rows=subject.n,
        rows_described=rows.describe(subject.spec, subject.context.rows),
        settings=settings.model_dump(mode="json"),
        seed=seed,
        libraries={"zerotilt": __version__} | {library: version(library) for library in LIBRARIES},
        computed=datetime.now(UTC).isoformat(timespec="seconds"),
        seconds=round(time.perf_counter() - started, 3),
        result=result.model_dump(mode="json"),
    )
