"""What tests share: the demo, and one real running Zero Tilt (PostgreSQL, worker, server) for the whole session."""

from __future__ import annotations

import contextlib
import fcntl
import os
import pickle
import shutil
import subprocess
import tempfile
import threading
import time
from pathlib import Path

import httpx
import pytest
from tests.api import talk

from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.demo import audit as demo_audit
from zerotilt.services.home import Home
from zerotilt.services.supervisor import Supervisor

os.environ["ZT_AHEAD"] = "off"  # what a test reads it asks for; nothing else takes the cores


FIRST = ("tests/api/test_conflicts.py", "tests/core/")
"""While the one test process makes the demo's home, which takes longest, the other does what needs none."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    def place(item: pytest.Item) -> int:
        return next((at for at, start in enumerate(FIRST) if item.nodeid.startswith(start)), len(FIRST))

    items.sort(key=place)


def shared(tmp_path_factory) -> Path:
    """A folder that all test processes have in common."""
    own = tmp_path_factory.getbasetemp()
    return own.parent if "PYTEST_XDIST_WORKER" in os.environ else own


@pytest.fixture(scope="session")
def demo(tmp_path_factory):
    """Claims, their meaning, and the ONNX bytes of their models: trained once for all test processes."""
    kept = shared(tmp_path_factory) / "demo-parts"
    with open(kept.with_suffix(".lock"), "w") as gate:
        fcntl.flock(gate, fcntl.LOCK_EX)  # who comes second waits for the first
        if not kept.exists():
            kept.write_bytes(pickle.dumps(demo_audit.build()))
    return pickle.loads(kept.read_bytes())


@pytest.fixture(scope="session")
def demo_subject(demo) -> Subject:
    claims, spec, models = demo
    table = Table(claims)
    return Subject(spec, table, OnnxPredictor(models["gradient trees v3"], table, spec))


@contextlib.contextmanager
def starting_alone():
    """Two test processes look for free ports one after the other, not at the same moment."""
    with open(Path(tempfile.gettempdir()) / "zt-starting", "w") as gate:
        fcntl.flock(gate, fcntl.LOCK_EX)
        yield


@pytest.fixture(scope="session")
def demo_home(tmp_path_factory) -> Path:
    """A home with the demo in it and everything stopped: made once for all test processes, who copy it."""
    template = shared(tmp_path_factory) / "demo-home"
    with open(template.with_suffix(".lock"), "w") as gate:
        fcntl.flock(gate, fcntl.LOCK_EX)  # who comes second waits for the first
        if not template.exists():
            folder = Path(tempfile.mkdtemp(prefix="zt-test-"))
            folder.chmod(0o755)  # the database's own user must get in
            supervisor = Supervisor(Home(folder))
            with starting_alone():
                supervisor.start()
            supervisor.load_demo()
            for demo in supervisor.ask("/api/audits"):
                read_first(supervisor.url, demo["id"])
                tasks = f"/api/audits/{demo['id']}/tasks"
                while any(task["state"] in ("queued", "running") for task in supervisor.ask(tasks)):
                    time.sleep(0.1)
            supervisor.stop()
            shutil.move(folder, template)
    return template


def read_first(url: str, audit: str) -> None:
    """What most tests look at, read once for all of them."""
    view = httpx.get(f"{url}/api/audits/{audit}").json()
    context = {"model": view["models"][0]["id"], "rows": "hold-out", "output": "probability"}
    for method in ("tilt", "response", "cases", "drivers"):
        httpx.post(f"{url}/api/audits/{audit}/readings/{method}", json={"context": context, "settings": {}}, timeout=60)


@pytest.fixture(scope="session")
def running(demo_home):
    """A supervisor with everything started and the demo in it, that also revives what a test kills."""
    folder = Path(tempfile.mkdtemp(prefix="zt-test-"))
    subprocess.run(["cp", "-a", f"{demo_home}/.", folder], check=True)  # with the owners of the database's files
    folder.chmod(0o755)
    supervisor = Supervisor(Home(folder))
    with starting_alone():
        supervisor.start()
    stop = threading.Event()
    supervisor.hold = threading.Event()  # a test sets it to keep the dead dead for a while

    def revive():
        while not stop.wait(0.2):
            if not supervisor.hold.is_set():
                supervisor.revive()

    reviver = threading.Thread(target=revive, daemon=True)
    reviver.start()
    yield supervisor
    stop.set()
    reviver.join(5)
    supervisor.stop()
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture
def client(running):
    with httpx.Client(base_url=running.url, timeout=30) as found:
        yield found


@pytest.fixture
def audit(client):
    """The demo audit."""
    return talk.demo_audit(client)


@pytest.fixture
def restored(client, audit):
    """The address of the demo audit, which is put back afterwards as it was."""
    yield f"/api/audits/{audit['id']}"
    talk.put_back(client, audit)


@pytest.fixture
def context(audit):
    return {"model": audit["models"][0]["id"], "rows": "hold-out", "output": "probability"}
