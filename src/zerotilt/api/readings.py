"""One route for each method: its settings in, its result out. The registry writes them."""

from __future__ import annotations

import functools
import re
from typing import Any, Literal

from fastapi import APIRouter, HTTPException, Response
from fastapi.responses import FileResponse, StreamingResponse
from peewee import SQL
from pydantic import BaseModel, Field, create_model

from zerotilt.api.desk import PATIENCE, TheDesk, connected, ready
from zerotilt.api.views import ReadingView, TaskView, evidence
from zerotilt.core import arrayfile, tabulate
from zerotilt.core.attached import digests_in
from zerotilt.core.evidence import Evidence
from zerotilt.core.meaning import Context, Spec
from zerotilt.core.method import Method
from zerotilt.core.methods import METHODS
from zerotilt.store import shelf
from zerotilt.store.database import database, patiently
from zerotilt.store.records import ACTIVE, Audit, AuditEvidence, EvidenceRow, Task, own
from zerotilt.tasks.board import Direct, Since
from zerotilt.tasks.expectation import QUICK_SECONDS

router = APIRouter(prefix="/api", tags=["readings"])
WAIT_SECONDS = 1.2
"""How long a request stays open for what is quick; then its task is followed."""


def of_methods() -> APIRouter:
    """A route for every method there is."""
    found = APIRouter(prefix="/api", tags=["readings"])
    for method in METHODS.values():
        _add(found, method)
    return found


def _add(router: APIRouter, method: Method) -> None:
    ask: type[BaseModel] = create_model(
        f"{method.name.title()}Ask",
        context=(Context, Field(default_factory=Context)),
        settings=(method.settings, Field(default_factory=method.settings)),
    )

    def read(audit, desk, wanted):
        """The evidence; or how to ask for it directly; or the task that computes it."""
        found = desk.board.at_hand(ready(audit), wanted.context, method.name, wanted.settings.model_dump())
        if isinstance(found, Direct):
            return {"direct": found}
        if found is not None:
            return shown(audit, desk, wanted, found)
        return queued(audit, desk, wanted)

    def queued(audit, desk, wanted):
        found = desk.board.reading(ready(audit), wanted.context, method.name, wanted.settings.model_dump())
        if isinstance(found, EvidenceRow):
            return shown(audit, desk, wanted, found)
        return {"task": TaskView.of(type(found).get_by_id(found.id)), "key": str(found.key).partition(":")[0]}

    def kept(audit, desk, wanted, bodies):
        """What was computed directly. It could be computed again: nobody waits until the disk has it."""
        database.execute_sql("set local synchronous_commit to off")
        for body in bodies:
            shelf.keep(desk.files, body)
            own(audit, body["key"])
        return told(audit, wanted, bodies) | {"fresh": True}

    def computed(audit, desk, wanted, key):
        """What was waited for; it was asked for by this audit, under this key."""
        return shown(audit, desk, wanted, evidence_of(audit, key))

    def shown(audit, desk, wanted, row):
        """The evidence, and what is shown with it where that is there."""
        beside = [desk.board.known(audit, wanted.context, *asked) for asked in method.also(wanted.settings)]
        return told(audit, wanted, [shelf.whole(one, desk.files) for one in (row, *beside) if one is not None])

    def told(audit, wanted, bodies):
        spec = Spec.model_validate(audit.spec)
        first, *others = (evidence(body, spec, wanted.context) for body in bodies)
        asked = {name: dict(settings) for name, settings in method.also(wanted.settings)}
        beside = [
            {
                "method": one["method"],
                "settings": asked[one["method"]],
                "evidence": one | {"reading": one["reading"].model_dump()},
            }
            for one in others
        ]
        return {"evidence": first, "beside": beside}

    read.__annotations__ = {"audit": Audit, "desk": TheDesk, "wanted": ask}
    queued.__annotations__ = dict(read.__annotations__)
    kept.__annotations__ = read.__annotations__ | {"bodies": list}
    computed.__annotations__ = read.__annotations__ | {"key": str}
    handler, asked, keep, again = connected(read), connected(queued), connected(kept), connected(computed)

    @functools.wraps(handler)
    def answered(**given):
        """What is quick is waited for, outside the transaction in which it was asked for."""
        found = handler(**given)
        if direct := found.get("direct"):
            made = (given["desk"].at_hand.ask(direct.payload, direct.seconds) or {}).get("evidence", [{}])
            # what computed it has run somebody's model: only what was asked for is kept of what it says
            if [one.get("key") for one in made[:1]] == [direct.key]:
                beside = [one for one in made[1:] if one.get("key") in direct.beside]
                return keep(**given, bodies=[made[0], *beside])
            found = asked(**given)
        task = found.get("task")
        if task is None or task.expected is None or task.expected > QUICK_SECONDS:
            return found
        given["desk"].endings.wait(task.id, lambda: _state(task.id) not in ACTIVE, WAIT_SECONDS)
        now = _view(task.id) or task
        return again(**given, key=found["key"]) if now.state == "done" else {"task": now}

    router.post(
        f"/audits/{{audit_id}}/readings/{method.name}",
        response_model=ReadingView[method.result],
        operation_id=f"read_{method.name}",
        summary=f"{method.title}: the evidence, or the task that computes it",
    )(answered)


def _state(name: str) -> str:
    return patiently(lambda: Task.select(Task.state).where(Task.id == name).scalar(), PATIENCE) or "gone"


def _view(name: str) -> TaskView | None:
    found = patiently(lambda: Task.get_or_none(Task.id == name), PATIENCE)
    return found and TaskView.of(found)


class EvidenceLine(BaseModel):
    """One result of an audit, without its numbers."""

    key: str
    method: str
    title: str
    rows: int
    rows_described: str
    computed: str
    reading: str = Field(description="As it was written when it was computed")
    settings: dict[str, Any] = Field(description="With which it was asked for")
    changed: list[str] = Field(
        description="What has changed since it was computed, in words; empty for what would be computed alike today"
    )


@router.get("/audits/{audit_id}/evidence")
@connected
def evidence_list(audit: Audit) -> list[EvidenceLine]:
    """Every result that was computed for the audit, the first first."""
    told = SQL("body - 'result' - 'worded'").alias("told")
    rows: Any = (
        EvidenceRow.select(EvidenceRow.key, told)
        .join(AuditEvidence)
        .where(AuditEvidence.audit == audit)
        .order_by(EvidenceRow.created, EvidenceRow.key)
        .dicts()
    )
    since = Since(audit)
    return [_line(Evidence.model_validate(one["told"] | {"result": {}}), since) for one in rows]


def _line(found: Evidence, since: Since) -> EvidenceLine:
    return EvidenceLine(
        **found.model_dump(include={"key", "method", "title", "rows", "rows_described", "computed", "settings"}),
        reading=f"{found.reading.text} {found.reading.detail}".strip() if found.reading else "",
        changed=list(since.computed(found)),
    )


@router.get("/audits/{audit_id}/evidence/{key}/arrays")
@connected
def arrays(audit: Audit, desk: TheDesk, key: str) -> list[str]:
    """The arrays of one result, by name."""
    found = Evidence.model_validate(shelf.whole(evidence_of(audit, key), desk.files))
    return list(tabulate.tables(found.typed)) if found.readable else []


@router.get("/audits/{audit_id}/evidence/{key}/arrays/{name}", response_class=Response)
@connected
def array(
    audit: Audit, desk: TheDesk, key: str, name: str, kind: Literal["csv", "parquet", "json"] = "csv"
) -> Response:
    """One array of a result as a file."""
    found = Evidence.model_validate(shelf.whole(evidence_of(audit, key), desk.files))
    table = tabulate.tables(found.typed).get(name) if found.readable else None
    if table is None:
        raise HTTPException(404, f"This result has no array “{name}”.")
    body, media = arrayfile.written(table, kind)
    file = f"{found.method}-{re.sub(r'[^a-z0-9_]+', '-', name)}-{key[:8]}.{kind}"
    return Response(body, media_type=media, headers={"Content-Disposition": f'attachment; filename="{file}"'})


@router.get("/audits/{audit_id}/evidence/{key}/attached/{name}", response_class=Response)
@connected
def attached(audit: Audit, desk: TheDesk, key: str, name: str, kind: Literal["parquet", "csv"] = "parquet") -> Response:
    """A table that goes with a result, as a file; CSV is written while it is sent."""
    row = evidence_of(audit, key)
    digest = digests_in(row.body["result"]).get(name)
    if digest is None:
        raise HTTPException(404, f"No table “{name}” goes with this result.")
    path, file = desk.files.verified(digest), f"{row.method}-{key[:8]}.{kind}"
    if kind == "parquet":
        return FileResponse(path, media_type=arrayfile.MEDIA[kind], filename=file)
    return StreamingResponse(
        arrayfile.csv_pieces(path.open("rb")),
        media_type=arrayfile.MEDIA[kind],
        headers={"Content-Disposition": f'attachment; filename="{file}"'},
    )


def evidence_of(audit: Audit, key: str) -> EvidenceRow:
    """A result that this audit asked for; others' are as if they were not there."""
    row = (
        EvidenceRow.select()
        .join(AuditEvidence)
        .where((AuditEvidence.audit == audit) & (EvidenceRow.key == key))
        .first()
    )
    if row is None:
        raise HTTPException(404, "There is no such evidence.")
    return row
