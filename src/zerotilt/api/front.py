"""The front page: every audit with what tells it from others, and what is done to one as a whole."""

from __future__ import annotations

import asyncio
from typing import Any

from fastapi import APIRouter, Query
from peewee import JOIN, SQL, fn
from pydantic import BaseModel, Field, ValidationError

from zerotilt.api.desk import TheDesk, connected, held
from zerotilt.api.identity import Who
from zerotilt.api.listed import findings_of, read_so_far
from zerotilt.api.views import AuditEntry, AuditLine, line
from zerotilt.core.meaning import Context
from zerotilt.store import copies, removal
from zerotilt.store.checks import opens_with
from zerotilt.store.records import Audit, ModelVersion, Report, TableFile
from zerotilt.tasks.queue import Turn

router = APIRouter(prefix="/api", tags=["audits"])


class NewAudit(BaseModel):
    title: str = Field(min_length=1, max_length=200)


class Changed(BaseModel):
    """What is changed; what is not given stays."""

    title: str | None = Field(default=None, min_length=1, max_length=200)
    archived: bool | None = None


@router.get("/audits")
@connected
def audits() -> list[AuditEntry]:
    """Every audit, the one made first first."""
    newest = (
        TableFile.select(
            TableFile.audit,
            TableFile.name,
            SQL("case when jsonb_typeof(profile->'rows') = 'number' then (profile->>'rows')::bigint end").alias("rows"),
            SQL(
                "case when jsonb_typeof(profile->'columns') = 'array' then jsonb_array_length(profile->'columns') end"
            ).alias("columns"),
        )
        .distinct(TableFile.audit)
        .order_by(TableFile.audit, TableFile.created.desc())
        .alias("newest")
    )
    models = ModelVersion.select(fn.count(ModelVersion.id)).where(ModelVersion.audit == Audit.id)
    reports = Report.select(fn.count(Report.id)).where(Report.audit == Audit.id)
    found: Any = (
        Audit.select(
            Audit, newest.c.name, newest.c.rows, newest.c.columns, models.alias("versions"), reports.alias("reports")
        )
        .join(newest, JOIN.LEFT_OUTER, on=(newest.c.audit_id == Audit.id))
        .where(Audit.deleted.is_null())
        .order_by(Audit.created)
        .dicts()
    )
    own = ("id", "title", "demo", "ready", "created", "archived", "opened", "rows", "columns", "versions", "reports")
    return [
        AuditEntry(**{name: one[name] for name in own} | {"id": str(one["id"]), "table": one["name"]}) for one in found
    ]


@router.get("/audits/deleted")
@connected
def deleted_audits() -> list[AuditLine]:
    """What was deleted and can still be brought back, the last first."""
    return [line(audit) for audit in Audit.select().where(~Audit.deleted.is_null()).order_by(Audit.deleted.desc())]


class Flagged(BaseModel):
    open: int
    again: bool = Field(description="Whether some of them are of before a change, and are being measured again")


@router.get("/audits/flagged")
@connected
def flagged(desk: TheDesk) -> dict[str, Flagged]:
    """Of each audit the open findings of what has been read of the version it opens with; what was found before a change
    is measured again when nothing else is asked for.
    """
    found = {}
    for audit in Audit.select().where(Audit.deleted.is_null() & Audit.ready):
        try:
            context = Context(model=opens_with(audit))
            here = findings_of(audit, desk, context, Turn.ahead)
        except (ValidationError, KeyError, TypeError):  # its own page says what is wrong with it; the others are whole
            continue
        again = any(one.again and not one.author for one in here)
        if not read_so_far(audit, desk, context) and not again:
            continue  # how many there are is not known, which is not none
        found[str(audit.id)] = Flagged(open=sum(one.standing.decision == "open" for one in here), again=again)
    return found


@router.post("/audits", status_code=201)
@connected
def new_audit(new: NewAudit) -> AuditLine:
    audit = Audit.create(title=new.title.strip() or "Untitled audit")
    return line(Audit.get_by_id(audit.id))


@router.patch("/audits/{audit_id}")
@connected
def change_audit(audit: Audit, wanted: Changed) -> AuditLine:
    """Rename an audit, or archive it and bring it back."""
    now = held(audit)
    if wanted.title is not None:
        now.title = wanted.title.strip() or now.title
    if wanted.archived is not None:
        now.archived = wanted.archived
    now.save(only=[Audit.title, Audit.archived])
    return line(now)


@router.post("/audits/{audit_id}/duplicate", status_code=201)
@connected
def duplicate_audit(audit: Audit) -> AuditLine:
    """Another audit of the same table, meaning and model versions; notes, choices' history and reports stay behind."""
    return line(copies.duplicate(held(audit)))


@router.get("/audits/{audit_id}/holds")
@connected
def what_it_holds(audit: Audit) -> dict[str, int]:
    """What would be deleted with the audit."""
    return removal.holds(audit)


@router.delete("/audits/{audit_id}", status_code=204)
async def delete_audit(audit_id: str, who: Who, desk: TheDesk, for_good: bool = Query(default=False)) -> None:
    """Delete an audit with everything in it. For a quarter of an hour it can be brought back, unless for good."""

    def remove() -> list[str]:
        audit = held(who.audit(audit_id))
        if for_good:
            return removal.remove_audit(audit, desk.files)
        removal.put_away(audit)
        return []

    await asyncio.to_thread(desk.delete, remove)


@router.post("/audits/{audit_id}/restore")
@connected
def restore_audit(audit_id: str, who: Who) -> AuditLine:
    """Bring a deleted audit back."""
    found = held(who.audit(audit_id, deleted=True))
    removal.bring_back(found)
    return line(found)
