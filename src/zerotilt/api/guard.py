"""Only pages of our own on this machine may talk to the server."""

from __future__ import annotations

import json
import math
import re
from urllib.parse import parse_qsl, quote, urlencode, urlsplit

from starlette.requests import cookie_parser
from starlette.responses import HTMLResponse, RedirectResponse, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from zerotilt import key as keys
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


UPLOAD = re.compile(r"/api/audits/[^/]+/(table|models|inputs/[^/]+)")
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


OPEN = frozenset({"/api/health"})
"""What is told to everybody on this machine: that a server runs, and as whom."""
KEPT = 365 * 86_400
"""Seconds for which a browser keeps the key."""
CLOSED = """<!doctype html><html lang="en"><meta charset="utf-8"><title>Zero Tilt: closed</title>
<style>body{max-width:60ch;margin:12vh auto;padding:0 2em;font:18px/1.5 Georgia,serif;color:#222;background:#fff}
code{font-size:.9em}</style><main><h1 style="font-size:1.3em">This Zero Tilt belongs to whoever started it</h1>
<p>This browser does not hold its key. Open the address that the start printed; <code>./zt address</code> prints it
again. After that, links to single pages open by themselves.</p></main></html>"""


class Guard:
    """Checks Host, Origin and key of every request and adds the security headers to every answer."""

    def __init__(self, app: ASGIApp, key: str | None = None):
        self.app, self.key = app, key

    def _held(self, headers: dict[bytes, bytes], cookie: str) -> bool:
        """Whether a request holds the key, as a bearer token or as the browser's cookie."""
        assert self.key is not None
        kind, _, given = headers.get(b"authorization", b"").decode("latin-1").partition(" ")
        if kind.lower() == "bearer":
            return keys.same(given.strip(), self.key)
        found: dict[str, str] = cookie_parser(headers.get(b"cookie", b"").decode("latin-1"))
        return keys.same(found.get(cookie, ""), self.key)

    def _closed(self, scope: Scope, headers: dict[bytes, bytes], host: str) -> Response | None:
        """What is answered instead to who does not hold the key, or brings it; None to who holds it."""
        if self.key is None or scope["path"] in OPEN:
            return None
        # cookies know no ports: each house on this machine has a name of its own
        port = host.rpartition(":")[2]
        cookie = f"zerotilt-{port if port.isdigit() else 80}"
        asked = parse_qsl(scope["query_string"].decode("latin-1"), keep_blank_values=True)
        brought = [value for name, value in asked if name == keys.KEY]
        if brought and scope["method"] == "GET" and keys.same(brought[-1], self.key):
            rest = urlencode([pair for pair in asked if pair[0] != keys.KEY])
            # one slash alone: two would name another host
            path = "/" + quote(scope["path"].lstrip("/"))
            answer = RedirectResponse(f"{path}?{rest}" if rest else path, 303)
            answer.set_cookie(cookie, self.key, max_age=KEPT, path="/", httponly=True, samesite="lax")
            return answer
        if self._held(headers, cookie):
            return None
        if scope["path"].startswith("/api/"):
            answer = problems.answer(
                401,
                "Closed",
                "The request does not hold the key of this Zero Tilt.",
                todo="Open the address that ./zt address prints; a program sends the key as a bearer token, from ZT_KEY or "
                "from the file “token” in the folder of this Zero Tilt.",
            )
            answer.headers["www-authenticate"] = "Bearer"
            return answer
        return HTMLResponse(CLOSED, 401, {"cache-control": "no-store"})

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

        if (instead := self._closed(scope, headers, host)) is not None:
            await instead(scope, receive, self._with_headers(scope["path"], send))
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

        guarded = self._with_headers(path, send)
        await self.app(scope, receive, _in_words(scope, receive, guarded) if b"range" in headers else guarded)

    @staticmethod
    def _with_headers(path: str, send: Send) -> Send:
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

        return guarded


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
