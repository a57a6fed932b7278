"""Around a process that reads somebody's file: no network, no other program, no look into others; its work goes on."""

from __future__ import annotations

import ctypes
import os
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

import psutil
import pytest

from zerotilt.core import bounded
from zerotilt.readers import walls

pytestmark = pytest.mark.skipif(bool(walls.missing()), reason=walls.missing() or "-")


def behind(action) -> str:
    """What a process behind the walls says after an action: the error's number, or that it was done."""
    read, write = os.pipe()
    pid = os.fork()
    if not pid:
        try:
            walls.raise_walls()
            try:
                action()
                told = "done"
            except OSError as problem:
                told = f"errno {problem.errno}"
            except BaseException as problem:
                told = type(problem).__name__
            os.write(write, told.encode())
        finally:
            os._exit(0)
    os.close(write)
    os.waitpid(pid, 0)
    with os.fdopen(read) as source:
        return source.read()


def connects():
    socket.create_connection(("127.0.0.1", 9), 1)


def call(name):
    libc = ctypes.CDLL(None, use_errno=True)
    number = walls.seccomp.resolve_syscall(walls.seccomp.Arch.NATIVE, name)
    if libc.syscall(number, 0, 0, 0, 0, 0, 0) == -1:
        raise OSError(ctypes.get_errno(), name)


FORBIDDEN = {
    "connects": connects,
    "listens": lambda: socket.socket(socket.AF_INET6, socket.SOCK_STREAM),
    "sends": lambda: socket.socket(socket.AF_INET, socket.SOCK_DGRAM),
    "talks to the kernel": lambda: socket.socket(socket.AF_NETLINK, socket.SOCK_RAW),
    "starts a program": lambda: os.execv("/bin/true", ["true"]),
    "starts one beside it": lambda: subprocess.run(["/bin/true"], check=True),
    "through a thread": lambda: _in_thread(connects),
    **{name: lambda name=name: call(name) for name in ("ptrace", "unshare", "bpf", "mount", "keyctl", "userfaultfd")},
}


def _in_thread(action):
    raised: list[OSError] = []

    def run():
        try:
            action()
        except OSError as problem:
            raised.append(problem)

    thread = threading.Thread(target=run)
    thread.start()
    thread.join()
    if raised:
        raise raised[0]


@pytest.mark.parametrize("name", FORBIDDEN)
def test_what_is_behind_the_walls_has_no_right_to_go_out(name):
    assert behind(FORBIDDEN[name]) == "errno 1"


def test_a_child_is_behind_the_same_walls():
    def child():
        pid = os.fork()
        if not pid:
            try:
                connects()
                os._exit(0)
            except PermissionError:
                os._exit(7)
        if os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]) == 7:
            raise PermissionError(1, "refused")

    assert behind(child) == "errno 1"


def test_what_it_has_to_do_it_can_do(tmp_path):
    def works():
        first, second = socket.socketpair()
        first.sendall(b"x")
        assert second.recv(1) == b"x"
        (tmp_path / "scratch").write_text("x")
        _in_thread(lambda: None)
        import numpy as np

        assert np.linalg.inv(np.eye(200)).trace() == 200

    assert behind(works) == "done"


def test_a_bounded_piece_of_work_is_done_and_ended_behind_them(tmp_path):
    """As a question in SQL is: a process of its own that is waited for, and ended when it takes too long."""

    def works():
        with (tmp_path / "answer").open("w+b") as into:
            assert bounded.bounded(lambda: into.write(b"x") and into.flush(), 20, 2**28, into) == "done"
        assert bounded.bounded(lambda: time.sleep(60), 0.3, 2**28) == "late"

    assert behind(works) == "done"


def test_with_a_cluster_the_network_stays_open_and_that_is_said(monkeypatch):
    assert walls.said() == ("they reach no network and can start no program", "")
    monkeypatch.setenv("ZEROTILT_CLUSTER", "tcp://127.0.0.1:8786")
    assert behind(lambda: socket.socket(socket.AF_INET, socket.SOCK_STREAM)) == "done"
    assert behind(FORBIDDEN["starts a program"]) == "errno 1"
    assert "the network is open to them" in walls.said()[0]


def test_where_there_is_nothing_to_build_them_of_it_is_said(monkeypatch):
    monkeypatch.setattr(walls, "seccomp", None)
    assert not walls.raise_walls()
    said, todo = walls.said()
    assert "nothing keeps them from the network (the system's library libseccomp is not installed)" in said
    assert "libseccomp2" in todo


def test_every_reader_of_a_running_house_is_behind_them(running, client, audit, context):
    from tests.api import talk

    talk.read(client, audit["id"], "segment", context, {"conditions": "parcel_weight>3.14159"})
    worker = psutil.Process(running.children["worker"].pid)
    seen = {}
    for one in worker.children(recursive=True):
        with_walls = "Seccomp:\t2" in Path(f"/proc/{one.pid}/status").read_text()
        seen[one.pid] = (with_walls, one.uids().effective)
    assert any(behind_them for behind_them, _ in seen.values())
    # whoever is not root any more has opened somebody's file, and is behind the walls
    assert all(behind_them for behind_them, user in seen.values() if user != os.geteuid())


def test_the_library_is_looked_for_before_the_walls_stand():
    done = subprocess.run(
        [sys.executable, "-c", "import zerotilt.readers.ready as r; print(r.walls.seccomp is not None)"],
        capture_output=True, text=True, env=os.environ | {"PYTHONPATH": str(Path(__file__).parents[2] / "src")},
    )  # fmt: skip
    assert done.stdout.strip() == "True", done.stderr
