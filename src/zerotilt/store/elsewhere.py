"""Stored files on another host, over plain HTTP as WebDAV has it (RFC 4918): GET, HEAD, PUT, DELETE, PROPFIND."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit
from xml.etree import ElementTree

from zerotilt.core.refusal import Refused

PIECE = 1024 * 1024
SECONDS = 30.0
"""How long one answer may be waited for; of a long file every piece."""
NAMES = b'<?xml version="1.0"?><propfind xmlns="DAV:"><prop><resourcetype/></prop></propfind>'


class Away(Refused):
    """The file store of another host does not answer, or refuses."""


class Elsewhere:
    """The files of a store by their digests, each at ``address/digest``. Name and password stand in the address."""

    def __init__(self, address: str):
        import httpx  # loaded where it is used: most installs keep their files themselves

        parts = urlsplit(address)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise SystemExit(f"ZT_FILES: “{address}” was given; it begins with http:// or https:// and names a host.")
        port = f":{parts.port}" if parts.port else ""
        self.name = f"{parts.scheme}://{parts.hostname}{port}{parts.path}".rstrip("/")
        self._errors = httpx.HTTPError
        login = (unquote(parts.username), unquote(parts.password or "")) if parts.username else None
        self._client = httpx.Client(auth=login, timeout=SECONDS, follow_redirects=False)

    def fetch(self, digest: str) -> Iterator[bytes]:
        """A file in pieces; none where there is no such file."""
        try:
            with self._client.stream("GET", f"{self.name}/{digest}") as answer:
                if answer.status_code == 404:
                    return
                self._require(answer, 200)
                yield from answer.iter_bytes(PIECE)
        except self._errors as problem:
            raise self._away(problem) from None

    def keep(self, digest: str, path: Path, beat: Callable[[], None] = lambda: None) -> None:
        """Send a whole file, unless it is there."""
        if self.holds(digest):
            return

        def pieces() -> Iterator[bytes]:
            with path.open("rb") as source:
                while piece := source.read(PIECE):
                    yield piece
                    beat()

        size = {"Content-Length": str(path.stat().st_size)}
        self._require(self._ask("PUT", digest, content=pieces(), headers=size), 200, 201, 204)

    def holds(self, digest: str) -> bool:
        answer = self._ask("HEAD", digest)
        self._require(answer, 200, 404)
        return answer.status_code == 200

    def discard(self, digest: str) -> None:
        self._require(self._ask("DELETE", digest), 200, 204, 404)

    def digests(self) -> set[str]:
        """Every file that is there."""
        answer = self._ask("PROPFIND", "", content=NAMES, headers={"Depth": "1", "Content-Type": "application/xml"})
        self._require(answer, 207)
        found = ElementTree.fromstring(answer.content)
        names = {unquote(str(one.text)).rstrip("/").rsplit("/", 1)[-1] for one in found.iter("{DAV:}href")}
        return {name for name in names if len(name) == 64}

    def _ask(self, method: str, digest: str, **more: Any):
        try:
            return self._client.request(method, f"{self.name}/{digest}", **more)
        except self._errors as problem:
            raise self._away(problem) from None

    def _require(self, answer, *wanted: int) -> None:
        if answer.status_code not in wanted:
            raise self._away(f"it answers {answer.status_code}")

    def _away(self, why: object) -> Away:
        return Away(
            f"The file store at {self.name} cannot be used: {why}.",
            todo="Try again once it answers; what was entered is kept.",
        )
