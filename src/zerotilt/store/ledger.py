"""What the house has written, kept apart from its database: so that a record that was changed or taken away behind its back
is noticed.

A **seal** is a keyed digest (HMAC-SHA-256, Krawczyk, Bellare & Canetti 1997) of a record, by a secret in the house's folder:
who can write to the database alone cannot make one. The **ledger** is a file of lines, each naming the one before it by its
digest (Haber & Stornetta 1991): one for each report and signature, and one for each audit that was deleted.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import hmac
import json
import os
import secrets
from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO

from zerotilt.store.database import database
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit, EvidenceRow, Report, Signature

CONTENT = "encode(sha256(convert_to(key || method || body::text || files::text, 'UTF8')), 'hex')"
"""Of a piece of evidence, as the database holds it: JSON there has one form."""


def _secret(files: FileStore) -> tuple[bytes, bool]:
    """The house's secret, and whether it was made just now."""
    path = files.folder / "seal"
    made = False
    with contextlib.suppress(FileExistsError):
        # complete under its name at once, whoever else starts at the same moment
        fresh = path.with_name(f"seal-{secrets.token_hex(8)}")
        try:
            with os.fdopen(os.open(fresh, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "wb") as sink:
                sink.write(secrets.token_bytes(32))
                sink.flush()
                os.fsync(sink.fileno())
            if not path.exists():
                os.link(fresh, path)
                made = True
        finally:
            fresh.unlink(missing_ok=True)
    return path.read_bytes(), made


def _sealed(secret: bytes, content: str) -> str:
    return hmac.new(secret, content.encode(), hashlib.sha256).hexdigest()


def begin(files: FileStore) -> None:
    """At the start of a house: what was written before there were seals is sealed, once; reports of then are noted."""
    secret, made = _secret(files)
    if made:
        _seal(secret, "seal is null", ())
    catch_up(files)


def seal(files: FileStore, keys: list[str]) -> None:
    """Seal pieces of evidence that have no seal yet; within the transaction that wrote them."""
    if keys:
        _seal(_secret(files)[0], "seal is null and key = any(%s)", (keys,))


def _seal(secret: bytes, which: str, values: tuple[Any, ...]) -> None:
    for key, content in database.execute_sql(f"select key, {CONTENT} from evidence where {which}", values).fetchall():
        EvidenceRow.update(seal=_sealed(secret, content)).where(EvidenceRow.key == key).execute()


def altered(files: FileStore, keys: list[str] | None = None) -> list[tuple[str, str]]:
    """Key and method of evidence that is not as it was sealed; of all where no keys are given."""
    secret, _ = _secret(files)
    some = ("", ()) if keys is None else ("where key = any(%s)", (keys,))
    rows = database.execute_sql(f"select key, method, seal, {CONTENT} from evidence {some[0]} order by key", some[1])
    return [
        (key, method)
        for key, method, found, content in rows.fetchall()
        if not hmac.compare_digest(found or "", _sealed(secret, content))
    ]


def catch_up(files: FileStore) -> int:
    """Note every report and signature that the ledger does not name yet, outside of the transaction that wrote it; how many."""
    with _opened(files) as source:
        lines, _ = _lines(source)
        known = {one["digest"] for one in _standing(lines)}
        reports = Report.select(Report, Audit).join(Audit).where(Report.manifest.is_null(False))
        signatures = Signature.select(Signature, Report, Audit).join(Report).join(Audit)
        new = [
            (one.created, {"what": "report", "audit": str(one.audit.id), "title": one.audit.title, "number": one.number, "digest": one.manifest})
            for one in reports
        ] + [
            (one.created, {"what": "signature", "audit": str(one.report.audit.id), "title": one.report.audit.title,
                           "number": one.report.number, "name": one.name, "digest": one.file})
            for one in signatures
        ]  # fmt: skip
        missing = [line for _, line in sorted(new, key=lambda one: one[0]) if line["digest"] not in known]
        _append(source, missing)
    return len(missing)


def removed(files: FileStore, audit: Audit) -> None:
    """Note that an audit is about to be deleted for good. Where that comes to nothing its reports are noted anew."""
    with _opened(files) as source:
        _append(source, [{"what": "removed", "audit": str(audit.id), "title": audit.title}])


def problems(files: FileStore) -> list[str]:
    """What the records say otherwise than what the house has written, in words."""
    found = [
        f"evidence {key[:12]}… of {method.replace('_', ' ')}: its numbers were changed, or the house did not write it"
        for key, method in altered(files)
    ]
    with _opened(files) as source:
        lines, broken = _lines(source)
    if broken:
        found.append(f"the ledger: line {broken} does not follow the one before it")
    reports = {one.manifest for one in Report.select(Report.manifest).where(Report.manifest.is_null(False))}
    signatures = {one.file for one in Signature.select(Signature.file)}
    for line in _standing(lines):
        report = f"report {line['number']} of “{line['title']}”"
        if line["what"] == "report" and line["digest"] not in reports:
            found.append(f"{report}: it was written, and its record is there no more, or is another")
        if line["what"] == "signature" and line["digest"] not in signatures:
            found.append(f"{report}: the signature of {line['name']} is there no more")
    return found


def _standing(lines: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """What should be there: all that was noted of an audit after it was last deleted."""
    found: list[dict[str, Any]] = []
    for line in lines:
        if line["what"] == "removed":
            found = [one for one in found if one["audit"] != line["audit"]]
        else:
            found.append(line)
    return found


@contextlib.contextmanager
def _opened(files: FileStore) -> Iterator[BinaryIO]:
    """The ledger, which nobody else reads or writes meanwhile."""
    path: Path = files.folder / "ledger.jsonl"
    with open(path, "a+b") as source:
        fcntl.flock(source, fcntl.LOCK_EX)
        yield source


def _lines(source: BinaryIO) -> tuple[list[dict[str, Any]], int]:
    """Every whole line, and the number of the first that does not follow the one before it; 0 where all do."""
    source.seek(0)
    found, broken, before = [], 0, ""
    for number, raw in enumerate(source.read().split(b"\n")[:-1], 1):
        try:
            line = json.loads(raw)
            fits = line["before"] == before and line["what"] in ("report", "signature", "removed") and line["audit"]
        except (ValueError, KeyError, TypeError):
            line, fits = None, False
        broken = broken or (0 if fits else number)
        if fits or (isinstance(line, dict) and {"what", "audit", "digest", "number", "title"} <= set(line)):
            found.append(line)
        before = hashlib.sha256(raw).hexdigest()
    return found, broken


def _append(source: BinaryIO, lines: list[dict[str, Any]]) -> None:
    if not lines:
        return
    source.seek(0)
    held = source.read()
    whole = held[: held.rfind(b"\n") + 1]
    if whole != held:  # a line that was cut off by a kill is written anew
        source.truncate(len(whole))
    last = whole[:-1].rpartition(b"\n")[2]
    before = hashlib.sha256(last).hexdigest() if last else ""
    for line in lines:
        raw = json.dumps(line | {"before": before}, ensure_ascii=False, sort_keys=True).encode()
        source.write(raw + b"\n")
        before = hashlib.sha256(raw).hexdigest()
    source.flush()
    os.fsync(source.fileno())
