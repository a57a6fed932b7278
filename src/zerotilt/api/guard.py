"""Only pages of our own on this machine may talk to the server."""

from __future__ import annotations

import json
import math
import re
from urllib.parse import urlsplit

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from zerotilt.api import problems

HOSTS = {"127.0.0.1", "localhost", "[::1]"}
POLICY = (
    b"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; "
    b"frame-ancestors 'self'; base-uri 'none'; form-action 'self'; object-src 'none'"
)
HEADERS = [
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"no-referrer"),
    (b"cross-origin-opener-policy", b"same-origin"),
    (b"cross-origin-resource-policy", b"same-origin"),
]


UPLOAD = re.compile(r"/api/audits/[^/]+/(table|models)")
MOST_BODY = 2**20
"""Bytes of a body that is no upload."""


class _Refusal(Exception):
    def __init__(self, status: int, said: str, todo: str | None = None):
        self.status, self.said, self.todo = status, said, todo


async def _read_small(headers: dict[bytes, bytes], receive: Receive) -> Receive:
    """Take in a body that is no upload, held to its bounds; it is looked through once, before anything is made of it."""
    too_large = _Refusal(413, f"The request is larger than {MOST_BODY // 2**20} MiB.", "Send less at a time.")
    announced = headers.get(b"content-length", b"")
    if announced.isdigit() and int(announced) > MOST_BODY:
        raise too_large
    parts, size, more = [], 0, True
    while more:
        message = await receive()
        if message["type"] != "http.request":
            break
        parts.append(message.get("body", b""))
        size += len(parts[-1])
        if size > MOST_BODY:
            raise too_large
        more = message.get("more_body", False)
    body = b"".join(parts)
    if body and b"json" in headers.get(b"content-type", b"application/json"):
        _look_through(body)
    given = [{"type": "http.request", "body": body, "more_body": False}]

    async def again():
        return given.pop() if given else await receive()

    return again


def _look_through(body: bytes) -> None:
    """Refuse what JSON may hold and no text, number or database can."""
    try:
        text = body.decode("utf-8")
        found = json.loads(text, parse_constant=_no_number, parse_float=_number)
        if "\\u0000" in text or "\\ud" in text.lower():
            texts = json.dumps(found, ensure_ascii=False)
            texts.encode("utf-8")  # half of a surrogate pair is no text
            if "\\u0000" in texts:
                raise _Refusal(422, "A text holds a NUL character.", "Leave it out.")
    except UnicodeError:
        raise _Refusal(422, "The request holds bytes that are no text.", "Send it as UTF-8.") from None
    except RecursionError:
        raise _Refusal(422, "The request is nested too deeply.") from None
    except ValueError as problem:
        raise _Refusal(422, f"The request cannot be read as JSON: {str(problem)[:120]}.") from None


def _no_number(name: str) -> None:
    raise ValueError(f"{name} is no number")


def _number(text: str) -> float:
    value = float(text)
    if not math.isfinite(value):
        raise ValueError(f"{text[:20]} is beyond any number")
    return value


class Guard:
    """Checks Host and Origin of every request and adds the security headers to every answer."""

    def __init__(self, app: ASGIApp):
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = dict(scope["headers"])
        host = headers.get(b"host", b"").decode("latin-1")
        name = host.rpartition(":")[0] if host.rpartition(":")[2].isdigit() else host
        if name not in HOSTS:
            await problems.answer(421, "Refused", f"The host “{host}” is not this machine.")(scope, receive, send)
            return
        origin = headers.get(b"origin")
        if origin is not None and urlsplit(origin.decode("latin-1")).netloc != host:
            await problems.answer(403, "Refused", "The request comes from a page of another site.")(
                scope, receive, send
            )
            return

        path = scope["path"]
        if "\x00" in path or b"%00" in scope["query_string"]:
            await problems.answer(422, "Not usable as given", "The address holds a NUL character.")(
                scope, receive, send
            )
            return
        if scope["method"] in ("POST", "PUT", "PATCH", "DELETE") and not UPLOAD.fullmatch(path):
            try:
                receive = await _read_small(headers, receive)
            except _Refusal as refused:
                await problems.answer(refused.status, "Not usable as given", refused.said, todo=refused.todo)(
                    scope, receive, send
                )
                return

        async def guarded(message):
            if message["type"] == "http.response.start":
                present = {key for key, _ in message["headers"]}
                extra = [pair for pair in HEADERS if pair[0] not in present]
                if b"content-security-policy" not in present:
                    extra.append((b"content-security-policy", POLICY))
                if path.startswith("/api/") and b"cache-control" not in present:
                    extra.append(
                        (b"cache-control", b"no-store")
                    )  # people's data stay in no cache on the way, nor on disk
                message = message | {"headers": [*message["headers"], *extra]}
            await send(message)

        await self.app(scope, receive, _in_words(scope, receive, guarded) if b"range" in headers else guarded)


def _in_words(scope: Scope, receive: Receive, send: Send) -> Send:
    """A range of bytes that cannot be given is answered as everything else that cannot; files answer it in plain text."""
    answered = False

    async def told(message: Message) -> None:
        nonlocal answered
        if answered:
            return
        headers = dict(message.get("headers", []))
        if message.get("status") in (400, 416) and headers.get(b"content-type", b"").startswith(b"text/plain"):
            answered = True
            answer = problems.answer(
                message["status"],
                "Not usable as given",
                "The range of bytes that was asked for cannot be given.",
                todo="Ask for bytes=FIRST-LAST within the file, or for all of it.",
            )
            answer.raw_headers.extend(pair for pair in headers.items() if pair[0] == b"content-range")
            await answer(scope, receive, send)
            return
        await send(message)

    return told
