"""Errors as problem details (RFC 9457)."""

from __future__ import annotations

import logging

import peewee
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from playhouse.pool import MaxConnectionsExceeded
from pydantic import BaseModel, ValidationError
from starlette.exceptions import HTTPException

from zerotilt.core.frozen import in_words
from zerotilt.core.refusal import Refused, bounded
from zerotilt.store.database import Unreachable, disk_is_full
from zerotilt.store.elsewhere import Away
from zerotilt.store.files import DiskFull
from zerotilt.store.state import ChangedMeanwhile

log = logging.getLogger(__name__)
TYPE = "application/problem+json"
MOST_SHOWN = 80
"""Characters of what was given that an answer repeats."""


class Problem(BaseModel):
    """What is wrong, where, and what to do."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    where: str | None = None
    todo: str | None = None


class Conflict(Exception):
    """Somebody else has changed it since it was read; said in words."""


def answer(status: int, title: str, detail: str, where: str | None = None, todo: str | None = None) -> JSONResponse:
    body = Problem(title=title, status=status, detail=bounded(detail), where=where and bounded(where), todo=todo)
    headers = {"Retry-After": "2"} if status == 503 else None
    return JSONResponse(body.model_dump(), status, headers=headers, media_type=TYPE)


def refused(problem: Refused) -> JSONResponse:
    status = 507 if isinstance(problem, DiskFull) else 503 if isinstance(problem, Away) else 422
    title = "The file store does not answer" if isinstance(problem, Away) else "Not usable as given"
    return answer(status, title, problem.message, problem.where, problem.todo)


def _settings(errors: list[dict]) -> JSONResponse:
    first = errors[0]
    place = ".".join(str(part) for part in first["loc"] if part not in ("body", "query", "path"))
    given = first.get("input")
    shown = f" ({str(given)[:MOST_SHOWN]!r} was given)" if isinstance(given, str | int | float | bool) else ""
    said = in_words(first)
    return answer(
        422, "Not usable as given", f"{said[:1].upper()}{said[1:]}{shown}.", place or None, "Correct it and try again."
    )


def install(app: FastAPI) -> None:
    @app.exception_handler(Refused)
    def _(request: Request, problem: Refused):
        return refused(problem)

    @app.exception_handler(RequestValidationError)
    def _(request: Request, problem: RequestValidationError):
        return _settings(problem.errors())

    @app.exception_handler(ValidationError)
    def _(request: Request, problem: ValidationError):
        return _settings(problem.errors())

    @app.exception_handler(HTTPException)
    def _(request: Request, problem: HTTPException):
        return answer(
            problem.status_code, "Not found" if problem.status_code == 404 else "Refused", str(problem.detail)
        )

    @app.exception_handler(Conflict)
    @app.exception_handler(ChangedMeanwhile)
    def _(request: Request, problem: Conflict):
        return answer(
            409,
            "Changed meanwhile",
            str(problem),
            todo="Look at it as it is now, and do it again if you still want to; nothing was overwritten.",
        )

    @app.exception_handler(peewee.IntegrityError)
    def _(request: Request, problem: Exception):
        return answer(
            409, "Changed meanwhile", "Somebody else has written the same at the same moment.", todo="Try once more."
        )

    @app.exception_handler(peewee.DataError)
    def _(request: Request, problem: Exception):
        return answer(422, "Not usable as given", "A value is out of the range that can be kept.", todo="Correct it.")

    @app.exception_handler(MaxConnectionsExceeded)
    def _(request: Request, problem: Exception):
        return answer(
            503, "Busy", "Too many requests at the same moment; nothing was written.", todo="Try again in a moment."
        )

    @app.exception_handler(Unreachable)
    @app.exception_handler(peewee.OperationalError)
    @app.exception_handler(peewee.InterfaceError)
    def _(request: Request, problem: Exception):
        if disk_is_full(problem):
            return answer(
                507,
                "The disk is full",
                "The disk is full; nothing was written.",
                todo="Free some space on the machine.",
            )
        log.warning("database: %s", problem)
        return answer(
            503,
            "The database does not answer",
            "The database does not answer; nothing was written.",
            todo="It is being started again; try again in a moment.",
        )

    @app.exception_handler(Exception)
    def _(request: Request, problem: Exception):
        log.exception("unexpected", exc_info=problem)
        return answer(500, "Unexpected", "Something unexpected went wrong; the server's log has the details.")
