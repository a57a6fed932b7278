"""Kept evidence and its notes."""

from __future__ import annotations

import asyncio
from typing import Annotated

from fastapi import APIRouter, HTTPException
from pydantic import BaseModel, Field

from zerotilt.api.desk import Desk, Seeing, TheDesk, connected, held
from zerotilt.api.identity import Who, identifier
from zerotilt.api.meaning import spec_of
from zerotilt.api.problems import Conflict
from zerotilt.api.readings import evidence_of
from zerotilt.api.views import KeptView, kept
from zerotilt.core.meaning import Context, Spec
from zerotilt.store import removal
from zerotilt.store.records import Audit, EvidenceRow, Kept

router = APIRouter(prefix="/api/audits/{audit_id}", tags=["dossier"])
Words = Annotated[str, Field(max_length=2_000)]


class Keep(BaseModel):
    key: str
    context: Context
    view: dict[Words, Words] = Field(
        default_factory=dict,
        max_length=30,
        description="How it was looked at: part, order and drawing, as in the address",
    )


class Note(BaseModel):
    note: str | None = Field(default=None, max_length=20_000)
    removed: bool | None = None
    noted: int | None = Field(
        default=None, description="Version of the note that was read; another one now is a conflict"
    )


@router.get("/dossier")
@connected
def dossier(audit: Audit, desk: TheDesk) -> list[KeptView]:
    if audit.spec is None:
        return []
    spec = Spec.model_validate(audit.spec)
    rows = (
        Kept.select(Kept, EvidenceRow)
        .join(EvidenceRow)
        .where((Kept.audit == audit) & ~Kept.removed)
        .order_by(Kept.created)
    )
    return [kept(row, spec, audit, desk.files) for row in rows]


@router.post("/dossier", status_code=201)
@connected
def keep(audit: Audit, desk: TheDesk, seen: Seeing, wanted: Keep) -> KeptView:
    """Keep evidence, in the words of now; keeping the same twice gives the item that is there."""
    seen.still(held(audit), "meaning", "table", "rules")
    evidence_of(audit, wanted.key)
    found = Kept.get_or_none((Kept.audit == audit) & (Kept.evidence == wanted.key) & ~Kept.removed)
    if found is not None and found.spec != audit.spec and kept(found, spec_of(audit), audit, desk.files).changed:
        # what was kept in other words stays as it was kept
        found = None
    found = found or Kept.create(
        audit=audit,
        evidence=wanted.key,
        context=wanted.context.model_dump(mode="json"),
        view=wanted.view,
        spec=audit.spec,
    )
    return _view(audit, desk, found.id)


@router.patch("/dossier/{kept_id}")
@connected
def change(audit: Audit, desk: TheDesk, kept_id: str, wanted: Note) -> KeptView:
    """Write the note, or take the item out and put it back; nothing is deleted."""
    mine = (Kept.id == identifier(kept_id)) & (Kept.audit == audit)
    found = Kept.select().where(mine).for_update().first()
    if found is None:
        raise HTTPException(404, "The dossier has no such item.")
    changes = wanted.model_dump(exclude_none=True, exclude={"noted"})
    if wanted.note is not None and wanted.note != found.note:
        if wanted.noted is not None and wanted.noted != found.noted:
            raise Conflict(f"The note was written in another window meanwhile; it reads: “{found.note[:400]}”.")
        changes["noted"] = found.noted + 1
    if changes:
        Kept.update(**changes).where(mine).execute()
    return _view(audit, desk, identifier(kept_id))


@router.delete("/dossier/{kept_id}", status_code=204)
async def forget(audit_id: str, kept_id: str, who: Who, desk: TheDesk) -> None:
    """Delete a kept item and its note for good, with evidence that nothing else needs."""

    def remove() -> list[str]:
        audit = who.audit(audit_id)
        found = Kept.get_or_none((Kept.id == identifier(kept_id)) & (Kept.audit == audit))
        if found is None:
            raise HTTPException(404, "The dossier has no such item.")
        return removal.remove_kept(found)

    await asyncio.to_thread(desk.delete, remove)


def _view(audit: Audit, desk: Desk, kept_id) -> KeptView:
    row = Kept.get_or_none((Kept.id == kept_id) & (Kept.audit == audit))
    if row is None:
        raise HTTPException(404, "The dossier has no such item.")
    return kept(row, Spec.model_validate(audit.spec), audit, desk.files)
