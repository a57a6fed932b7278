"""Which records are an audit's, and which files they name: said once for checks, deletion, duplicates and archives."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any

import peewee
from peewee import SQL

from zerotilt.core.inputs import INPUTS
from zerotilt.store.checks import last_check
from zerotilt.store.records import (
    Audit,
    AuditEvidence,
    Candidate,
    DecisionRule,
    EvidenceRow,
    InputFile,
    Judgement,
    Kept,
    MeaningVersion,
    ModelVersion,
    Raised,
    Remark,
    Report,
    ReportDraft,
    ReportForm,
    ReportPreview,
    Signature,
    TableFile,
    TakenApart,
    Task,
    TestLook,
    VersionChoice,
    VersionNote,
)

Row = Mapping[str, Any]
Kind = type[peewee.Model]


def _table(row: Row) -> dict[str, str]:
    return {row["raw_digest"]: f"table “{row['name']}” as uploaded", row["digest"]: f"table “{row['name']}”"}


def _input(row: Row) -> dict[str, str]:
    words = (
        INPUTS[row["input"]].words if row["input"] in INPUTS else f"{row['input']}, which this release does not know"
    )
    return {row["digest"]: f"“{row['name']}”: {words}"}


def _report(row: Row) -> dict[str, str]:
    number, files = row["number"], row.get("files") or {}
    found = {row["html_digest"]: f"report {number}", row["json_digest"]: f"numbers of report {number}"}
    found |= {digest: f"{name} of report {number}" for name, digest in files.items()}
    return found | ({row["manifest"]: f"manifest of report {number}"} if row.get("manifest") else {})


def _preview(row: Row) -> dict[str, str]:
    return {digest: f"{name} of a report before it is written" for name, digest in row["files"].items()}


def _evidence(row: Row) -> dict[str, str]:
    return dict.fromkeys(row.get("files") or [], f"an array of {row['method'].replace('_', ' ')}")


FILES: dict[Kind, Callable[[Row], dict[str, str]]] = {
    TableFile: _table,
    InputFile: _input,
    ModelVersion: lambda row: {row["digest"]: f"model “{row['name']}”"},
    Report: _report,
    Signature: lambda row: {row["file"]: f"signature of {row['name']}"},
    ReportForm: lambda row: {row["file"]: f"{row['name']} of a report"},
    ReportPreview: _preview,
    EvidenceRow: _evidence,
}
"""Of each kind of record that names files: their digests and what they are, from the record's columns."""
OF_AUDIT: dict[Kind, Callable[[Audit], Iterable[peewee.Model]]] = {
    Audit: lambda audit: [audit],
    EvidenceRow: lambda audit: _evidence_of(audit),
    **{
        kind: lambda audit, kind=kind: kind.select().where(kind.audit == audit)
        for kind in (
            TableFile, InputFile, ModelVersion, MeaningVersion, Judgement, Remark, TakenApart, ReportDraft, Report, AuditEvidence,
            Kept, Raised,
        )
    },
    DecisionRule: lambda audit: DecisionRule.select().join(ModelVersion).where(ModelVersion.audit == audit),
    Candidate: lambda audit: Candidate.select().where(Candidate.audit == audit),
    TestLook: lambda audit: TestLook.select().join(Candidate).where(Candidate.audit == audit),
    VersionNote: lambda audit: VersionNote.select().join(ModelVersion).where(ModelVersion.audit == audit),
    VersionChoice: lambda audit: VersionChoice.select().where(VersionChoice.audit == audit),
    Signature: lambda audit: Signature.select().join(Report).where(Report.audit == audit),
    Task: lambda audit: [found] if (found := last_check(audit)) else [],
}  # fmt: skip
"""What an archive holds of an audit, owners first, which is the order in which records can be written; of its work only the
last check of Intake."""
MADE_AGAIN: dict[Kind, Callable[[Audit], Iterable[peewee.Model]]] = {
    ReportForm: lambda audit: ReportForm.select().join(Report).where(Report.audit == audit),
    ReportPreview: lambda audit: ReportPreview.select().where(ReportPreview.audit == audit),
}
"""What else names files of an audit; it is made again where it is asked for."""


def _evidence_of(audit: Audit) -> Iterable[EvidenceRow]:
    keys: set[str] = set()
    for kind in (AuditEvidence, Kept, Raised):
        asked: Any = kind.select(kind.evidence).where(kind.audit == audit).tuples()
        keys |= {key for (key,) in asked}
    return EvidenceRow.select().where(EvidenceRow.key << sorted(keys)) if keys else []


def columns_of(record: peewee.Model) -> dict[str, Any]:
    """A record by the names of its columns."""
    fields = record._meta.sorted_fields  # type: ignore[attr-defined]
    return {field.column_name: record.__data__.get(field.name) for field in fields}


def files_named() -> dict[str, str]:
    """Every digest that a record of this house names, with what it is."""
    named: dict[str, str] = {}
    for kind, files in FILES.items():
        records = kind.select()
        if kind is EvidenceRow:  # of the many that name none nothing is read
            records = EvidenceRow.select(EvidenceRow.method, EvidenceRow.files).where(
                SQL("jsonb_array_length(files) > 0")
            )
        for record in records:
            named |= files(columns_of(record))
    return named


def files_of(audit: Audit) -> Iterator[str]:
    """Digests of the files that an audit's own records name; evidence may be another's, too."""
    for kind, records in (OF_AUDIT | MADE_AGAIN).items():
        if kind in FILES and kind is not EvidenceRow:
            for record in records(audit):
                yield from FILES[kind](columns_of(record))


def files_in(records: Mapping[str, Iterable[Row]]) -> set[str]:
    """Digests of the files that records of an archive name, which stand there by the names of their tables."""
    return {
        digest
        for kind, files in FILES.items()
        for row in records.get(kind._meta.table_name, ())
        for digest in files(row)
    }
