"""What a method says of itself, once: everything else about it is made from this."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, get_args

from pydantic import BaseModel

from zerotilt.core.again import Measured
from zerotilt.core.attached import Attached
from zerotilt.core.drawing import Picture
from zerotilt.core.findings import Finding
from zerotilt.core.inputs import INPUTS
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.predictions import NO_MODEL
from zerotilt.core.reading import Reading, short
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work

Area = Literal["intake", "data", "drivers", "response", "cases", "pockets", "tilt", "remedies"]
NEEDS = frozenset({"outcome", "predictions", "model", "recipe"})
"""What a method cannot work without, besides a table: known outcomes; predictions or decisions, of a model or recorded; a
model that can be asked about new rows; a version that was trained here and so can be trained again. Or an input, by the name
that it is declared under."""
WITHOUT_OUTCOME = " By group and Distribution tell what moves the output without it."
Part = Literal["spec", "comparisons", "policy", "changeable", "wording"]
"""Parts of an audit's meaning: what the columns are and what is predicted; what is compared; which limits flag;
what a case could change; the names that sentences use, where they stand in the result itself."""


def once(subject: Subject, so_far: Mapping[str, list[Any]], fewer: int | None) -> Iterable[Asked]:
    """Read once, with the settings it has at first."""
    yield {}, ""


Asked = tuple[Mapping[str, Any], str]
"""Settings, and the heading of what is read with them; none where it is the section's only one."""


@dataclass(frozen=True)
class Place:
    """Where a method stands in the report."""

    section: str
    """The heading."""
    asked: Callable[[Subject, Mapping[str, list[Any]], int | None], Iterable[Asked]] = once
    """What is read, given the results that stand before it, by method; ``fewer``: rows read by each explanation."""
    caption: Callable[[Any, Spec], str] | None = None
    """What its figure shows; the title when there is none."""


@dataclass(frozen=True)
class Method:
    """A pure function of (subject, settings, seed) with one frozen result, and all that is said about it.

    Route, API schema, TypeScript types, address, dossier, report, command line, notebook and ``docs/methods.md`` are
    made from this declaration.
    """

    name: str
    """The same in route, address, file, command line and notebook."""
    area: Area
    title: str
    settings: type[BaseModel]
    result: type[BaseModel]
    compute: Callable[[Subject, Any, int, Work], BaseModel]
    say: Callable[[Any, Wording, Any], Reading]
    """The sentences that read a result."""
    note: str
    """How it is computed, in plain words, paragraphs parted by an empty line; ``**`` makes a term stand out."""
    main: str
    """The field of the result that holds the records behind its figure."""
    part: str = ""
    """The part of its sheet where it is read; the first when empty."""
    needs: frozenset[str] = frozenset({"model"})
    depends: frozenset[Part] = frozenset({"spec"})
    """The parts of the meaning that its numbers depend on; its key holds these and no others."""
    address: Mapping[str, str] = field(default_factory=dict)
    """Names of settings in the address, where they are not the settings' own."""
    findings: Callable[[Any, Spec], Iterable[Finding]] | None = None
    """What a result gives rise to that somebody has to decide about."""
    measured: Callable[[Any], Mapping[str, Measured]] | None = None
    """Every comparison that its findings could come of, by their names, flagged or not."""
    besides: Callable[[Iterable[Finding]], Mapping[str, Any]] | None = None
    """Settings with which findings of before are measured again, where a reading does not measure them by itself."""
    unasked: Callable[[Spec], Mapping[str, Any] | None] = lambda spec: {}
    """Settings with which its findings are read in every audit; None where there is nothing to read."""
    place: Place | None = None
    """Where the report reads it unasked; what is kept of others stands in the report all the same."""
    picture: Callable[[Any, Spec], Picture | None] | None = None
    """The printed figure, where it is one of the plain kinds; the report has painters of its own for others."""
    arrays: Callable[[Any], Mapping[str, list[dict[str, Any]]]] | None = None
    """Arrays of a result that are not fields of records."""
    reads: Callable[[Any], str] = lambda settings: ""
    """The method whose table, with its first settings and of the same context, these settings read; none when empty."""
    also: Callable[[Any], Iterable[tuple[str, Mapping[str, Any]]]] = lambda settings: ()
    """Other methods, and their settings, that are shown beside it: computed in the same turn, each kept as its own."""
    version: int = 1
    """Raised when numbers change, so that older evidence is not taken for the new."""
    weighs: bool = True
    """Whether row weights count in its numbers, where a column holds them; that is then said beside them."""
    reads_others: bool = False
    """Whether all other model versions of the audit are read on the same rows."""
    reads_alongside: bool = False
    """Whether a second model version or row set is read in the same figure."""
    first_look: Mapping[str, int] = field(default_factory=dict)
    """Settings with which it is there within a second, from a sample, while the whole is computed."""

    def __post_init__(self) -> None:
        unknown = [name for name in (*self.address, *self.first_look) if name not in self.settings.model_fields]
        if unknown:
            raise ValueError(f"{self.name}: “{unknown[0]}” is none of its settings")
        if strange := sorted(self.needs - NEEDS - set(INPUTS)):
            raise ValueError(f"{self.name}: it needs “{strange[0]}”, which is no input")
        if self.main and self.main not in self.result.model_fields and self.arrays is None:
            raise ValueError(f"{self.name}: its result has no field “{self.main}”")

    @property
    def reads_inputs(self) -> tuple[str, ...]:
        """The inputs that it reads besides table and model, by name."""
        return tuple(sorted(self.needs & set(INPUTS)))

    @property
    def quick(self) -> bool:
        """Whether it only scores the rows and counts."""
        return self.area in ("tilt", "intake") and not self.first_look

    @property
    def attaches(self) -> bool:
        """Whether files go with its results."""
        fields = self.result.model_fields.values()
        return any(Attached in (one.annotation, *get_args(one.annotation)) for one in fields)

    def lacking(self, subject: Subject) -> Refused | None:
        """Why this cannot be read of a subject; None where it can."""
        if "model" in self.needs and subject.predictor is None:
            return Refused(NO_MODEL, todo="Upload the model as ONNX in Intake.")
        if "outcome" in self.needs and not subject.spec.knows_outcome:
            return Refused(
                "This needs what really happened, and no column of this audit says it.",
                todo="Mark the column with the outcome in Intake, where the table has one."
                + (WITHOUT_OUTCOME if self.area == "drivers" and subject.predictor is not None else ""),
            )
        for name in self.reads_inputs:
            if name not in subject.inputs:
                return Refused(
                    f"{self.title}: this reads {INPUTS[name].words}, and the audit was given none.",
                    todo="Bring it in Intake.",
                )
        if self.area in ("tilt", "remedies") and (unsaid := kind_of(subject.spec.task).unfavoured(subject.spec)):
            return unsaid
        if "recipe" in self.needs and subject.again is None:
            return Refused(
                f"{self.title}: only a version that was trained here can be trained again.",
                todo="Read a candidate that was trained in Remedies.",
            )
        return None

    def refuse(self, subject: Subject) -> None:
        """Refuse a subject that lacks what this needs.

        Raises
        ------
        Refused : with the reason.
        """
        if (found := self.lacking(subject)) is not None:
            raise found

    def read(self, result: BaseModel, wording: Wording, settings: BaseModel) -> Reading:
        """The sentences that read a result: at most two, the rest in small print."""
        return short(self.say(result, wording, settings))

    def findings_in(self, result: BaseModel, spec: Spec) -> tuple[Finding, ...]:
        """What a result gives rise to, in its order."""
        return tuple(self.findings(result, spec)) if self.findings else ()
