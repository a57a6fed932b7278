"""A small host of stored files, for machines that share them: what ``ZT_FILES`` may point to.

Files are named by their SHA-256 and taken only under that name. Any server that does GET, HEAD, PUT, DELETE and
PROPFIND (RFC 4918) does as well.
"""

from __future__ import annotations

import asyncio
import base64
import secrets
from collections.abc import Callable
from xml.sax.saxutils import escape

from starlette.applications import Starlette
from starlette.requests import ClientDisconnect, Request
from starlette.responses import FileResponse, PlainTextResponse, Response
from starlette.routing import Route

from zerotilt.core.refusal import Refused
from zerotilt.store.files import MOST_FETCHED, FileStore

LOGIN = {"WWW-Authenticate": 'Basic realm="stored files"'}


def create(files: FileStore, login: str) -> Starlette:
    """The host over a file store; ``login``: name and password as "name:password", which everybody must give."""
    files.clear_incoming()
    wanted = f"Basic {base64.b64encode(login.encode()).decode()}".encode()

    def guarded(handler: Callable) -> Callable:
        async def answer(request: Request) -> Response:
            if not secrets.compare_digest(request.headers.get("authorization", "").encode(), wanted):
                return PlainTextResponse("Name and password are needed.", 401, LOGIN)
            try:
                return await handler(request)
            except ValueError:  # of another form than a digest
                return PlainTextResponse("There is no such file.", 404)

        return answer

    async def one(request: Request) -> Response:
        digest = request.path_params["digest"]
        path = files.path(digest)
        if request.method == "PUT":
            return await _received(request, files, digest)
        if request.method == "DELETE":
            path.unlink(missing_ok=True)
            return Response(status_code=204)
        if not path.exists():
            return PlainTextResponse("There is no such file.", 404)
        return FileResponse(path, media_type="application/octet-stream")

    async def listed(request: Request) -> Response:
        names = await asyncio.to_thread(lambda: sorted(files.digests()))
        entries = "".join(
            f"<response><href>/{escape(name)}</href><propstat><prop><resourcetype/></prop>"
            "<status>HTTP/1.1 200 OK</status></propstat></response>"
            for name in names
        )
        body = f'<?xml version="1.0" encoding="utf-8"?><multistatus xmlns="DAV:">{entries}</multistatus>'
        return Response(body, 207, media_type="application/xml")

    return Starlette(
        routes=[
            Route("/", guarded(listed), methods=["PROPFIND"]),
            Route("/{digest}", guarded(one), methods=["GET", "HEAD", "PUT", "DELETE"]),
        ]
    )


async def _received(request: Request, files: FileStore, digest: str) -> Response:
    """A file streamed in; kept only if it is what its name says."""
    incoming = files.receive(MOST_FETCHED)
    try:
        with incoming:
            async for piece in request.stream():
                await asyncio.to_thread(incoming.write, piece)
            if incoming.digest != digest:
                return PlainTextResponse("The content is not what its name says.", 422)
            await asyncio.to_thread(incoming.keep)
    except ClientDisconnect:
        return PlainTextResponse("The file broke off.", 400)
    except Refused as problem:
        return PlainTextResponse(problem.sentence(), 507)
    return Response(status_code=201)
