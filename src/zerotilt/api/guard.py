"""Only pages of our own on this machine may talk to the server."""

from __future__ import annotations

from urllib.parse import urlsplit

from starlette.types import ASGIApp, Receive, Scope, Send

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

        async def guarded(message):
            if message["type"] == "http.response.start":
                present = {key for key, _ in message["headers"]}
                extra = [pair for pair in HEADERS if pair[0] not in present]
                if b"content-security-policy" not in present:
                    extra.append((b"content-security-policy", POLICY))
                message = message | {"headers": [*message["headers"], *extra]}
            await send(message)

        await self.app(scope, receive, guarded)
