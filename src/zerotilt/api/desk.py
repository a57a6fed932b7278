"""What every router works with: the queue, the file store, and one database connection a request."""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable
from functools import cached_property
from pathlib import Path
from typing import Annotated

from fastapi import Depends, Request

from zerotilt.api.identity import Asking, Who
from zerotilt.core.refusal import Refused
from zerotilt.store import removal
from zerotilt.store.bell import Endings
from zerotilt.store.database import database, patiently
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit
from zerotilt.tasks.at_hand import DirectLine
from zerotilt.tasks.board import Board
from zerotilt.tasks.queue import Queue

PATIENCE = 3.0


class Desk:
    def __init__(self, files: FileStore, folder: Path):
        self.files = files
        self.at_hand = DirectLine(folder)
        self.endings = Endings()

    @cached_property
    def board(self) -> Board:
        return patiently(lambda: Board(Queue()), PATIENCE)

    def delete(self, remove: Callable[[], list[str]]) -> None:
        """Delete for good: records first, in one transaction; files once they are gone."""

        def records() -> list[str]:
            with database.atomic():
                return remove()

        left = patiently(records, PATIENCE)
        patiently(lambda: removal.discard(self.files, left), PATIENCE)


def desk(request: Request) -> Desk:
    return request.app.state.desk


def connected(handler: Callable) -> Callable:
    """Run a handler with a live connection and as one transaction, all in its own thread.

    Waits a little while the database is being started again. A parameter
    ``audit`` is given the record of the address's ``audit_id``, where who asks has
    a right to it; a parameter ``who`` who that is.
    """
    signature = inspect.signature(handler, eval_str=True)
    wants_audit, wants_who = ("audit" in signature.parameters), ("who" in signature.parameters)

    @functools.wraps(handler)
    def run(**given):
        asking: Asking = given["who"] if wants_who else given.pop("who")
        patiently(lambda: database.execute_sql("select 1"), PATIENCE)
        with database.connection_context(), database.atomic():
            if wants_audit:
                given["audit"] = asking.audit(given.pop("audit_id"))
            return handler(**given)

    def keyword(name: str, annotation: object) -> inspect.Parameter:
        return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, annotation=annotation)

    parameters = [keyword("audit_id", str) if name == "audit" else one for name, one in signature.parameters.items()]
    parameters += [] if wants_who else [keyword("who", Who)]
    by_name = [one.replace(kind=inspect.Parameter.KEYWORD_ONLY) for one in parameters]
    setattr(run, "__signature__", signature.replace(parameters=by_name))  # noqa: B010  what FastAPI reads
    return run


def held(audit: Audit) -> Audit:
    """The audit as it is now, held until the request ends, so that what is read is what is written over."""
    return Audit.select().where(Audit.id == audit.id).for_update().get()


def ready(audit: Audit) -> Audit:
    if not audit.ready:
        raise Refused("Intake of this audit is not finished.", todo="Finish Intake first.")
    return audit


TheDesk = Annotated[Desk, Depends(desk)]
