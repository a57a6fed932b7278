"""What the server answers. Results, settings and specs come from the core unchanged."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Generic, Literal, TypeVar

from pydantic import BaseModel, Field, ValidationError

from zerotilt.core import membership
from zerotilt.core.evidence import Evidence
from zerotilt.core.inputs import InputCard
from zerotilt.core.meaning import Context, ModelReading, Rule, Spec, Wording
from zerotilt.core.methods import METHODS
from zerotilt.core.predictors.encoded import misfit
from zerotilt.core.predictors.matching import InputPair, columns_in_order, pairs
from zerotilt.core.predictors.modelfile import ModelCard
from zerotilt.core.profiles import TableProfile
from zerotilt.core.reading import Reading
from zerotilt.core.refusal import Refused
from zerotilt.core.rows import nothing_trained
from zerotilt.report.compose import as_kept
from zerotilt.store import meaning, shelf, state
from zerotilt.store.checks import chosen_version, last_check
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit, Kept, MeaningVersion, ModelVersion, TableFile, Task, given_to
from zerotilt.tasks.board import changes, rule_of

R = TypeVar("R")
TEXT = "string"
"""How a column of text is stored."""


class WayOut(BaseModel):
    """One way of reading a model file that leaves something open, and how well the model would do under it."""

    label: str
    detail: str
    reading: ModelReading


class Failure(BaseModel):
    message: str
    where: str | None = None
    todo: str | None = None
    choices: list[WayOut] = []


class TaskView(BaseModel):
    """Work in the background."""

    id: str
    audit: str | None
    address: str = Field(description="Where it is asked about; with /cancel it is asked to end")
    kind: str
    method: str | None = Field(description="What is read; null where it is other work")
    title: str
    state: Literal["queued", "running", "done", "failed", "cancelled", "dropped"] = Field(
        description="Dropped: nobody looked any more before it began"
    )
    done: int
    total: int
    what: str
    seconds_left: float | None = Field(
        description="Of the present stretch of work, from the share done; null while nothing can be said"
    )
    expected: float | None = Field(description="Seconds it was expected to take; null where nobody knew")
    error: Failure | None
    result: dict[str, Any] | None

    @classmethod
    def of(cls, task: Task) -> TaskView:
        return cls(
            id=str(task.id),
            audit=str(task.audit_id) if task.audit_id else None,
            address=f"/api/audits/{task.audit_id}/tasks/{task.id}" if task.audit_id else f"/api/tasks/{task.id}",
            kind=task.kind,
            method=task.payload.get("method"),
            title=task.title,
            state=task.state,
            done=task.done,
            total=task.total,
            what=task.what,
            seconds_left=task.seconds_left if task.state == "running" else None,
            expected=task.expected,
            error=task.error,
            result=task.result,
        )


class TableView(BaseModel):
    name: str
    bytes: int
    digest: str
    uploaded_digest: str
    profile: TableProfile


class ModelView(BaseModel):
    id: str
    name: str
    digest: str
    card: ModelCard
    rule: Rule | None = Field(description="Its decision rule; the spec's threshold when null")
    pairs: list[InputPair] = Field(
        description="Its inputs beside the columns they take; empty for a model of one tensor"
    )
    order: list[str] = Field(
        description="Columns in the order in which a model of one tensor is fed; empty where inputs have names"
    )
    misfit: str = Field(description="Why that cannot be, and what to do; empty where nothing is in the way")


class InputView(BaseModel):
    """What the audit was given besides its table and models."""

    input: str = Field(description="Its name among the inputs that there are")
    name: str = Field(description="Of the file")
    digest: str
    bytes: int
    said: tuple[str, ...] = Field(description="What it holds, in sentences")
    facts: dict[str, Any]
    created: datetime


class PartView(BaseModel):
    """Which version of a part of the meaning is in force, and who wrote it."""

    part: str
    number: int
    tag: str = Field(description="To be given back in If-Match by who writes it")
    author: str
    reason: str
    created: datetime

    @classmethod
    def of(cls, version: MeaningVersion) -> PartView:
        return cls(
            part=version.part,
            number=version.number,
            tag=meaning.tag(version),
            author=version.author,
            reason=version.reason,
            created=version.created,
        )


class AuditLine(BaseModel):
    id: str
    title: str
    demo: bool
    ready: bool
    created: datetime
    archived: bool


class AuditEntry(AuditLine):
    """One audit of the front page's list."""

    opened: datetime | None
    table: str | None
    rows: int | None
    columns: int | None
    versions: int = Field(description="Of models")
    reports: int


class AuditView(AuditLine):
    """One audit with all that the frame and Intake need."""

    state: str = Field(description="Names the state of everything that readings, lists and counts depend on")
    basis: str = Field(description="The same without the findings that were measured, to which readings add")
    tags: dict[str, str] = Field(
        description="The same part by part: of records, and of what the parts of the meaning hold"
    )
    clock: int = Field(description="Greater in a later state, whichever is heard of first")
    spec: Spec | None
    meaning: dict[str, PartView] = Field(description="The version of each part of it that is in force")
    only_all: bool = Field(description="Predictions were recorded and nothing splits the rows: all of them are read")
    table: TableView | None
    models: list[ModelView]
    inputs: list[InputView] = Field(description="Files that some methods read besides table and model")
    checked_model: str | None = Field(
        description="The version with which Intake was last finished; read unless another is chosen"
    )
    counts: dict[str, int] | None = Field(description="Rows of each row set, once Intake is finished")
    unknown_outcomes: int | None
    groupings: list[str]
    classes: list[str] = Field(description="Where there are more than two, in their order, once Intake is finished")

    @classmethod
    def whole(cls, audit: Audit) -> AuditView:
        """
        Raises
        ------
        Refused : what its records hold is none of what is written here.
        """
        try:
            return cls._whole(audit)
        except (ValidationError, KeyError, TypeError, AttributeError):
            raise Refused(
                "The records of this audit are damaged: they hold something that is never written here.",
                where=f"audit “{audit.title}”",
                todo="Delete it on the first page, and bring it back from an archive where there is one. ./zt check says more.",
            ) from None

    @classmethod
    def _whole(cls, audit: Audit) -> AuditView:
        # first, so that what follows is of this state or newer
        tags = state.tags(audit)
        audit = Audit.get_by_id(audit.id)
        table = audit.tables.order_by(TableFile.created.desc()).first()
        checked = last_check(audit)
        # one query gives what the parts hold and their tags: from two, a tag could be newer than what was read with it
        parts = meaning.in_force(audit)
        spec = Spec.joined({name: version.body for name, version in parts.items()}) if audit.spec else None
        return cls(
            **line(audit).model_dump(),
            state=state.together(tags),
            basis=state.basis(tags),
            tags=tags | (_contents(spec) if spec else {}),
            clock=tags.clock,
            spec=spec,
            meaning={one.part: PartView.of(one) for one in parts.values()},
            only_all=spec is not None and nothing_trained(spec) and not audit.models.exists(),
            table=None
            if table is None
            else TableView(
                name=table.name,
                bytes=table.bytes,
                digest=table.digest,
                uploaded_digest=table.raw_digest,
                profile=TableProfile.model_validate(table.profile),
            ),
            models=[
                ModelView(
                    id=str(model.id),
                    name=model.name,
                    digest=model.digest,
                    card=ModelCard.model_validate(model.card),
                    rule=rule_of(model),
                    pairs=_pairs(model, spec, table),
                    order=_order(model, spec, table),
                    misfit=_misfit(model, spec, table),
                )
                for model in audit.models.order_by(ModelVersion.created)
            ],
            inputs=[
                InputView(
                    **InputCard.model_validate(one.card).model_dump(),
                    **{name: getattr(one, name) for name in ("input", "name", "digest", "bytes", "created")},
                )
                for one in given_to(audit)
            ],
            checked_model=chosen_version(audit),
            counts=checked.result["counts"] if checked and audit.ready else None,
            unknown_outcomes=checked.result["unknown_outcomes"] if checked and audit.ready else None,
            classes=checked.result.get("classes", []) if checked and audit.ready else [],
            groupings=[membership.attribute(one) for one in membership.all_groupings(spec)] if spec else [],
        )


def _contents(spec: Spec) -> dict[str, str]:
    """What parts of the meaning hold; the same again when a change is taken back."""
    digests = {
        "spec": spec.digest(),
        "comparisons": spec.comparisons_digest(),
        "policy": spec.policy_digest(),
        "changeable": spec.changeable_digest(),
        "wording": spec.wording_digest(),
        "expectations": spec.expectations_digest(),
    }
    return {part: digest[: state.LENGTH] for part, digest in digests.items()}


def _pairs(model: ModelVersion, spec: Spec | None, table: TableFile | None) -> list[InputPair]:
    if spec is None or table is None:
        return []
    names = [column["name"] for column in table.profile["columns"]]
    return list(pairs(ModelCard.model_validate(model.card), names, spec.reading_of(model.digest)))


def _order(model: ModelVersion, spec: Spec | None, table: TableFile | None) -> list[str]:
    if spec is None or table is None:
        return []
    stored = {column["name"]: column["stored"] for column in table.profile["columns"]}
    card = ModelCard.model_validate(model.card)
    fed = columns_in_order(card, spec, list(stored), lambda name: stored.get(name) in ("int64", "double"))
    return list((spec.reading_of(model.digest).inputs or spec.model_inputs or fed) if fed else ())


def _misfit(model: ModelVersion, spec: Spec | None, table: TableFile | None) -> str:
    if spec is None or table is None:
        return ""
    stored = {column["name"]: column["stored"] for column in table.profile["columns"]}
    levels = {column["name"]: column["distinct"] for column in table.profile["columns"]}
    card, order = ModelCard.model_validate(model.card), _order(model, spec, table)
    if gone := [name for name in order if name not in stored]:
        order = [name for name in order if name not in gone]
    why = misfit(card, spec, order, lambda name: stored[name] == TEXT, levels.__getitem__)
    return "" if why is None else f"{why.message} {why.todo}"


def line(audit: Audit) -> AuditLine:
    return AuditLine(
        id=str(audit.id),
        title=audit.title,
        demo=audit.demo,
        ready=audit.ready,
        created=audit.created,
        archived=audit.archived,
    )


class EvidenceView(Evidence, Generic[R]):
    """A typed result with its provenance and the sentence that reads it."""

    result: R  # type: ignore[assignment]
    reading: Reading  # type: ignore[assignment]


class ReadBeside(BaseModel):
    """Evidence of another method, as its own route would answer."""

    method: str
    settings: dict[str, Any] = Field(description="With which it would be asked for")
    evidence: dict[str, Any]


class ReadingView(BaseModel, Generic[R]):
    """Either the evidence, or the task that computes it."""

    evidence: EvidenceView[R] | None = None
    task: TaskView | None = None
    fresh: bool = Field(
        default=False, description="Whether it was computed for this answer, and no task will tell of it"
    )
    beside: list[ReadBeside] = Field(
        default=[],
        description="What is shown with it and was computed in the same turn, so that it need not be asked for",
    )


class KeptView(BaseModel):
    id: str
    method: str
    title: str
    area: str = Field(description="Where it is read; empty where this version has no such method")
    part: str = Field(description="Of that area's sheet; the first when empty")
    reading: Reading
    key: str
    context: Context
    settings: dict[str, Any]
    view: dict[str, str] = Field(description="How it was looked at: part, order and drawing, as in the address")
    note: str
    noted: int = Field(description="Version of the note, counted up when it is written")
    created: datetime
    changed: list[str] = Field(description="What has changed since it was computed; empty where it still holds")
    older: bool = Field(description="Computed by an earlier version of its method; shown as it was written then")


def evidence(body: dict[str, Any], spec: Spec, context: Context) -> dict[str, Any]:
    """A whole piece of evidence as it is answered: read in the present wording, in the address's context."""
    found = Evidence.model_validate(body)
    # models by the names of the address; the rule by what was read under
    context = context.model_copy(update={"rule": found.context.rule})
    told = {"result": found.in_words(spec).result} if found.worded and found.readable else {}
    return body | told | {"reading": found.read(spec), "context": context}


def kept(row: Kept, spec: Spec, audit: Audit, files: FileStore) -> KeptView:
    found = Evidence.model_validate(shelf.whole(row.evidence, files))
    method = METHODS.get(found.method)
    return KeptView(
        id=str(row.id),
        method=found.method,
        title=found.title,
        area=method.area if method else "",
        part=method.part if method else "",
        older=not found.readable,
        reading=as_kept(found, Spec.model_validate(row.spec) if row.spec else None, spec),
        key=found.key,
        context=Context.model_validate(row.context),
        settings=found.settings,
        view=row.view,
        note=row.note,
        noted=row.noted,
        created=row.created,
        changed=[*changes(audit, row), *(["the wording"] if row.spec and _worded(row.spec) != spec.wording else [])],
    )


def _worded(body: dict[str, Any]) -> Wording:
    return Wording.model_validate(body.get("wording", {}))
