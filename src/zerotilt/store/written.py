"""Reports: the document they are written from, what was written, and who signed it."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import Any

import peewee

from zerotilt.core.refusal import Refused
from zerotilt.report.document import Document, merged
from zerotilt.store.files import Damaged, FileStore, Missing
from zerotilt.store.records import Audit, Report, ReportDraft, ReportForm, ReportPreview, Signature

MOST_VERSIONS = 200
"""Versions of a document that are kept; older ones are what nobody can still be writing from."""
MANIFEST = "zerotilt-report/1"
SIGNED = "zerotilt-signature/1"


def draft(audit: Audit) -> tuple[int, Document]:
    """The document as it stands, and the number of its version: 0 while nobody has touched it."""
    last = audit.drafts.order_by(ReportDraft.number.desc()).first()
    if last is None:
        return 0, Document().complete()
    return last.number, Document.model_validate(last.body).complete()


def write_draft(audit: Audit, wanted: Document, read: int, author: str) -> tuple[int, Document, bool]:
    """Write the document, within a transaction that holds the audit; its number, how it stands now, and whether what
    somebody else wrote meanwhile was put together with it.

    Parameters
    ----------
    read : number of the version that it was changed from.

    Raises
    ------
    Refused : that version is kept no more, so that nobody can tell what was changed.
    """
    number, now = draft(audit)
    wanted, together = wanted.complete(), read != number
    if together:
        wanted = merged(_version(audit, read), wanted, now, author).complete()
    if wanted != now:
        number += 1
        body = wanted.model_dump(mode="json")
        ReportDraft.create(audit=audit, number=number, body=body, author=author, created=datetime.now(UTC))
        old = (ReportDraft.audit == audit) & (ReportDraft.number <= number - MOST_VERSIONS)
        ReportDraft.delete().where(old).execute()
    return number, wanted, together


def _version(audit: Audit, number: int) -> Document:
    if number == 0:
        return Document().complete()
    found = audit.drafts.where(ReportDraft.number == number).first()
    if found is None:
        raise Refused(
            "The report was changed too often since this window read it.",
            todo="Copy what you wrote, and load the page again.",
        )
    return Document.model_validate(found.body).complete()


def next_number(audit: Audit) -> int:
    return (Report.select(peewee.fn.max(Report.number)).where(Report.audit == audit).scalar() or 0) + 1


def keep_preview(audit: Audit, reader: str, made_of: str, files: dict[str, str], lacking: list[str]) -> list[str]:
    """Keep what a reader would get, in place of the one before; the digests of files that may be unowned now."""
    mine = (ReportPreview.audit == audit) & (ReportPreview.reader == reader)
    before = ReportPreview.get_or_none(mine)
    ReportPreview.delete().where(mine).execute()
    ReportPreview.create(
        audit=audit, reader=reader, made_of=made_of, files=files, lacking=lacking, created=datetime.now(UTC)
    )
    return [] if before is None else [one for one in before.files.values() if one not in files.values()]


def freeze(audit: Audit, files: FileStore, found: dict[str, Any], document: dict[str, Any]) -> Report:
    """Write down a report that never changes, within a transaction that holds the audit.

    Parameters
    ----------
    found : digests of its files by name, ``flagged`` and ``tested``. document : what it was written from.
    """
    last = audit.reports.order_by(Report.number.desc()).first()
    number, made = next_number(audit), datetime.now(UTC)
    title = document.get("title") or audit.title
    manifest = files.put(
        written(
            {
                "format": MANIFEST,
                "audit": audit.title,
                "title": title,
                "number": number,
                "made": made.isoformat(),
                "files": found["files"],
                "flagged": found["flagged"],
                "tested": found["tested"],
                "document": document,
                "before": (last.manifest or last.html_digest) if last else "",
                "signed": _last_signed(last),
            }
        )
    )
    return Report.create(
        audit=audit,
        number=number,
        html_digest=found["files"]["report.html"],
        json_digest=found["files"]["audit.json"],
        flagged=found["flagged"],
        tested=found["tested"],
        files=found["files"],
        manifest=manifest,
        title=title,
        created=made,
    )


def _last_signed(report: Report | None) -> str:
    """Digest of a report's last signature, so that it cannot be taken away unnoticed once a later report is there."""
    last = report.signatures.order_by(Signature.number.desc()).first() if report else None
    return last.file if last else ""


def sign(report: Report, files: FileStore, name: str, role: str, note: str) -> tuple[Signature, list[str]]:
    """Sign a report, within a transaction that holds its audit. What is signed is kept as a file of its own. Given back with
    the digests of files that may be unowned now.

    Raises
    ------
    Refused : the report is of a version of Zero Tilt that knew no signatures.
    """
    if report.manifest is None:
        raise Refused("This report was written before reports could be signed.", todo="Write a new one, and sign that.")
    last = report.signatures.order_by(Signature.number.desc()).first()
    number, made = (last.number + 1 if last else 1), datetime.now(UTC)
    own = {"name": name, "role": role, "note": note, "number": number}
    before = last.file if last else report.manifest
    file = files.put(_signed(report.manifest, own, before, made))
    # forms name who signed: they are made again when they are asked for
    left = [form.file for form in report.forms]
    ReportForm.delete().where(ReportForm.report == report).execute()
    return Signature.create(report=report, **own, before=before, file=file, created=made), left


def signed_by(report: Report) -> list[dict[str, str]]:
    """Who signed a report so far, the first first, as its forms name them."""
    return [
        {
            "name": one.name,
            "role": one.role,
            "note": one.note,
            "signed": f"{one.created.astimezone(UTC):%d %B %Y, %H:%M} UTC",
            "digest": one.file,
        }
        for one in report.signatures.order_by(Signature.number)
    ]


def _signed(manifest: str, own: dict[str, Any], before: str, made: datetime) -> bytes:
    body = {"format": SIGNED, "report": manifest, "before": before, "signed": made.astimezone(UTC).isoformat(), **own}
    return written(body)


def written(body: dict[str, Any]) -> bytes:
    """JSON of which there is one form only, so that its digest says what it holds."""
    return json.dumps(body, sort_keys=True, ensure_ascii=False, indent=1).encode()


def broken_chains(files: FileStore) -> list[str]:
    """What does not fit in reports and their signatures, in words: a record that says something else than what was
    signed, one that is missing between others, a manifest that names other files.
    """
    problems = []
    for report in Report.select().where(Report.manifest.is_null(False)).order_by(Report.created):
        who = f"report {report.number} of “{report.audit.title}”"
        held = _read(files, report.manifest)
        if held is None:
            continue  # that its file is missing or damaged is said already
        if held.get("files") != report.files or held.get("number") != report.number:
            problems.append(f"{who}: its record names other files than what was written")
        for name in ("title", "flagged", "tested"):  # of earlier versions a manifest names the title alone
            if name in held and held[name] != getattr(report, name):
                problems.append(
                    f"{who}: its record says “{getattr(report, name)}” of {name} where “{held[name]}” was written"
                )
        if (signed := held.get("signed")) and not _holds(report.audit, held["before"], signed):
            problems.append(f"{who}: the last signature of the report before it is there no more")
        before = report.manifest
        for place, one in enumerate(report.signatures.order_by(Signature.number), 1):
            own = {"name": one.name, "role": one.role, "note": one.note, "number": one.number}
            signed = f"{who}: the signature of {one.name}"
            if one.number != place:
                problems.append(f"{signed} is number {one.number} where {place} is due: one is missing before it")
            if one.before != before:
                problems.append(f"{signed} does not follow the one before it")
            if (content := _content(files, one.file)) is not None and content != _signed(
                report.manifest, own, one.before, one.created
            ):
                problems.append(f"{signed} was altered: its record says something else than what was signed")
            before = one.file
    return problems


def _holds(audit: Audit, manifest: str, signature: str) -> bool:
    mine = (Report.audit == audit) & (Report.manifest == manifest) & (Signature.file == signature)
    return Signature.select().join(Report).where(mine).exists()


def _content(files: FileStore, digest: str) -> bytes | None:
    try:
        return files.verified(digest).read_bytes()
    except (Missing, Damaged):  # which is said where files are held against their names
        return None


def _read(files: FileStore, digest: str) -> dict[str, Any] | None:
    content = _content(files, digest)
    return None if content is None else json.loads(content)
