"""What tests share: the demo, and one real running Zero Tilt (PostgreSQL, worker, server) for the whole session."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import pickle
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import NamedTuple

import httpx
import psutil
import pytest
from tests.api import talk

from zerotilt.core import executor

# what trains and computes is loaded where it is used: who hands the tests out loads this file too

os.environ["ZT_AHEAD"] = "off"  # what a test reads it asks for; nothing else takes the cores


if "PYTEST_XDIST_WORKER" in os.environ:
    # two test processes share the cores already; threads of theirs would only wait for each other. What runs in parallel is
    # tested with numbers of its own, and the readers of a running Zero Tilt keep theirs
    executor.cores = lambda: 1

PROJECT = Path(__file__).parents[1]
ENDS = 45
"""Seconds in which everything must have ended: five for the worker, fifteen for the database, on a machine at work."""
FIRST = ("tests/api/test_conflicts.py", "tests/core/", "tests/web/", "tests/api/")
"""While the one test process makes the demo's home, which takes longest, the other does what needs none. Long files come
before short ones, so that both processes end at about the same time."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    def place(item: pytest.Item) -> int:
        return next((at for at, start in enumerate(FIRST) if item.nodeid.startswith(start)), len(FIRST))

    items.sort(key=place)


def shared(tmp_path_factory) -> Path:
    """A folder that all test processes have in common."""
    own = tmp_path_factory.getbasetemp()
    return own.parent if "PYTEST_XDIST_WORKER" in os.environ else own


@pytest.fixture(scope="session")
def demo_audits(tmp_path_factory):
    """Claims, and every audit of them with its models: trained once for all test processes."""
    from zerotilt.demo import audit as demo_audit

    kept = shared(tmp_path_factory) / "demo-parts"
    with open(kept.with_suffix(".lock"), "w") as gate:
        fcntl.flock(gate, fcntl.LOCK_EX)  # who comes second waits for the first
        if not kept.exists():
            kept.write_bytes(pickle.dumps(demo_audit.build_all()))
    return pickle.loads(kept.read_bytes())


@pytest.fixture(scope="session")
def demo(demo_audits):
    """Claims, their meaning, and the ONNX bytes of their models, of the first audit."""
    claims, audits = demo_audits
    return claims, audits[0].spec, audits[0].models


@pytest.fixture(scope="session")
def demo_subject(demo):
    from zerotilt.core.predictors.onnx import OnnxPredictor
    from zerotilt.core.subject import Subject
    from zerotilt.core.table import Table

    claims, spec, models = demo
    table = Table(claims)
    predictor = OnnxPredictor(models["gradient trees v3"], table, spec)
    return Subject(spec, table, predictor, again=trained_again)


def trained_again(left_out, work):
    """Stands for training: a column that is left out costs a little."""
    from tests.core.test_candidates import fold

    return tuple(fold(0.5 + 0.01 * place + 0.02 * len(left_out), 0.4, -0.1) for place in range(3))


@contextlib.contextmanager
def starting_alone():
    """Two test processes look for free ports one after the other, not at the same moment."""
    with open(Path(tempfile.gettempdir()) / "zt-starting", "w") as gate:
        fcntl.flock(gate, fcntl.LOCK_EX)
        yield


def start(home: Path, command: str = "demo", as_user: tuple[str, ...] = ()) -> tuple[subprocess.Popen, str]:
    """The start command on a home, and the address that it says; ``as_user``: the command that starts it as another."""
    environment = os.environ | {"ZT_HOME": str(home), "PYTHONPATH": str(PROJECT / "src"), "PYTHONUNBUFFERED": "1"}
    told = [*as_user, sys.executable, "-m", "zerotilt.cli", command]
    with starting_alone():
        process = subprocess.Popen(told, env=environment, stdout=subprocess.PIPE, text=True)
        said = next((line for line in process.stdout if "is running" in line or "Making the demo" in line), "")
    if "is running" not in said:  # what comes after the start takes no ports
        said = next((line for line in process.stdout if "is running" in line), "")
    if not said:
        raise AssertionError(f"did not start: {process.wait()}")
    entrance = said.split("running: ")[1].split()[0]
    url, _, key = entrance.partition("/?key=")
    talk.KEYS[url] = key
    return process, url


def family(process: subprocess.Popen) -> list[psutil.Process]:
    return psutil.Process(process.pid).children(recursive=True)


def survivors(process: subprocess.Popen, number: int) -> list[str]:
    """What is left of a start's processes once it was told to end."""
    started = family(process)
    assert {"postgres", "python"} <= {child.name()[:8].rstrip("0123456789.") for child in started}
    process.send_signal(number)
    process.wait(ENDS)
    return [str(one) for one in psutil.wait_procs(started, timeout=15)[1]]


class FirstStart(NamedTuple):
    """What was seen of a first start with the demo."""

    home: Path
    audits: list[str]
    survivors: list[str]


@pytest.fixture(scope="session")
def first_start(tmp_path_factory) -> FirstStart:
    """A home with the demo in it and everything stopped: made once for all test processes, who copy it."""
    template = shared(tmp_path_factory) / "demo-home"
    seen = template.with_suffix(".json")
    with open(template.with_suffix(".lock"), "w") as gate:
        fcntl.flock(gate, fcntl.LOCK_EX)  # who comes second waits for the first
        if not seen.exists():
            folder = Path(tempfile.mkdtemp(prefix="zt-test-"))
            folder.chmod(0o755)  # the database's own user must get in
            process, url = start(folder)
            with talk.to(url) as client:
                audits = client.get("/api/audits").json()
                for one in audits:
                    read_first(client, one["id"])
                    tasks = f"/api/audits/{one['id']}/tasks"
                    while any(task["state"] in ("queued", "running") for task in client.get(tasks).json()):
                        time.sleep(0.1)
            left = survivors(process, signal.SIGINT)
            shutil.move(folder, template)
            seen.write_text(json.dumps([[one["title"] for one in audits], left]))
    return FirstStart(template, *json.loads(seen.read_text()))


@pytest.fixture(scope="session")
def demo_home(first_start) -> Path:
    return first_start.home


def read_first(client: httpx.Client, audit: str) -> None:
    """What most tests look at, read once for all of them."""
    view = client.get(f"/api/audits/{audit}").json()
    context = {"model": view["models"][0]["id"], "rows": "hold-out", "output": "probability"}
    for method in ("tilt", "response", "cases", "drivers"):
        client.post(f"/api/audits/{audit}/readings/{method}", json={"context": context, "settings": {}})


@contextlib.contextmanager
def supervised(supervisor):
    """Everything of a supervisor started, and what dies started again, as the start command does, until it is left."""
    with starting_alone():
        supervisor.start()
    talk.KEYS[supervisor.url] = supervisor.home.key
    stop = threading.Event()
    supervisor.hold = threading.Event()  # a test sets it to keep the dead dead for a while

    def revive():
        while not stop.wait(0.2):
            if not supervisor.hold.is_set():
                supervisor.revive()

    reviver = threading.Thread(target=revive, daemon=True)
    reviver.start()
    try:
        yield supervisor
    finally:
        stop.set()
        reviver.join(5)
        for log in supervisor.home.logs.glob("*.log"):  # shown where the test fails
            print(f"{log.name}: {log.read_text(errors='replace')[-3000:]}")
        supervisor.stop()


@pytest.fixture(scope="session")
def running(demo_home):
    """A supervisor with everything started and the demo in it, that also revives what a test kills."""
    from zerotilt.services.home import Home
    from zerotilt.services.supervisor import Supervisor

    folder = Path(tempfile.mkdtemp(prefix="zt-test-"))
    subprocess.run(["cp", "-a", f"{demo_home}/.", folder], check=True)  # with the owners of the database's files
    folder.chmod(0o755)
    with supervised(Supervisor(Home(folder))) as supervisor:
        yield supervisor
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(autouse=True)
def bound(request):
    """Records are those of the house that the test runs with, whatever another test had them point at."""
    if "running" in request.fixturenames:
        from zerotilt.store import database

        address = request.getfixturevalue("running").postgres.address
        found = database.database.connect_params
        if any(str(found.get(name)) != str(address[name]) for name in ("port", "password")):
            database.bind(address)


@pytest.fixture
def client(running):
    with talk.to(running.url, 30) as found:
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
