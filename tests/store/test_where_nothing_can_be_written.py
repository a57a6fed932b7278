"""A full disk, and a folder that nothing can be written to: said in words, and nothing half written is left."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from zerotilt.core.refusal import Refused
from zerotilt.store.files import DiskFull, FileStore
from zerotilt.stored import written_whole

PROJECT = Path(__file__).parents[2]


def mounted(folder: Path, options: str) -> bool:
    """Whether a small file system stands there; only root may make one, and not everywhere."""
    done = subprocess.run(["mount", "-t", "tmpfs", "-o", options, "tmpfs", folder], capture_output=True)
    return done.returncode == 0


@pytest.fixture
def place(request, tmp_path):
    folder = tmp_path / "disk"
    folder.mkdir()
    if os.geteuid() != 0 or not mounted(folder, request.param):
        pytest.skip("this machine lets nobody mount a small disk")
    yield folder
    subprocess.run(["umount", folder], check=True)


@pytest.mark.parametrize("place", ["size=16k"], indirect=True)
def test_an_archive_on_a_full_disk_is_refused_and_the_one_of_before_stays(place):
    archive = place / "audit.zip"
    archive.write_bytes(b"of before")
    with pytest.raises(Refused, match="No space left on device"), written_whole(archive) as sink:
        for _ in range(100):
            sink.write(b"x" * 4_096)
    assert archive.read_bytes() == b"of before" and os.listdir(place) == ["audit.zip"]


@pytest.mark.parametrize("place", ["ro,size=16k"], indirect=True)
def test_an_archive_where_nothing_can_be_written_is_refused(place):
    with pytest.raises(Refused, match="Read-only file system"), written_whole(place / "audit.zip") as sink:
        sink.write(b"x")


@pytest.mark.parametrize("place", ["ro,size=16k"], indirect=True)
@pytest.mark.parametrize("command", ["start", "stop", "address", "check"])
def test_a_home_where_nothing_can_be_written_is_said_in_a_sentence(place, command):
    run = subprocess.run(
        [sys.executable, "-m", "zerotilt.cli", command], capture_output=True, text=True, timeout=120,
        env=os.environ | {"ZT_HOME": str(place / "home"), "PYTHONPATH": str(PROJECT / "src")},
    )  # fmt: skip
    assert run.returncode == 1 and "Traceback" not in run.stderr
    assert f"The data folder {place / 'home'} cannot be used: Read-only file system." in run.stderr
    assert "ZT_HOME" in run.stderr


@pytest.mark.parametrize("place", ["ro,size=16k"], indirect=True)
def test_a_home_that_became_read_only_is_said_too(place):
    from zerotilt.services.home import Home

    with pytest.raises(SystemExit, match="cannot be used: Read-only file system"):
        Home(place)


@pytest.mark.parametrize("place", ["size=64k"], indirect=True)
def test_a_store_on_a_disk_that_has_become_read_only_says_so(place):
    store = FileStore(place)
    subprocess.run(["mount", "-o", "remount,ro", place], check=True)
    with pytest.raises(DiskFull, match="read-only; nothing of this file was kept"), store.receive(100) as incoming:
        incoming.write(b"data")
        incoming.keep()
