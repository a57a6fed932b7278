"""One route for each method: its settings in, its result out. The registry writes them."""

from __future__ import annotations

import re
from collections import Counter
from typing import Literal

from fastapi import APIRouter, HTTPException, Response
from pydantic import BaseModel, Field, create_model

from zerotilt.api.desk import TheDesk, connected, ready
from zerotilt.api.findings import findings_of
from zerotilt.api.views import ReadingView, TaskView, evidence
from zerotilt.core import arrayfile, tabulate
from zerotilt.core.evidence import Evidence
from zerotilt.core.meaning import Context, Spec
from zerotilt.core.method import Method
from zerotilt.core.methods import METHODS
from zerotilt.store import shelf
from zerotilt.store.records import Audit, AuditEvidence, EvidenceRow

router = APIRouter(prefix="/api", tags=["readings"])


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
        found = desk.board.reading(ready(audit), wanted.context, method.name, wanted.settings.model_dump())
        if isinstance(found, EvidenceRow):
            return {
                "evidence": evidence(shelf.whole(found, desk.files), Spec.model_validate(audit.spec), wanted.context)
            }
        return {"task": TaskView.of(type(found).get_by_id(found.id))}

    read.__annotations__ = {"audit": Audit, "desk": TheDesk, "wanted": ask}
    router.post(
        f"/audits/{{audit_id}}/readings/{method.name}",
        response_model=ReadingView[method.result],
        operation_id=f"read_{method.name}",
        summary=f"{method.title}: the evidence, or the task that computes it",
    )(connected(read))


@router.post("/audits/{audit_id}/glance")
@connected
def glance(audit: Audit, desk: TheDesk, context: Context) -> dict[str, int]:
    """Findings that are open in each area, of what has been read in this context."""
    return Counter(found.area for found in findings_of(audit, desk, context) if found.decision == "open")


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
