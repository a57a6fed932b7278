"""The report while it is composed, and reports that were written: read, signed, never altered."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, BackgroundTasks, HTTPException, Query
from fastapi.responses import FileResponse

from zerotilt.api.again import to_look_at
from zerotilt.api.desk import Desk, TheDesk, connected, held, ready
from zerotilt.api.identity import Who
from zerotilt.api.report_views import (
    ChangesView,
    DraftView,
    FormView,
    NewDraft,
    NewSignature,
    NumberView,
    PreviewView,
    Prose,
    ProseView,
    ReportView,
    SectionView,
    SignatureView,
)
from zerotilt.api.views import TaskView
from zerotilt.core import words
from zerotilt.core.meaning import Context
from zerotilt.report import prose
from zerotilt.report.changes import changes
from zerotilt.report.document import Document, Reader, sections
from zerotilt.report.lacking import unsaid
from zerotilt.report.numbers import Number
from zerotilt.store import ledger, removal, written
from zerotilt.store.database import database
from zerotilt.store.files import Damaged, FileStore, Missing
from zerotilt.store.records import Audit, Report, ReportDraft, ReportPreview
from zerotilt.tasks import reporting

router = APIRouter(prefix="/api/audits/{audit_id}", tags=["reports"])
_BARE = "default-src 'none'; style-src 'unsafe-inline'; img-src data:; font-src data:; frame-ancestors 'self'; sandbox"
REPORT_POLICY = f"{_BARE} allow-popups"
"""Nothing is fetched, nothing runs; a link that somebody wrote opens in a window of its own."""
PREVIEW_POLICY = f"{_BARE} allow-same-origin"
"""The same, but the page that it stands in may arrange it."""
MOST_OFFERED = 30
TYPES = {
    ".html": "text/html",
    ".json": "application/json",
    ".pdf": "application/pdf",
    ".zip": "application/zip",
    ".docx": "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
}
FORMS = {
    "report.pdf": "report.html",
    "summary.pdf": "summary.html",
    "public.pdf": "public.html",
    "report-markdown.zip": "report.html",
    "report.docx": "report.html",
}
"""Other forms of a report that are made when they are asked for, and what each is made of."""


def _draft_view(audit: Audit, number: int, document: Document, together: bool = False) -> DraftView:
    last = audit.drafts.where(ReportDraft.number == number).first()
    return DraftView(
        number=number,
        document=document,
        author=last.author if last else "",
        changed=last.created if last else None,
        together=together,
        sections=[
            SectionView.model_validate({**one._asdict(), "readers": list(one.readers)}) for one in sections().values()
        ],
    )


@router.get("/draft")
@connected
def draft(audit: Audit) -> DraftView:
    """The document, complete: every section stands in it."""
    return _draft_view(audit, *written.draft(audit))


@router.put("/draft")
@connected
def write_draft(audit: Audit, who: Who, wanted: NewDraft) -> DraftView:
    """Write the document. What somebody else wrote since it was read is put together with it, so that nothing is lost."""
    audit = held(audit)
    author = who.identity.signed(wanted.author)
    return _draft_view(audit, *written.write_draft(audit, wanted.document, wanted.read, author))


@router.post("/draft/preview")
@connected
def preview(audit: Audit, desk: TheDesk, context: Context, reader: Reader = "full") -> PreviewView:
    """A reader's page as it is today, or the task that makes it."""
    found = reporting.ask_preview(desk.board, ready(audit), context, reader)
    if isinstance(found, ReportPreview):
        unwritten = unsaid(written.draft(audit)[1], reader, _numbers(audit, desk, reader))
        older = to_look_at(audit, desk, context)
        said = f"{words.opening(words.plural(older, 'finding'))} {'was' if older == 1 else 'were'} decided on another model version or table, or under another meaning or decision rule, and nobody has looked since."
        lacking = [*unwritten, *found.lacking, *([said] if older else [])]
        return PreviewView(page=found.files["preview.html"], made_of=found.made_of, lacking=lacking, task=None)
    return PreviewView(page=None, made_of=None, lacking=[], task=TaskView.of(type(found).get_by_id(found.id)))


@router.get("/draft/preview/{reader}", response_class=FileResponse)
@connected
def preview_page(audit: Audit, desk: TheDesk, reader: Reader) -> FileResponse:
    path = desk.files.verified(_previewed(audit, reader).files["preview.html"])
    return FileResponse(path, media_type="text/html", headers={"Content-Security-Policy": PREVIEW_POLICY})


@router.get("/draft/numbers")
@connected
def offered(
    audit: Audit, desk: TheDesk, reader: Reader = "full", find: Annotated[str, Query(max_length=400)] = ""
) -> list[NumberView]:
    """Computed numbers whose names hold every word that was typed; the shortest names first."""
    found = _numbers(audit, desk, reader)
    wanted = re.findall(r"[^\s/]+", find.lower())
    held_in = [one for one in found.values() if all(word in one.name.lower() for word in wanted)]
    held_in.sort(key=lambda one: len(one.name))
    return [NumberView(name=one.name, text=one.text, more=one.more) for one in held_in[:MOST_OFFERED]]


@router.post("/draft/prose")
@connected
def read_prose(audit: Audit, desk: TheDesk, wanted: Prose, reader: Reader = "full") -> ProseView:
    """A text as it will stand in the report, with the numbers that it names."""
    found = _numbers(audit, desk, reader)
    html = prose.html(wanted.text, found, lambda key: "")
    return ProseView(html=str(html), unknown=prose.unknown(wanted.text, found))


def _previewed(audit: Audit, reader: Reader) -> ReportPreview:
    found = ReportPreview.get_or_none((ReportPreview.audit == audit) & (ReportPreview.reader == reader))
    if found is None:
        raise HTTPException(404, "This page has not been made yet.")
    return found


def _numbers(audit: Audit, desk: Desk, reader: Reader) -> dict[str, Number]:
    path = desk.files.verified(_previewed(audit, reader).files["numbers.json"])
    return {one["name"]: Number(**one) for one in json.loads(path.read_bytes())}


@router.get("/reports")
@connected
def reports(audit: Audit) -> list[ReportView]:
    return [ReportView.of(report) for report in audit.reports.order_by(Report.number)]


@router.post("/reports", status_code=202)
@connected
def write_report(
    audit: Audit,
    desk: TheDesk,
    context: Context,
    shown: Annotated[str, Query(max_length=64, description="What the page was made of that was looked at")] = "",
    reader: Reader = "full",
    draft: Annotated[int, Query(ge=0, description="Number of the document that was looked at")] = 0,
) -> TaskView:
    """Write the report, for each of its readers, as the document stands now; nothing is written where ``shown`` is not what
    the page would be made of now.
    """
    looked_at = reporting.Shown(reader, shown, draft) if shown else None
    task = reporting.ask_report(desk.board, ready(held(audit)), context, looked_at)
    return TaskView.of(type(task).get_by_id(task.id))


@router.get("/reports/{number}", response_class=FileResponse)
@connected
def report(audit: Audit, desk: TheDesk, number: int) -> FileResponse:
    return _file(desk, _numbered(audit, number), "report.html")


@router.get("/reports/{number}/changes")
@connected
def changed(
    audit: Audit, desk: TheDesk, number: int, since: Annotated[int | None, Query(ge=1, le=2**31 - 1)] = None
) -> ChangesView:
    """What a report says otherwise than an earlier one, sentence by sentence and number by number."""
    now = _numbered(audit, number)
    before = (
        _numbered(audit, since)
        if since
        else audit.reports.where(Report.number < number).order_by(-Report.number).first()
    )
    if before is None:
        raise HTTPException(404, f"There is no report before report {number}.")
    if before.number >= now.number:
        raise HTTPException(422, f"Report {before.number} is not earlier than report {number}.")
    sides = [
        (
            _whole(desk, one.html_digest, one.number).read_text(encoding="utf-8"),
            json.loads(_whole(desk, one.json_digest, one.number).read_bytes()),
        )
        for one in (before, now)
    ]
    return ChangesView(since=before.number, **dict(changes(*sides)))


@router.get("/reports/{number}/{name}", response_class=FileResponse)
@connected
def report_file(audit: Audit, desk: TheDesk, number: int, name: str) -> FileResponse:
    """One of a report's files: what one of its readers gets, its numbers, its manifest."""
    return _file(desk, _numbered(audit, number), name)


@router.post("/reports/{number}/forms/{name}")
@connected
def make_form(audit: Audit, desk: TheDesk, number: int, name: str) -> FormView:
    """Another form of a report, as PDF or Markdown: there already, or the task that makes it."""
    found = _numbered(audit, number)
    source = FORMS.get(name)
    if source is None or (source not in found.files and source != "report.html"):
        raise HTTPException(404, f"Report {number} has no such form; it has {', '.join(FORMS)}.")
    task = reporting.ask_form(desk.board, found, name, source)
    return FormView(task=None if task is None else TaskView.of(type(task).get_by_id(task.id)))


@router.post("/reports/{number}/signatures", status_code=201)
@connected
def sign(audit: Audit, desk: TheDesk, number: int, wanted: NewSignature, background: BackgroundTasks) -> SignatureView:
    """Sign a report by name and role. A signature is never taken back; another one says what has changed."""
    found = _numbered(held(audit), number)
    signature, left = written.sign(found, desk.files, wanted.name, wanted.role, wanted.note)
    background.add_task(_noted, desk.files, left)  # once it is written
    return SignatureView.of(signature)


def _noted(files: FileStore, left: list[str]) -> None:
    with database.connection_context():
        ledger.catch_up(files)
        removal.discard(files, left)


def _file(desk: Desk, found: Report, name: str) -> FileResponse:
    """A report's file, held against its digest: what was altered is not served."""
    known = {"report.html": found.html_digest, "audit.json": found.json_digest} | found.files
    known |= {one.name: one.file for one in found.forms}
    if found.manifest:
        known["manifest.json"] = found.manifest
    if name not in known:
        raise HTTPException(404, f"Report {found.number} has no file of this name.")
    ending = Path(name).suffix
    headers = {"Content-Security-Policy": REPORT_POLICY} if ending == ".html" else {}
    filename = None if ending == ".html" else f"{Path(name).stem}-{found.number}{ending}"
    path = _whole(desk, known[name], found.number)
    return FileResponse(path, media_type=TYPES[ending], filename=filename, headers=headers)


def _whole(desk: Desk, digest: str, number: int) -> Path:
    try:
        return desk.files.verified(digest)
    except Missing:
        raise HTTPException(410, f"The file of report {number} is missing; put it back from a copy.") from None
    except Damaged:
        raise HTTPException(
            409, f"The file of report {number} was changed after it was written, so it is not shown."
        ) from None


def _numbered(audit: Audit, number: int) -> Report:
    found = None
    if 0 < number < 2**31:
        found = Report.get_or_none((Report.audit == audit) & (Report.number == number))
    if found is None:
        raise HTTPException(404, f"This audit has no report {number}.")
    return found
