"""What the server answers. Results, settings and specs come from the core unchanged."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Generic, Literal, TypeVar

from pydantic import BaseModel, Field

from zerotilt.core.evidence import Evidence
from zerotilt.core.groups import membership
from zerotilt.core.methods import METHODS
from zerotilt.core.predictors.onnx import ModelCard
from zerotilt.core.reading import Reading
from zerotilt.core.spec import Context, Rule, Spec
from zerotilt.core.table import TableProfile
from zerotilt.store.records import Audit, EvidenceRow, Kept, ModelVersion, Report, TableFile, Task
from zerotilt.tasks.board import rule_of

R = TypeVar("R")


class Failure(BaseModel):
    message: str
    where: str | None = None
    todo: str | None = None


class TaskView(BaseModel):
    """Work in the background."""

    id: str
    audit: str | None
    kind: str
    title: str
    state: Literal["queued", "running", "done", "failed", "cancelled"]
    done: int
    total: int
    what: str
    seconds_left: float | None = Field(
        description="Of the present stretch of work, from the share done; null while nothing can be said"
    )
    error: Failure | None
    result: dict[str, Any] | None

    @classmethod
    def of(cls, task: Task) -> TaskView:
        return cls(
            id=str(task.id),
            audit=str(task.audit_id) if task.audit_id else None,
            kind=task.kind,
            title=task.title,
            state=task.state,
            done=task.done,
            total=task.total,
            what=task.what,
            seconds_left=task.seconds_left if task.state == "running" else None,
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


class AuditLine(BaseModel):
    id: str
    title: str
    demo: bool
    ready: bool
    created: datetime


class AuditView(AuditLine):
    """One audit with all that the frame and Intake need."""

    spec: Spec | None
    table: TableView | None
    models: list[ModelView]
    checked_model: str | None = Field(
        description="The version with which Intake was last finished; read unless another is chosen"
    )
    counts: dict[str, int] | None = Field(description="Rows of each row set, once Intake is finished")
    unknown_outcomes: int | None
    groupings: list[str]
    classes: list[str] = Field(description="Where there are more than two, in their order, once Intake is finished")

    @classmethod
    def whole(cls, audit: Audit) -> AuditView:
        table = audit.tables.order_by(TableFile.created.desc()).first()
        checked = (
            audit.tasks.where((Task.kind == "check") & (Task.state == "done")).order_by(Task.finished.desc()).first()
        )
        spec = Spec.model_validate(audit.spec) if audit.spec else None
        return cls(
            **line(audit).model_dump(),
            spec=spec,
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
                )
                for model in audit.models.order_by(ModelVersion.created)
            ],
            checked_model=checked.payload["context"]["model"] if checked else None,
            counts=checked.result["counts"] if checked and audit.ready else None,
            unknown_outcomes=checked.result["unknown_outcomes"] if checked and audit.ready else None,
            classes=checked.result.get("classes", []) if checked and audit.ready else [],
            groupings=[membership.attribute(one) for one in membership.all_groupings(spec)] if spec else [],
        )


def line(audit: Audit) -> AuditLine:
    return AuditLine(id=str(audit.id), title=audit.title, demo=audit.demo, ready=audit.ready, created=audit.created)


class EvidenceView(Evidence, Generic[R]):
    """A typed result with its provenance and the sentence that reads it."""

    result: R  # type: ignore[assignment]
    reading: Reading  # type: ignore[assignment]


class ReadingView(BaseModel, Generic[R]):
    """Either the evidence, or the task that computes it."""

    evidence: EvidenceView[R] | None = None
    task: TaskView | None = None


class KeptView(BaseModel):
    id: str
    method: str
    title: str
    area: str
    reading: Reading
    key: str
    context: Context
    settings: dict[str, Any]
    note: str
    created: datetime


class ReportView(BaseModel):
    number: int
    flagged: int
    digest: str
    created: datetime

    @classmethod
    def of(cls, report: Report) -> ReportView:
        return cls(number=report.number, flagged=report.flagged, digest=report.html_digest, created=report.created)


def evidence(row: EvidenceRow, spec: Spec, context: Context) -> dict[str, Any]:
    found = Evidence.model_validate(row.body)
    # models by the names of the address; the rule by what was read under
    context = context.model_copy(update={"rule": found.context.rule})
    return row.body | {"reading": found.read(spec), "context": context}


def kept(row: Kept, spec: Spec) -> KeptView:
    found = Evidence.model_validate(row.evidence.body)
    return KeptView(
        id=str(row.id),
        method=found.method,
        title=found.title,
        area=METHODS[found.method].area,
        reading=found.read(spec),
        key=found.key,
        context=Context.model_validate(row.context),
        settings=found.settings,
        note=row.note,
        created=row.created,
    )
