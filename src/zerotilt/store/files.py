"""Bulk bytes: files named by their SHA-256, complete or absent."""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import uuid
from collections.abc import Callable, Iterator
from pathlib import Path

from zerotilt.core.refusal import Refused
from zerotilt.store.elsewhere import Elsewhere

PIECE = 1024 * 1024
MOST_FETCHED = 64 * 2**30


class FileStore:
    """A folder of content-addressed files.

    A file is written under another name, synced, and renamed, so that a name
    that exists always holds the whole content. Where files are kept on another
    host, the folder holds those that were needed here.
    """

    def __init__(self, folder: Path, elsewhere: Elsewhere | None = None):
        self.folder = folder
        self.elsewhere = elsewhere
        self.incoming = folder / "incoming"
        self.incoming.mkdir(parents=True, exist_ok=True)
        self._verified: dict[str, tuple[int, ...]] = {}

    def path(self, digest: str) -> Path:
        if len(digest) != 64 or not set(digest) <= set("0123456789abcdef"):
            raise ValueError(f"not a SHA-256 digest: {digest!r}")
        return self.folder / digest[:2] / digest

    def receive(self, most: int) -> Incoming:
        """A new file to be written piece by piece, of ``most`` bytes at the most."""
        return Incoming(self, most)

    def put(self, data: bytes) -> str:
        incoming = self.receive(len(data))
        with incoming:
            incoming.write(data)
            return incoming.keep()

    def take(self, path: Path, beat: Callable[[], None] = lambda: None) -> str:
        """Move a finished file of ours into the store; its digest. ``beat`` is called after every piece."""
        incoming = self.receive(path.stat().st_size)
        with incoming, path.open("rb") as source:
            while piece := source.read(PIECE):
                incoming.write(piece)
                beat()
            return incoming.keep()

    def verified(self, digest: str, beat: Callable[[], None] = lambda: None) -> Path:
        """Where a file is, once its bytes have been held against its name.

        A file that was verified is not read again while the file system says that it is the same: number, size,
        times of writing and of any change.

        Raises
        ------
        Missing, Damaged : there is no such file, or it holds something else.
        """
        path = self.path(digest)
        if self.elsewhere is not None and not path.exists():
            self._fetch(digest, beat)
        try:
            stamp = _stamp(path)
            if self._verified.get(digest) == stamp:
                return path
            found = hashlib.sha256()
            with path.open("rb") as source:
                while piece := source.read(PIECE):
                    found.update(piece)
                    beat()
        except FileNotFoundError:
            raise Missing(
                f"The stored file {digest[:12]}… is missing.",
                todo="Put it back from a copy, or upload the table or model again.",
            ) from None
        if found.hexdigest() != digest:
            raise Damaged(
                f"The stored file {digest[:12]}… was changed: its content is not what it was when it was kept.",
                todo="Put it back from a copy, or upload the table or model again.",
            )
        self._verified[digest] = stamp
        return path

    def _fetch(self, digest: str, beat: Callable[[], None]) -> None:
        """Take a file over from the other host; what is there under a wrong name is not taken."""
        assert self.elsewhere is not None
        incoming, pieces = self.receive(MOST_FETCHED), self.elsewhere.fetch(digest)
        with incoming:
            for piece in pieces:
                incoming.write(piece)
                beat()
            if incoming.bytes and incoming.digest == digest:
                incoming.keep(send=False)
            elif incoming.bytes:
                raise Damaged(
                    f"The stored file {digest[:12]}… at {self.elsewhere.name} was changed: its content is not what it was "
                    "when it was kept.",
                    todo="Put it back from a copy, or upload the table or model again.",
                )

    def holds(self, digest: str) -> bool:
        """Whether there is such a file."""
        return self.path(digest).exists() or (self.elsewhere is not None and self.elsewhere.holds(digest))

    def discard(self, digest: str) -> None:
        """Remove a file, here and on the other host."""
        self.path(digest).unlink(missing_ok=True)
        if self.elsewhere is not None:
            self.elsewhere.discard(digest)

    def digests(self) -> Iterator[str]:
        """Every file: of another host those that are there, whether or not they were needed here."""
        if self.elsewhere is not None:
            yield from self.elsewhere.digests()
            return
        for shelf in self.folder.iterdir():
            if len(shelf.name) == 2:
                yield from (entry.name for entry in shelf.iterdir())

    def written_between(self, after: float, before: float) -> list[str]:
        """Files of this host that were written, or written again, after a time and up to another (seconds since 1970)."""
        found = []
        for shelf in self.folder.iterdir():
            if len(shelf.name) != 2:
                continue
            for entry in os.scandir(shelf):
                with contextlib.suppress(FileNotFoundError):  # taken away meanwhile
                    if after < entry.stat().st_mtime <= before:
                        found.append(entry.name)
        return found

    def clear_incoming(self) -> int:
        """Remove what broken-off uploads left; how many there were."""
        left = list(self.incoming.iterdir())
        for path in left:
            path.unlink(missing_ok=True)
        return len(left)


def _size(bytes: int) -> str:
    return f"{bytes / 2**20:,.0f} MiB" if bytes >= 2**20 else f"{bytes:,} bytes"


class Incoming:
    """A file on its way in. Leaving the ``with`` block without :meth:`keep` removes it."""

    def __init__(self, store: FileStore, most: int):
        self._store, self._most = store, most
        self._path = store.incoming / uuid.uuid4().hex
        self._sum = hashlib.sha256()
        self.bytes = 0

    def __enter__(self) -> Incoming:
        with _disk():
            self._file = self._path.open("xb")
        return self

    def write(self, piece: bytes) -> None:
        self.bytes += len(piece)
        if self.bytes > self._most:
            raise Refused(
                f"The file is larger than {_size(self._most)}.",
                todo="Upload a smaller file, for example Parquet.",
            )
        self._sum.update(piece)
        with _disk():
            self._file.write(piece)

    @property
    def digest(self) -> str:
        """SHA-256 of what has come so far."""
        return self._sum.hexdigest()

    def keep(self, send: bool = True) -> str:
        """Sync and rename; the digest under which the file is found from now on. ``send``: to the other host, too."""
        digest = self.digest
        target = self._store.path(digest)
        with _disk():
            self._file.flush()
            os.fsync(self._file.fileno())
            self._file.close()
            target.parent.mkdir(mode=0o700, exist_ok=True)
            os.replace(self._path, target)
            folder = os.open(target.parent, os.O_RDONLY)
            try:
                os.fsync(folder)
            finally:
                os.close(folder)
        if send and self._store.elsewhere is not None:
            self._store.elsewhere.keep(digest, target)
        return digest

    def __exit__(self, *_) -> None:
        # closing flushes what is buffered, which a full disk refuses again; the file is thrown away all the same
        try:
            self._file.close()
        except OSError:
            pass
        finally:
            self._path.unlink(missing_ok=True)


def elsewhere(address: str | None) -> Elsewhere | None:
    """The store at an address; None where files are kept here."""
    return Elsewhere(address) if address else None


def _stamp(path: Path) -> tuple[int, ...]:
    found = path.stat()
    return found.st_dev, found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns


class Missing(Refused):
    """A record names a file that is not there."""


class Damaged(Refused):
    """A file does not hold what its name says."""


class DiskFull(Refused):
    """There is no room for the bytes, or the disk takes none; nothing was kept."""


class _disk:
    """Turns a disk that is full, or that has become read-only, into words."""

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind, problem, trace) -> bool:
        if isinstance(problem, OSError) and problem.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
            raise DiskFull(
                "The disk is full; nothing of this file was kept.",
                todo="Free some space on the machine and upload again.",
            ) from None
        if isinstance(problem, OSError) and problem.errno == errno.EROFS:
            raise DiskFull(
                "The disk is read-only; nothing of this file was kept.",
                todo="Make the folder of this Zero Tilt writable, and upload again.",
            ) from None
        return False
