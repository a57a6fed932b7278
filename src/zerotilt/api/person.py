"""The page for the person whom a case is about, made from its evidence whenever it is asked for."""

from __future__ import annotations

import re
from typing import Annotated

from fastapi import APIRouter, Query, Response

from zerotilt.api.desk import TheDesk, connected
from zerotilt.api.identity import Who
from zerotilt.api.readings import evidence_of
from zerotilt.core.evidence import Evidence
from zerotilt.core.meaning import Spec
from zerotilt.report import person
from zerotilt.store import shelf
from zerotilt.store.records import Audit

router = APIRouter(prefix="/api/audits/{audit_id}", tags=["readings"])
PAGE_POLICY = (
    "default-src 'none'; style-src 'unsafe-inline'; img-src data:; font-src data:; frame-ancestors 'self'; sandbox"
)
Closing = Annotated[str, Query(max_length=2_000, description="What the sender adds at the end, as plain text")]


def _page(audit: Audit, desk: TheDesk, key: str, closing: str) -> str:
    found = Evidence.model_validate(shelf.whole(evidence_of(audit, key), desk.files))
    return person.page(found, Spec.model_validate(audit.spec), audit.title, closing)


_connected_page = connected(_page)


@router.get("/evidence/{key}/page", response_class=Response)
def page(audit_id: str, who: Who, desk: TheDesk, key: str, closing: Closing = "") -> Response:
    """The page as HTML."""
    html = _connected_page(audit_id=audit_id, who=who, desk=desk, key=key, closing=closing)
    return Response(html, media_type="text/html", headers={"Content-Security-Policy": PAGE_POLICY})


@router.get("/evidence/{key}/page.pdf", response_class=Response)
def page_pdf(audit_id: str, who: Who, desk: TheDesk, key: str, closing: Closing = "") -> Response:
    """The page as PDF; made outside the transaction in which it was read."""
    html = _connected_page(audit_id=audit_id, who=who, desk=desk, key=key, closing=closing)
    name = f"page-{re.sub(r'[^0-9a-f]+', '', key)[:8]}.pdf"
    return Response(
        person.printed(html),
        media_type="application/pdf",
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )
