"""One route for each method: its settings in, its result out. The registry writes them."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field, create_model

from zerotilt.api.desk import TheDesk, connected, ready
from zerotilt.api.views import ReadingView, TaskView, evidence
from zerotilt.core.methods import METHODS, Method
from zerotilt.core.spec import Context, Spec
from zerotilt.store.records import Audit, EvidenceRow

router = APIRouter(prefix="/api", tags=["readings"])


def _add(method: Method) -> None:
    ask: type[BaseModel] = create_model(
        f"{method.name.title()}Ask",
        context=(Context, Field(default_factory=Context)),
        settings=(method.settings, Field(default_factory=method.settings)),
    )

    def read(audit, desk, wanted):
        found = desk.board.reading(ready(audit), wanted.context, method.name, wanted.settings.model_dump())
        if isinstance(found, EvidenceRow):
            return {"evidence": evidence(found, Spec.model_validate(audit.spec), wanted.context)}
        return {"task": TaskView.of(type(found).get_by_id(found.id))}

    read.__annotations__ = {"audit": Audit, "desk": TheDesk, "wanted": ask}
    router.post(
        f"/audits/{{audit_id}}/readings/{method.name}",
        response_model=ReadingView[method.result],
        operation_id=f"read_{method.name}",
        summary=f"{method.title}: the evidence, or the task that computes it",
    )(connected(read))


for _method in METHODS.values():
    _add(_method)


@router.get("/audits/{audit_id}/glance")
@connected
def glance(audit: Audit, desk: TheDesk, model: str | None = None, rows: str = "hold-out") -> dict[str, int]:
    """Flagged comparisons of each area that has been read in this context."""
    found = desk.board.known(Audit.get_by_id(audit.id), Context(model=model, rows=rows), "tilt", {})
    if found is None:
        return {}
    return {"tilt": sum(d["status"] == "flagged" for d in found.body["result"]["disparities"])}
