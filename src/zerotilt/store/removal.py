"""Deleting for good: records, and the files and evidence that nothing else needs."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta

from peewee import SQL

from zerotilt.store import ledger
from zerotilt.store.check import discard_unowned
from zerotilt.store.files import FileStore
from zerotilt.store.holdings import files_of
from zerotilt.store.records import (
    Audit,
    AuditEvidence,
    EvidenceRow,
    InputFile,
    Kept,
    MeaningVersion,
    ModelVersion,
    Raised,
    TableFile,
    Task,
)


def holds(audit: Audit) -> dict[str, int]:
    """What an audit holds, and would take with it."""
    return {
        "tables": audit.tables.count(),
        "models": audit.models.count(),
        "kept": audit.kept.where(~Kept.removed).count(),
        "reports": audit.reports.count(),
        "choices": audit.meanings.where(MeaningVersion.author != "").count() + audit.judgements.count(),
    }


UNDO = timedelta(minutes=15)
"""For so long a deleted audit can be brought back."""


def put_away(audit: Audit) -> None:
    """Delete an audit so that it can be brought back for a while; its work is told to end."""
    active_of(audit)
    Audit.update(deleted=datetime.now(UTC)).where(Audit.id == audit.id).execute()


def bring_back(audit: Audit) -> None:
    Audit.update(deleted=None).where(Audit.id == audit.id).execute()


def expire(files: FileStore) -> list[str]:
    """Remove for good what was deleted a while ago; the digests of files that may be unowned now."""
    late = Audit.select().where(Audit.deleted < datetime.now(UTC) - UNDO).for_update()
    return [digest for audit in late for digest in remove_audit(audit, files)]


def remove_audit(audit: Audit, files: FileStore) -> list[str]:
    """Delete an audit with all that is in it; the digests of files that may be unowned now."""
    ledger.removed(files, audit)
    left = list(files_of(audit))
    Audit.delete().where(Audit.id == audit.id).execute()
    return left + _drop_evidence()


def remove_table(audit: Audit) -> list[str]:
    """Delete an audit's table, and the meaning of its columns with it; models, choices and reports stay."""
    tables = list(audit.tables)
    TableFile.delete().where(TableFile.audit == audit).execute()
    Audit.update(spec=None, ready=False).where(Audit.id == audit.id).execute()
    for table in tables:
        _disown(audit, "table", table.digest)
    return [digest for table in tables for digest in (table.raw_digest, table.digest)] + _drop_evidence()


def remove_input(audit: Audit, name: str) -> list[str]:
    """Delete what an audit was given of one input; evidence that reads it goes where it is not kept."""
    found = list(audit.inputs.where(InputFile.input == name))
    InputFile.delete().where((InputFile.audit == audit) & (InputFile.input == name)).execute()
    for one in found:
        _disown(audit, f"inputs,{name}", one.digest)
    return [one.digest for one in found] + _drop_evidence()


def remove_model(model: ModelVersion) -> list[str]:
    ModelVersion.delete().where(ModelVersion.id == model.id).execute()
    for part in ("model", "alongside"):
        _disown(model.audit, part, model.digest)
    return [model.digest, *_drop_evidence()]


def remove_kept(kept: Kept) -> list[str]:
    """Delete a kept item; the digests of files that may be unowned now."""
    Kept.delete().where(Kept.id == kept.id).execute()
    return _drop_evidence()


def discard(files: FileStore, digests: Iterable[str]) -> None:
    """Remove files that nothing names any more; to be called once the records are gone for good."""
    for digest in dict.fromkeys(digests):
        discard_unowned(files, digest)


def _disown(audit: Audit, part: str, digest: str) -> None:
    """An audit's evidence of a table or model that it has no more, unless it is kept."""
    of_it = EvidenceRow.select(EvidenceRow.key).where(SQL("body->'digests'#>>%s = %s", ("{" + part + "}", digest)))
    kept = Kept.select(Kept.evidence).where(Kept.audit == audit)
    raised = Raised.select(Raised.evidence).where(Raised.audit == audit)
    own = AuditEvidence.evidence
    AuditEvidence.delete().where(
        (AuditEvidence.audit == audit) & own.in_(of_it) & own.not_in(kept) & own.not_in(raised)
    ).execute()


def _drop_evidence() -> list[str]:
    """Delete evidence that no audit has asked for any more; the digests of its files."""
    owned = AuditEvidence.select(AuditEvidence.evidence)
    kept, raised = Kept.select(Kept.evidence), Raised.select(Raised.evidence)
    key = EvidenceRow.key
    dropped = EvidenceRow.delete().where(key.not_in(owned) & key.not_in(kept) & key.not_in(raised))
    return [digest for row in dropped.returning(EvidenceRow.files).execute() for digest in row.files]


def active_of(audit: Audit) -> int:
    """Ask all work of an audit to end; how many there are."""
    return Task.update(cancel=True).where((Task.audit == audit) & Task.state.in_(("queued", "running"))).execute()
