"""Content-addressed files: complete or absent."""

import errno

import pytest

from zerotilt.core.refusal import Refused
from zerotilt.store.files import DiskFull, FileStore


def left_over(store):
    return [path for path in store.folder.rglob("*") if path.is_file()]


def test_a_file_is_found_under_its_digest(tmp_path):
    store = FileStore(tmp_path)
    digest = store.put(b"some bytes")
    assert store.path(digest).read_bytes() == b"some bytes"
    assert list(store.digests()) == [digest]
    assert store.put(b"some bytes") == digest


def test_a_broken_off_write_leaves_nothing(tmp_path):
    store = FileStore(tmp_path)
    with pytest.raises(KeyboardInterrupt), store.receive(100) as incoming:
        incoming.write(b"half")
        raise KeyboardInterrupt
    assert left_over(store) == []


def test_too_much_is_refused_before_it_is_written(tmp_path):
    store = FileStore(tmp_path)
    with pytest.raises(Refused, match="larger than"), store.receive(4) as incoming:
        incoming.write(b"12345")
    assert left_over(store) == []


@pytest.mark.parametrize("moment", ["write", "flush"])
def test_a_full_disk_is_said_and_leaves_nothing(tmp_path, moment):
    class Full:
        def __init__(self, file):
            self.file = file

        def write(self, piece):
            if moment == "write":
                raise OSError(errno.ENOSPC, "No space left on device")
            return self.file.write(piece)

        def flush(self):
            raise OSError(errno.ENOSPC, "No space left on device")

        def fileno(self):
            return self.file.fileno()

        def close(self):
            self.file.close()

    store = FileStore(tmp_path)
    with pytest.raises(DiskFull, match="nothing of this file was kept"), store.receive(100) as incoming:
        incoming._file = Full(incoming._file)
        incoming.write(b"data")
        incoming.keep()
    assert left_over(store) == []


@pytest.mark.parametrize("name", ["../../etc/passwd", "", "A" * 64, "0" * 63])
def test_only_digests_are_names(tmp_path, name):
    with pytest.raises(ValueError, match="not a SHA-256"):
        FileStore(tmp_path).path(name)


def test_what_broken_uploads_left_is_cleared(tmp_path):
    store = FileStore(tmp_path)
    (store.incoming / "old").write_bytes(b"x")
    assert store.clear_incoming() == 1
    assert left_over(store) == []
