"""What every router works with: the queue, the file store, and one database connection a request."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import Annotated
from uuid import UUID

from fastapi import Depends, HTTPException, Request

from zerotilt.core.refusal import Refused
from zerotilt.store.database import database, patiently
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit
from zerotilt.tasks.board import Board
from zerotilt.tasks.queue import Queue

PATIENCE = 3.0


class Desk:
    def __init__(self, files: FileStore):
        self.files = files

    @cached_property
    def board(self) -> Board:
        return patiently(lambda: Board(Queue()), PATIENCE)


def desk(request: Request) -> Desk:
    return request.app.state.desk


def connected() -> Iterator[None]:
    """A live connection for the request; waits a little while the database is being started again."""
    patiently(lambda: database.execute_sql("select 1"), PATIENCE)
    with database.connection_context():
        yield


def audit_named(audit_id: str, _: Annotated[None, Depends(connected)]) -> Audit:
    found = Audit.get_or_none(Audit.id == identifier(audit_id))
    if found is None:
        raise HTTPException(404, "There is no such audit.")
    return found


def identifier(text: str) -> UUID:
    try:
        return UUID(text)
    except ValueError:
        raise HTTPException(404, f"“{text}” is not an identifier.") from None


def ready(audit: Audit) -> Audit:
    if not audit.ready:
        raise Refused("Intake of this audit is not finished.", todo="Finish Intake first.")
    return audit


TheDesk = Annotated[Desk, Depends(desk)]
TheAudit = Annotated[Audit, Depends(audit_named)]
Connected = Annotated[None, Depends(connected)]
