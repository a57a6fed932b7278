"""What every router works with: the queue, the file store, and one database connection a request."""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable
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


def connected(handler: Callable) -> Callable:
    """Run a handler with a live connection and as one transaction, all in its own thread.

    Waits a little while the database is being started again. A parameter
    ``audit`` is given the record of the address's ``audit_id``.
    """
    signature = inspect.signature(handler, eval_str=True)
    wants_audit = "audit" in signature.parameters

    @functools.wraps(handler)
    def run(**given):
        patiently(lambda: database.execute_sql("select 1"), PATIENCE)
        with database.connection_context(), database.atomic():
            if wants_audit:
                given["audit"] = audit_named(given.pop("audit_id"))
            return handler(**given)

    of_address = inspect.Parameter("audit_id", inspect.Parameter.KEYWORD_ONLY, annotation=str)
    parameters = [of_address if name == "audit" else one for name, one in signature.parameters.items()]
    by_name = [one.replace(kind=inspect.Parameter.KEYWORD_ONLY) for one in parameters]
    run.__signature__ = signature.replace(parameters=by_name)
    return run


def audit_named(audit_id: str) -> Audit:
    found = Audit.get_or_none(Audit.id == identifier(audit_id))
    if found is None:
        raise HTTPException(404, "There is no such audit.")
    return found


def held(audit: Audit) -> Audit:
    """The audit as it is now, held until the request ends, so that what is read is what is written over."""
    return Audit.select().where(Audit.id == audit.id).for_update().get()


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
