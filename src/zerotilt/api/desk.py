"""What every router works with: the queue, the file store, and one database connection a request."""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Annotated

import peewee
from fastapi import Depends, Header, Request, Response

from zerotilt.api.identity import Asking, Who
from zerotilt.core.refusal import Refused
from zerotilt.store import removal, state
from zerotilt.store.bell import CHANGED, Changes, Endings, ring
from zerotilt.store.database import database, patiently
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit
from zerotilt.tasks.at_hand import DirectLine
from zerotilt.tasks.board import Board
from zerotilt.tasks.queue import Queue

PATIENCE = 3.0
STATE = "Audit-State"
"""The header that says what an answer was read on, what that is when it ends, the whole state that it leaves, part by
part, too, and the clock of that state."""
SEEN = "Audit-Seen"
"""The header by which a write says which state of each part of the audit its writer saw."""


class Desk:
    def __init__(self, files: FileStore, folder: Path):
        self.files = files
        self.at_hand = DirectLine(folder)
        self.endings = Endings()
        self.changes = Changes()

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
    a right to it; a parameter ``who`` who that is. Answers about an audit carry its state.
    """
    signature = inspect.signature(handler, eval_str=True)
    wants_audit, wants_who = ("audit" in signature.parameters), ("who" in signature.parameters)

    # there can be one only; a handler that writes headers of its own has it already
    own = next((name for name, one in signature.parameters.items() if one.annotation is Response), "")

    @functools.wraps(handler)
    def run(**given):
        asking: Asking = given["who"] if wants_who else given.pop("who")
        said: Response | None = given.get(own) if own else given.pop("answer", None)
        patiently(lambda: database.execute_sql("select 1"), PATIENCE)
        with database.connection_context():
            with database.atomic():
                if not wants_audit:
                    return handler(**given)
                given["audit"] = audit = asking.audit(given.pop("audit_id"))
                was = state.tags(audit)
                found = handler(**given)
            if said is not None:
                # what was asked in several steps was read in the state of the first
                first = said.headers.get(STATE, state.basis(was)).partition(" ")[0]
                # once it is written for everybody, so that it has its place among what others tell; it is written even
                # where the database is gone by now
                with suppress(peewee.OperationalError, peewee.InterfaceError):
                    now = state.tags(audit)
                    said.headers[STATE] = f"{first} {state.told(now)}"
                    if now != was:
                        ring(CHANGED, str(audit.id))
            return found

    def keyword(name: str, annotation: object) -> inspect.Parameter:
        return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, annotation=annotation)

    parameters = [keyword("audit_id", str) if name == "audit" else one for name, one in signature.parameters.items()]
    parameters += [] if wants_who else [keyword("who", Who)]
    parameters += [keyword("answer", Response)] if wants_audit and not own else []
    by_name = [one.replace(kind=inspect.Parameter.KEYWORD_ONLY) for one in parameters]
    setattr(run, "__signature__", signature.replace(parameters=by_name))  # noqa: B010  what FastAPI reads
    return run


@dataclass(frozen=True)
class Saw:
    """The state that a writer saw, part by part; nothing where they do not say."""

    tags: dict[str, str]

    def still(self, audit: Audit, *parts: str) -> None:
        """Refuse what was decided on a state that is not the present one.

        Raises
        ------
        ChangedMeanwhile : one of the parts was written since; said with what and by whom.
        """
        now = state.tags(audit)
        changed = [part for part in parts if part in self.tags and self.tags[part] != now[part]]
        if changed:
            raise state.ChangedMeanwhile(state.said(audit, changed))


def _saw(seen: Annotated[str, Header(alias=SEEN, max_length=2_000)] = "") -> Saw:
    return Saw(state.parted(seen))


Seeing = Annotated[Saw, Depends(_saw)]


def held(audit: Audit) -> Audit:
    """The audit as it is now, held until the request ends, so that what is read is what is written over."""
    return Audit.select().where(Audit.id == audit.id).for_update().get()


def ready(audit: Audit) -> Audit:
    if not audit.ready:
        raise Refused("Intake of this audit is not finished.", todo="Finish Intake first.")
    return audit


TheDesk = Annotated[Desk, Depends(desk)]
