"""Verify both sides: every digest a record names is a whole file, and every file is named by a record."""

from __future__ import annotations

import hashlib

from peewee import SQL

from zerotilt.store import ledger
from zerotilt.store.database import database
from zerotilt.store.files import FileStore
from zerotilt.store.holdings import files_named
from zerotilt.store.records import ACTIVE, Task
from zerotilt.store.written import broken_chains


def check(files: FileStore) -> tuple[list[str], int]:
    """Problems in words, and how many files were verified."""
    named = files_named()
    problems = []
    present = set(files.digests())
    for digest, what in named.items():
        if digest not in present:
            problems.append(f"{what}: the file {digest} is missing")
            continue
        if (found := _content(files, digest)) != digest:
            problems.append(f"{what}: the file {digest} is damaged (its content has the digest {found})")
    problems += broken_chains(files)
    problems += ledger.problems(files)
    problems += [f"the file {digest} belongs to no record" for digest in sorted(present - set(named))]
    return problems, len(named)


def _content(files: FileStore, digest: str) -> str:
    """The digest of what a file holds, wherever it is kept."""
    if files.elsewhere is None:
        with files.path(digest).open("rb") as source:
            return hashlib.file_digest(source, "sha256").hexdigest()
    found = hashlib.sha256()
    for piece in files.elsewhere.fetch(digest):
        found.update(piece)
    return found.hexdigest()


def discard_unowned(files: FileStore, digest: str) -> bool:
    """Remove a file that no record names and no task is about to read; whether it was removed."""
    with database.atomic():
        lock_file(digest)
        awaited = Task.select().where(Task.state.in_(ACTIVE) & (SQL("payload->>'digest'") == digest)).exists()
        if awaited or digest in files_named():
            return False
        files.discard(digest)
    return True


def sweep_unowned(files: FileStore, after: float, before: float) -> int:
    """Remove files written in a stretch of time (seconds since 1970) that no record names; how many. An attempt leaves them
    that was killed, or overtaken, before its records were written.

    ``before`` is long enough ago that whoever wrote a file has written its record, too, or has given up.
    """
    if files.elsewhere is not None:
        return 0  # others write there
    left = files.written_between(after, before)
    named = files_named() if left else {}
    return sum(discard_unowned(files, digest) for digest in left if digest not in named)


def lock_file(digest: str) -> None:
    """Until the transaction ends nobody else takes this file away, or counts on it while it is taken away."""
    database.execute_sql("select pg_advisory_xact_lock(hashtextextended(%s, 0))", (digest,))
