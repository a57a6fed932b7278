"""Who asks, and what they may do: the one way by which a request reaches an audit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal
from uuid import UUID

from fastapi import Depends, HTTPException, Request

from zerotilt.store.records import Audit

Right = Literal["read", "write"]


@dataclass(frozen=True)
class Identity:
    """Somebody who asks. On one's own machine there is one, who may do everything."""

    name: str

    def may(self, right: Right, audit: Audit) -> bool:
        """Whether they have a right to an audit."""
        return True

    def signed(self, given: str) -> str:
        """The author of what they write: the name given, as long as nobody signs in; else their own."""
        return given.strip() or self.name


LOCAL = Identity("somebody unnamed")
"""Who gave no name, as sentences say it."""


def who() -> Identity:
    """The identity of a request."""
    return LOCAL


def right_of(request: Request) -> Right:
    """What a request does to what it asks for."""
    return "read" if request.method in ("GET", "HEAD") else "write"


@dataclass(frozen=True)
class Asking:
    """Who asks for what right."""

    identity: Identity
    right: Right

    def audit(self, audit_id: str, deleted: bool = False) -> Audit:
        """The audit of an address; one that they have no right to, or that is deleted, is as if it were not there.

        Raises
        ------
        HTTPException : 404.
        """
        found = Audit.get_or_none(Audit.id == identifier(audit_id))
        gone = found is None or (found.deleted is not None) != deleted
        if found is None or gone or not self.identity.may(self.right, found):
            raise HTTPException(404, "There is no such audit.")
        return found


def asking(request: Request, identity: Annotated[Identity, Depends(who)]) -> Asking:
    return Asking(identity, right_of(request))


Who = Annotated[Asking, Depends(asking)]


def identifier(text: str) -> UUID:
    try:
        return UUID(text)
    except ValueError:
        raise HTTPException(404, f"“{text}” is not an identifier.") from None
