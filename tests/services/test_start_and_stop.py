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
import urllib.request
from pathlib import Path

import psutil
import pytest
from tests.conftest import starting_alone

from zerotilt.services.home import Home, free_port

PROJECT = Path(__file__).parents[2]
ENDS = 45
"""Seconds in which everything must have ended: five for the worker, fifteen for the database, on a machine at work."""


@pytest.fixture
def home():
    folder = Path(tempfile.mkdtemp(prefix="zt-start-"))
    folder.chmod(0o755)
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


def start(home: Path, command: str = "demo") -> tuple[subprocess.Popen, str]:
    environment = os.environ | {"ZT_HOME": str(home), "PYTHONPATH": str(PROJECT / "src"), "PYTHONUNBUFFERED": "1"}
    with starting_alone():
        process = subprocess.Popen(
            [sys.executable, "-m", "zerotilt.cli", command], env=environment, stdout=subprocess.PIPE, text=True
        )
        for line in process.stdout:
            if "is running" in line:
                return process, line.split("http://")[1].split()[0]
    raise AssertionError(f"did not start: {process.wait()}")


def family(process: subprocess.Popen) -> list[psutil.Process]:
    return psutil.Process(process.pid).children(recursive=True)


def audits(address: str) -> list[dict]:
    with urllib.request.urlopen(f"http://{address}/api/audits") as answer:
        return json.load(answer)


DEMO = ["Skerry Post claims", "Skerry Post, days to settle", "Skerry Post, routing desk"]


@pytest.mark.parametrize(("number", "command", "there"), [(signal.SIGINT, "demo", DEMO), (signal.SIGKILL, "start", [])])
def test_nothing_survives_the_end(home, number, command, there):
    process, address = start(home, command)
    assert [audit["title"] for audit in audits(address)] == there
    started = family(process)
    assert {"postgres", "python"} <= {child.name()[:8].rstrip("0123456789.") for child in started}
    process.send_signal(number)
    process.wait(ENDS)
    _gone, alive = psutil.wait_procs(started, timeout=15)
    assert not alive


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
