"""audit.json: the audit as data, in the published format zerotilt-audit/2."""

from __future__ import annotations

from typing import Literal, cast

from pydantic import BaseModel, ConfigDict, Field

from zerotilt.core.findings import Kind, Severity, Standing
from zerotilt.core.groups.disparity import Disparity, Group, TiltResult
from zerotilt.core.groups.metrics import Measure
from zerotilt.core.meaning import FlagPolicy, Rule, Spec, Task
from zerotilt.core.pockets.confirmed import ErrorGap, ErrorSide
from zerotilt.core.pockets.result import PocketsResult, PocketStatus
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.subject import Subject
from zerotilt.report.compose import Bundle

FORMAT = "zerotilt-audit/2"


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid")


class TableEntry(_Part):
    rows: int
    sha256: str
    rows_read: int = Field(description="Rows of the audit's context; those with a known outcome")
    rows_described: str


class ModelEntry(_Part):
    sha256: str
    inputs: list[str]
    threshold: float | None = Field(description="From which score on the event is predicted; null of other outcomes")
    rule: Rule | None = Field(description="Decision rule of this version; the threshold for all when null")
    notes: list[str]


class DriverEntry(_Part):
    feature: str
    permutation: Estimate
    mean_abs_shapley: Estimate


class EvidenceEntry(_Part):
    name: str
    key: str
    method: str
    method_version: int
    settings: dict
    seed: int
    libraries: dict[str, str]
    computed: str


class FindingEntry(_Part):
    """One thing to decide about, and what was decided."""

    name: str
    kind: Kind
    severity: Severity
    statement: str
    parts: list[str] = Field(description="Sentences of what it is gathered from")
    standing: Standing


class PocketEntry(_Part):
    """A place where an error is denser; figures are of the half of the rows in which it was not searched."""

    conditions: str = Field(description="As they are typed")
    error: str
    status: PocketStatus
    rows: int = Field(description="Rows of both halves that lie in it")
    gap: ErrorGap
    searched: ErrorSide = Field(description="Inside, in the half where it was searched")
    p_adjusted: float | None
    again: float = Field(description="Share of the halvings in which it was found and confirmed")


class AuditFile(_Part):
    """One audit. Parts that need a model are absent without one."""

    format: Literal["zerotilt-audit/2"]
    table: TableEntry
    model: ModelEntry | None
    task: Task
    outcome: str | None = Field(description="Column that says what happened; null where none does")
    event: str | None = Field(description="Value of the outcome that is predicted; null of other outcomes")
    favourable: Literal["event", "other"] | None = Field(
        description="Which decision is favourable; null without an event"
    )
    favourable_classes: list[str]
    policy: FlagPolicy
    performance: dict[str, Measure] = Field(
        description="By metric; of several classes by metric, “ · ” and the class, too"
    )
    drivers: list[DriverEntry] | None = None
    groups: list[Group]
    disparities: list[Disparity]
    pockets: list[PocketEntry] | None = Field(default=None, description="Absent where no outcome is known")
    findings: list[FindingEntry]
    evidence: list[EvidenceEntry]

    def to_json(self) -> str:
        leave_out = {name for name in ("drivers", "pockets") if getattr(self, name) is None}
        return self.model_dump_json(indent=2, exclude=leave_out) + "\n"


def audit_file(bundle: Bundle, subject: Subject, table_digest: str, spec: Spec) -> AuditFile:
    """The audit's numbers, taken from its evidence and nothing else."""
    names = bundle.numbered
    drivers, compared = (bundle.evidence_of(name) for name in ("drivers", "tilt"))
    performance = bundle.needed("performance")
    tilt = cast(TiltResult, compared.typed) if compared else None
    predictor = subject.predictor
    return AuditFile(
        format=FORMAT,
        table=TableEntry(
            rows=subject.table.rows,
            sha256=table_digest,
            rows_read=subject.n,
            rows_described=performance.rows_described,
        ),
        model=None
        if predictor is None
        else ModelEntry(
            sha256=performance.digests.model or "",
            inputs=list(predictor.inputs),
            threshold=subject.decisions.cut if subject.kind.cut else None,
            rule=subject.context.rule,
            notes=list(predictor.notes),
        ),
        task=spec.task,
        outcome=spec.outcome.name if spec.knows_outcome else None,
        event=spec.event if subject.kind.cut else None,
        favourable=spec.favourable if subject.kind.cut else None,
        favourable_classes=list(spec.favourable_classes) if subject.kind.classed else [],
        policy=spec.policy,
        performance=performance.result["sets"][0]["metrics"],
        drivers=None
        if drivers is None
        else [
            DriverEntry(**{field: driver[field] for field in DriverEntry.model_fields})
            for driver in drivers.result["drivers"]
        ],
        groups=list(tilt.groups) if tilt else [],
        disparities=list(tilt.disparities) if tilt else [],
        pockets=_pockets(bundle),
        findings=[
            FindingEntry(
                name=fact.name,
                kind=fact.kind,
                severity=fact.severity,
                statement=fact.statement,
                parts=[part.statement for part in fact.parts],
                standing=standing,
            )
            for fact, standing in bundle.all_facts()
        ],
        evidence=[
            EvidenceEntry(
                name=names[found.key],
                **{field: getattr(found, field) for field in EvidenceEntry.model_fields if field != "name"},
            )
            for found in bundle.by_key().values()
        ],
    )


def _pockets(bundle: Bundle) -> list[PocketEntry] | None:
    found = bundle.evidence_of("pockets")
    if found is None:
        return None
    result = cast(PocketsResult, found.typed)
    return [
        PocketEntry(
            conditions=one.typed,
            error=result.error,
            **{name: getattr(one, name) for name in PocketEntry.model_fields if name not in ("conditions", "error")},
        )
        for one in result.pockets
    ]
