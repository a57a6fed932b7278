"""One audit as one file, and back: its records as JSON, its tables, models, reports and signatures as they are stored."""

from __future__ import annotations

import json
import lzma
import re
import zipfile
import zlib
from datetime import UTC, date, datetime
from typing import Any, BinaryIO
from uuid import UUID

import peewee

from zerotilt import __version__
from zerotilt.core import words
from zerotilt.core.parsing import from_json
from zerotilt.core.refusal import Refused
from zerotilt.store import ledger
from zerotilt.store.check import discard_unowned, lock_file
from zerotilt.store.database import database
from zerotilt.store.files import MOST_FETCHED, PIECE, FileStore
from zerotilt.store.holdings import OF_AUDIT, columns_of, files_in
from zerotilt.store.incoming import checked
from zerotilt.store.records import FINDING, Audit, AuditEvidence, EvidenceRow

FORMAT = "zerotilt-archive/1"
RECORDS = "records.json"
DIGEST = re.compile("[0-9a-f]{64}")
UNREADABLE = (
    zipfile.BadZipFile,
    zlib.error,
    lzma.LZMAError,
    EOFError,
    RuntimeError,
    NotImplementedError,
    OSError,
    MemoryError,
)
"""What reading an altered, encrypted or oddly packed entry ends in."""
BEGAN = (1980, 1, 1, 0, 0, 0)
MOST_RECORDS = 512 * 2**20
"""Bytes of records that are read; large arrays are files of their own."""
ORDER = tuple(OF_AUDIT)


def export(audit: Audit, files: FileStore, target: BinaryIO) -> int:
    """Write an audit as an archive, the same bytes for the same records; how many files are in it.

    Raises
    ------
    Missing, Damaged : a stored file is not what a record says.
    """
    with database.atomic():
        # as it stands at one moment, whatever is written meanwhile
        database.execute_sql("set transaction isolation level repeatable read")
        own = Audit.get_by_id(audit.id)
        records = {
            kind._meta.table_name: sorted(map(_plain, rows), key=lambda one: json.dumps(one, sort_keys=True))
            for kind, rows in ((kind, records(own)) for kind, records in OF_AUDIT.items())
        }
    records[Audit._meta.table_name][0]["deleted"] = None
    sealed = records[EvidenceRow._meta.table_name]
    if changed := ledger.altered(files, [one["key"] for one in sealed]):
        what = words.listing(sorted({method.replace("_", " ") for _, method in changed}))
        raise Refused(
            f"Evidence of {what} is not as this house wrote it: its numbers were changed in the database.",
            todo="Run ./zt check; compute it again, or bring the database back from a copy.",
        )
    for one in sealed:  # another house has another secret
        one["seal"] = None
    digests = sorted(files_in(records))
    told = {"format": FORMAT, "release": __version__, "records": records, "files": digests}
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(_entry(RECORDS), json.dumps(told, ensure_ascii=False, sort_keys=True))
        for digest in digests:
            with (
                files.verified(digest).open("rb") as source,
                archive.open(_entry(f"files/{digest}"), "w", force_zip64=True) as sink,
            ):
                while piece := source.read(PIECE):
                    sink.write(piece)
    return len(digests)


def restore(source: BinaryIO, files: FileStore) -> Audit:
    """Write an archive's audit into this home, with the identity that it had.

    Raises
    ------
    Refused : it is no archive, or not whole; a later release wrote it; or the audit is here already.
    """
    try:
        archive = zipfile.ZipFile(source)
        entry = archive.getinfo(RECORDS)
    except (KeyError, ValueError, *UNREADABLE):
        raise Refused("This is no archive of an audit.", todo="Give a file that ./zt export wrote.") from None
    if entry.file_size > MOST_RECORDS:
        raise Refused("The archive's records are too large to be read.")
    with archive:
        told = _told(archive)
        records = told["records"]
        own = records[Audit._meta.table_name][0]
        digests = sorted(set(told["files"]) | files_in(records))
        try:
            with database.atomic():
                _refuse_a_second(own)
                for digest in digests:
                    lock_file(digest)  # nobody takes it away before the records that name it are there
                    _put(archive, files, digest)
                for kind in ORDER:
                    _insert(kind, records.get(kind._meta.table_name, []))
                _mark_findings(Audit.get_by_id(own["id"]))
                ledger.seal(files, [one["key"] for one in records.get(EvidenceRow._meta.table_name, [])])
        except BaseException:
            for digest in digests:
                discard_unowned(files, digest)
            raise
    return Audit.get_by_id(own["id"])


def _mark_findings(audit: Audit) -> None:
    """Which evidence gives rise to findings is known here; archives of earlier releases do not say."""
    keys = EvidenceRow.select(EvidenceRow.key).where(EvidenceRow.method.in_(FINDING))
    AuditEvidence.update(finds=True).where((AuditEvidence.audit == audit) & AuditEvidence.evidence.in_(keys)).execute()


def _told(archive: zipfile.ZipFile) -> dict[str, Any]:
    try:
        told = from_json(archive.read(RECORDS))
        known = {kind._meta.table_name: set(kind._meta.columns) for kind in ORDER}
        if told["format"] != FORMAT:
            raise Refused(f"The archive is in the format {told['format']}, which this release does not read.")
        for name, rows in told["records"].items():
            if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
                raise Refused(
                    f"The archive has no records in {name}, but something else.", todo="Export the audit again."
                )
            unknown = {column for row in rows for column in row} - known.get(name, set())
            if name not in known or unknown:
                what = f"records called {name}" if name not in known else f"“{min(unknown)}” in records of {name}"
                raise Refused(
                    f"The archive has {what}, which this release does not know.", todo="Use the release that wrote it."
                )
        if len(told["records"][Audit._meta.table_name]) != 1:
            raise Refused("The archive does not hold one audit.")
        UUID(told["records"][Audit._meta.table_name][0]["id"])
        checked(told["records"], ORDER)
        if not all(DIGEST.fullmatch(one) for one in (*told["files"], *files_in(told["records"]))):
            raise ValueError
    except Refused:
        raise
    except (ValueError, KeyError, TypeError, AttributeError, *UNREADABLE):
        raise Refused("The archive's records cannot be read.", todo="Export the audit again.") from None
    return told


def _refuse_a_second(own: dict[str, Any]) -> None:
    here = Audit.get_or_none(Audit.id == own["id"])
    if here is None:
        return
    if here.deleted is not None:
        raise Refused(
            f"“{here.title}” was deleted a moment ago and is still here.",
            todo="Bring it back on the front page, or wait until it is gone for good.",
        )
    raise Refused(f"“{here.title}” is here already.", todo="Delete it first, or restore the archive in another home.")


def _put(archive: zipfile.ZipFile, files: FileStore, digest: str) -> None:
    """A file of the archive into the store, held against its name."""
    try:
        entry = archive.getinfo(f"files/{digest}")
    except KeyError:
        raise Refused(f"The file {digest[:12]}… is not in the archive.", todo="Export the audit again.") from None
    incoming = files.receive(min(entry.file_size, MOST_FETCHED))
    try:
        with incoming, archive.open(entry) as source:
            while piece := source.read(PIECE):
                incoming.write(piece)
            if incoming.digest == digest:
                incoming.keep()
                return
    except UNREADABLE:
        pass
    raise Refused(f"The file {digest[:12]}… of the archive was altered.", todo="Export the audit again.")


def _insert(kind: type[peewee.Model], rows: list[dict[str, Any]]) -> None:
    fields = {field.column_name: field for field in kind._meta.sorted_fields}
    for row in rows:
        found = kind.insert({fields[name]: value for name, value in row.items() if name != "seal"})
        try:
            (found.on_conflict_ignore() if kind is EvidenceRow else found).execute()
        except (peewee.IntegrityError, peewee.DataError) as problem:
            raise Refused(
                f"The archive's records do not fit together: {str(problem).splitlines()[0]}.",
                todo="Export the audit again.",
            ) from None


def _plain(row: peewee.Model) -> dict[str, Any]:
    """A record as JSON, by the names of its columns."""
    return {name: _json(value) for name, value in columns_of(row).items()}


def _json(value: Any) -> Any:
    if isinstance(value, datetime):
        return value.astimezone(UTC).isoformat()
    if isinstance(value, date | UUID):
        return str(value)
    return value


def _entry(name: str) -> zipfile.ZipInfo:
    entry = zipfile.ZipInfo(name, BEGAN)
    entry.compress_type = zipfile.ZIP_DEFLATED
    return entry


def said(audit: Audit) -> str:
    """What an audit holds, in words."""
    parts = [
        words.plural(audit.tables.count(), "table"),
        words.plural(audit.models.count(), "model version"),
        words.plural(audit.reports.count(), "report"),
    ]
    return words.listing(parts)
