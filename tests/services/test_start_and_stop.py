"""The start command: ports taken are stepped over, Ctrl-C ends every process, a second start is quick."""

from __future__ import annotations

import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import pytest
from tests.api import talk
from tests.conftest import ENDS, PROJECT, start, survivors

from zerotilt.services.home import Home, free_port


@pytest.fixture
def home():
    folder = Path(tempfile.mkdtemp(prefix="zt-start-"))
    folder.chmod(0o755)
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


def audits(address: str) -> list[dict]:
    with talk.to(address) as client:
        return client.get("/api/audits").json()


DEMO = ["Skerry Post claims", "Skerry Post, days to settle", "Skerry Post, routing desk"]


def test_the_first_start_makes_the_demo_and_nothing_survives_its_end(first_start):
    assert first_start.audits == DEMO
    assert first_start.survivors == []


def test_nothing_survives_a_start_that_is_killed(home):
    process, address = start(home, "start")
    assert audits(address) == []
    assert survivors(process, signal.SIGKILL) == []


def test_the_second_start_finds_the_demo_and_stop_ends_it(home, demo_home):
    subprocess.run(["cp", "-a", f"{demo_home}/.", home], check=True)  # as a first start left it
    began = time.monotonic()
    process, address = start(home)
    assert time.monotonic() - began < 20
    assert len(audits(address)) == len(DEMO)
    environment = os.environ | {"ZT_HOME": str(home), "PYTHONPATH": str(PROJECT / "src")}

    def zt(command: str) -> subprocess.CompletedProcess:
        return subprocess.run(
            [sys.executable, "-m", "zerotilt.cli", command], env=environment, capture_output=True, text=True
        )

    assert address in zt("demo").stdout  # already running: the address is told, nothing else is started
    assert "0 problems" in zt("check").stdout
    assert "Stopped" in zt("stop").stdout
    process.wait(ENDS)
    assert "Nothing was running" in zt("stop").stdout
    checked = zt("check")  # starts the database for itself
    assert (checked.returncode, "0 problems" in checked.stdout) == (0, True)
    wanted = next((home / "files").glob("??/*"))
    wanted.write_bytes(b"damaged")
    assert zt("check").returncode == 1


def test_a_port_that_is_taken_is_stepped_over():
    first = free_port(18_420)
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", first))
        taken.listen()
        assert free_port(first) == first + 1


def test_a_note_left_by_a_dead_process_is_not_believed(home):
    place = Home(home)
    place.write_note(url="http://127.0.0.1:1")
    assert place.running() is not None
    note = json.loads(place.note.read_text())
    place.note.write_text(json.dumps(note | {"started": "1"}))  # the same number, another process
    assert place.running() is None
    place.note.write_text("not json")
    assert place.running() is None


def test_the_password_is_made_once_and_readable_by_the_owner_only(home):
    place = Home(home)
    first = place.password
    assert first == Home(home).password
    assert len(first) > 20
    assert (home / "database-password").stat().st_mode & 0o077 == 0
