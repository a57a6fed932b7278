"""Evidence: one computed result with everything needed to compute it again."""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Mapping
from datetime import UTC, datetime
from functools import cache
from importlib.metadata import version
from typing import Any

from pydantic import BaseModel, Field, PrivateAttr, ValidationError

from zerotilt import __version__
from zerotilt.core import rows as row_sets
from zerotilt.core import segments
from zerotilt.core.again import Measured
from zerotilt.core.attached import attached_to
from zerotilt.core.findings import Finding, Footing
from zerotilt.core.frozen import Frozen
from zerotilt.core.inputs import INPUTS
from zerotilt.core.marks import BEGIN
from zerotilt.core.meaning import Context, Role, Spec, counting
from zerotilt.core.method import Method
from zerotilt.core.methods import METHODS, method_named, result_of
from zerotilt.core.named_places import Places, in_words, taken_out, unmarked_refusal
from zerotilt.core.reading import Reading, Span, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.weighed import Weighing
from zerotilt.core.work import Work

LIBRARIES = ("numpy", "scipy", "numba", "pyarrow", "onnx", "onnxruntime")


class Digests(Frozen):
    """SHA-256 of everything a result depends on."""

    table: str
    spec: str
    model: str | None
    alongside: str | None = Field(default=None, description="Of the second model version, where one is read")
    comparisons: str = Field(default="", description="Of intersections and segments; counts where they are read")
    policy: str = Field(default="", description="Of the flag policy; counts where it is read")
    changeable: str = Field(default="", description="Of what a case could change; counts where changes are proposed")
    wording: str = Field(default="", description="Of the names in sentences; counts where a result holds sentences")
    compared: str = Field(default="", description="Of both together, as earlier versions kept it")
    inputs: dict[str, str] = Field(default={}, description="Of what it reads besides table and model, by name")

    @classmethod
    def of(
        cls,
        spec: Spec,
        table: str,
        model: str | None = None,
        alongside: str | None = None,
        inputs: Mapping[str, str] | None = None,
    ) -> Digests:
        """The digests of an audit's meaning, beside those of its table, model versions and other inputs."""
        return cls(
            table=table,
            spec=spec.digest(),
            model=model,
            alongside=alongside,
            comparisons=spec.comparisons_digest(),
            policy=spec.policy_digest(),
            changeable=spec.changeable_digest(),
            wording=spec.wording_digest(),
            compared=spec.compared_digest(),
            inputs=dict(inputs or {}),
        )

    def read_by(self, method: Method) -> Digests:
        """The same, of inputs those only that a method reads."""
        return self.model_copy(
            update={"inputs": {name: self.inputs[name] for name in method.reads_inputs if name in self.inputs}}
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
    reading: Reading | None = Field(default=None, description="As it was written when this was computed")
    weighing: Weighing | None = Field(default=None, description="By what its rows are weighted, where its numbers are")
    worded: Places = Field(
        default=(), description="Texts of the result in which the audit's own words stand, by their paths"
    )
    _attached: dict[str, bytes] = PrivateAttr(default_factory=dict)

    @property
    def attached(self) -> dict[str, bytes]:
        """Files that go with a result that was just computed, by the names of its fields."""
        return self._attached

    @property
    def settled(self) -> BaseModel:
        """The settings as the method's own type."""
        return METHODS[self.method].settings.model_validate(self.settings)

    @property
    def typed(self) -> BaseModel:
        """The result as the method's own type."""
        return METHODS[self.method].result.model_validate(self.result)

    def in_words(self, spec: Spec) -> Evidence:
        """The same numbers in the words of a meaning."""
        result = in_words(self.result, self.worded, spec)
        return self if result == self.result else self.model_copy(update={"result": result})

    def read(self, spec: Spec) -> Reading:
        """The sentence for this result in the audit's present wording; as it was written, where its method has changed."""
        if self.readable:
            told = self.in_words(spec)
            said = METHODS[self.method].read(told.typed, spec.wording, self.settled)
            return within(said, self.context, self._weighing(spec), spec)
        if self.reading is not None:
            return self.reading
        return plain(
            f"{self.title}, computed on {self.computed[:10]} by an earlier version of Zero Tilt; read it again to see it here.",
            "Its numbers are kept as they were.",
        )

    def _weighing(self, spec: Spec) -> Weighing | None:
        """By what it is weighted; of what was kept before that was, as far as the meaning tells."""
        column = spec.only(Role.weight)
        if self.weighing is not None or column is None or self.digests.spec != spec.digest():
            return self.weighing
        return Weighing(column=column.name) if METHODS[self.method].weighs else None

    def findings(self, spec: Spec) -> tuple[Finding, ...]:
        """What it gives rise to; nothing where its method has changed since."""
        if not self.readable:
            return ()
        segment, ending = self.context.segment, self.ending
        said = f"In {segment.name}: " if segment else ""
        return tuple(
            one.model_copy(
                update={
                    "name": one.name + ending,
                    "about": one.about and one.about + ending,
                    "statement": said + one.statement,
                }
            )
            for one in METHODS[self.method].findings_in(self.in_words(spec).typed, spec)
        )

    def footing(self, spec: Spec) -> Footing:
        """What its findings are found on, where it is of this meaning."""
        return footing_of(self.digests, self.context, spec)

    @property
    def ending(self) -> str:
        """What names of findings end in: what is so in a part, or of another model version, is another finding."""
        segment = self.context.segment
        # "and" between levels, as findings have been called since the first, so that decisions about them are found
        part = f" in {segment.name} ({segments.described(segment, 'and')})" if segment else ""
        return f"{part} [{self.digests.model or ''}]"

    def measured(self) -> dict[str, Measured]:
        """Every comparison that its findings could come of, flagged or not, by their names; none of an earlier version."""
        found = METHODS[self.method].measured if self.readable else None
        return {name + self.ending: one for name, one in found(self.typed).items()} if found else {}

    @property
    def readable(self) -> bool:
        """Whether it is of its method as it is today: of its version, and of a form that is known."""
        if self.method not in METHODS or METHODS[self.method].version != self.method_version:
            return False
        try:
            _ = (self.typed, self.settled)
        except (ValidationError, KeyError):
            return False
        return True


def footing_of(digests: Digests, context: Context, spec: Spec) -> Footing:
    """What findings are found on: table, model version, meaning, and the decision rule that was in force."""
    return Footing(
        table=digests.table,
        model=digests.model,
        meaning=digests.spec,
        problem=spec.problem_digest(),
        rule=context.rule.model_dump_json() if context.rule else "",
    )


def within(reading: Reading, context: Context, weighing: Weighing | None, spec: Spec) -> Reading:
    """A reading with the segment that it is of, so that nobody takes a part for the whole, and with what weights it."""
    segment, wording = context.segment, spec.wording
    if weighing is not None:
        said = weighing.said(wording.row, wording.rows)
        reading = reading.model_copy(update={"detail": f"{reading.detail} {said}".strip()})
    if segment is None:
        return reading
    return reading.model_copy(
        update={
            "headline": (Span(text=f"In {segment.name}: "), *reading.headline),
            "detail": f"{reading.detail} Only {segments.only(segment)}.".strip(),
        }
    )


def changed_since(found: Evidence, digests: Digests, context: Context) -> tuple[str, ...]:
    """What has changed since a result was computed, in words; empty where it would be computed alike today.

    Parameters
    ----------
    digests, context : those of today, for the same model version and rows.
    """
    method, was = METHODS.get(found.method), found.digests
    if method is None:
        return ("how it is computed",)
    split = bool(was.policy)  # earlier versions kept one digest of both
    parts = {
        "the table": was.table != digests.table,
        "the meaning of its columns": was.spec != digests.spec,
        "the model version": was.model != digests.model,
        **{INPUTS[name].words: was.inputs.get(name) != digests.inputs.get(name) for name in method.reads_inputs},
        "the other model versions": method.reads_others and found.context.others != context.others,
        "what is read alongside": method.reads_alongside and was.alongside != digests.alongside,
        "what is compared": split and "comparisons" in method.depends and was.comparisons != digests.comparisons,
        "the flag policy": split and "policy" in method.depends and was.policy != digests.policy,
        "the names in its sentences": "wording" in method.depends and was.wording != digests.wording,
        "the flag policy, or what is compared": not split
        and bool({"comparisons", "policy"} & method.depends)
        and was.compared != digests.compared,
        "what a case could change": "changeable" in method.depends and was.changeable != digests.changeable,
        "the decision rule": found.context.rule != context.rule,
        "how it is computed": found.method_version != method.version,
    }
    return tuple(part for part, changed in parts.items() if changed)


def key(method: Method, digests: Digests, context: Context, settings: BaseModel, seed: int) -> str:
    """SHA-256 over everything the result depends on; models count by their digests, not by their names."""
    body = {
        "method": method.name,
        "version": method.version,
        "digests": digests.model_dump(include={"table", "model", "alongside", *method.depends})
        | _of_inputs(method, digests),
        "context": _of_key(context),
        "settings": settings.model_dump(mode="json"),
        "seed": seed,
    }
    return hashlib.sha256(json.dumps(body, sort_keys=True).encode()).hexdigest()


def _of_inputs(method: Method, digests: Digests) -> dict[str, Any]:
    """Those that a method reads; of one that reads none nothing, so that keys of before stay."""
    read = digests.read_by(method).inputs
    return {"inputs": read} if read else {}


def _of_key(context: Context) -> dict[str, Any]:
    """A context as keys hold it. What it has learnt to say counts where it is said, so that keys of before stay."""
    found = context.model_dump(exclude={"model": True, "alongside": {"model"}})
    for name in ("others", "model_named"):
        if not found[name]:
            del found[name]
    for part in (found, found["alongside"] or {}):
        segment = part.pop("segment", None)
        if segment is not None:
            part["segment"] = counting(segment)
            if not segment["picked"]:
                del part["segment"]["picked"]
    if found["alongside"] is not None and not found["alongside"]["whole"]:
        del found["alongside"]["whole"]
    return found


@cache
def libraries() -> dict[str, str]:
    """What computes, and in which versions; looking that up takes longer than many a method."""
    return {"zerotilt": __version__} | {library: version(library) for library in LIBRARIES}


def compute(subject: Subject, digests: Digests, name: str, settings: BaseModel, seed: int, work: Work) -> Evidence:
    """Run a method and keep all that is needed to run it again."""
    method = method_named(name)
    method.refuse(subject)
    started = time.perf_counter()
    if subject.predictor is not None:
        subject.predictions.require_steady()
    # sentences that go into files have no named places: such a method computes anew in other words
    asked = subject if "wording" in method.depends else subject.with_marks
    try:
        result = result_of(method, asked, settings, seed, work)
    except Refused as problem:
        raise unmarked_refusal(problem) from None
    attached = attached_to(result)
    body, places = result.model_dump(mode="json"), ()
    if BEGIN in result.model_dump_json():
        body, places = taken_out(body, subject.spec)
        result = method.result.model_validate(body)
    weighing = subject.weighing if method.weighs else None
    found = Evidence(
        key=key(method, digests, subject.context, settings, seed),
        method=name,
        method_version=method.version,
        title=method.title,
        digests=digests.read_by(method),
        context=subject.context,
        rows=subject.n,
        rows_described=row_sets.describe(subject.spec, subject.context.row_set),
        settings=settings.model_dump(mode="json"),
        seed=seed,
        libraries=libraries(),
        computed=datetime.now(UTC).isoformat(timespec="seconds"),
        seconds=round(time.perf_counter() - started, 3),
        result=body,
        worded=places,
        weighing=weighing,
        reading=within(method.read(result, subject.spec.wording, settings), subject.context, weighing, subject.spec),
    )
    found._attached = attached
    return found
