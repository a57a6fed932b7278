"""What happens when parts die in the middle of their work."""

import contextlib
import os
import signal
import time

import numpy as np
import pyarrow as pa
from tests.api import talk


def running_task(client, audit, context, settings):
    task = client.post(
        f"/api/audits/{audit['id']}/readings/drivers", json={"context": context, "settings": settings}
    ).json()["task"]
    until = time.monotonic() + 30
    while True:
        now = client.get(task["address"]).json()
        if now["state"] == "running" and now["done"] > 20:
            return now
        assert time.monotonic() < until, now
        time.sleep(0.05)


def test_a_worker_killed_in_the_middle_loses_nothing(client, running):
    audit = talk.demo_audit(client)
    context = {"model": audit["models"][1]["id"], "rows": "training"}
    settings = {"loss": "brier_score", "repeats": 60, "explained": 60, "walks": 128}
    own = client.post(f"/api/audits/{audit['id']}/duplicate").json()["id"]
    recipes = [{"estimator": "linear", "dealing": {"folds": 2}}, {"estimator": "forest", "dealing": {"folds": 4}}]
    first, second = client.post(f"/api/audits/{own}/candidates", json={"recipes": recipes}).json()
    assert talk.wait(client, first)["state"] == "done"
    task = running_task(client, audit, context, settings)
    worker = running.children["worker"].pid
    os.kill(worker, signal.SIGKILL)
    done = talk.wait(client, task, 400)
    assert done["state"] == "done"
    # what was trained before stays, and what was under way is trained once
    assert talk.wait(client, second, 400)["state"] == "done"
    names = [one["name"] for one in client.get(f"/api/audits/{own}").json()["models"]]
    assert names.count("linear model 1") == names.count("random forest 1") == 1
    client.delete(f"/api/audits/{own}?for_good=true")
    assert running.children["worker"].pid != worker
    found = talk.read(client, audit["id"], "drivers", context, settings)
    assert found["result"]["repeats"] == 60
    again = client.post(f"/api/audits/{audit['id']}/readings/drivers", json={"context": context, "settings": settings})
    assert again.json()["evidence"]["computed"] == found["computed"]


def test_no_child_of_a_killed_worker_survives(client, running):
    import psutil

    audit = talk.demo_audit(client)
    context = {"model": audit["models"][0]["id"], "rows": "training"}
    settings = {"loss": "auc", "repeats": 100, "explained": 60, "walks": 128}
    task = running_task(client, audit, context, settings)
    worker = psutil.Process(running.children["worker"].pid)
    children = worker.children(recursive=True)
    assert children
    worker.kill()
    _gone, alive = psutil.wait_procs(children, timeout=60)
    assert not alive
    client.post(f"{task['address']}/cancel")
    assert talk.wait(client, task, 400)["state"] in ("cancelled", "done")


@contextlib.contextmanager
def database_away(running):
    """The database killed, and not started again before the end of the block."""
    import psutil

    running.hold.set()
    try:
        first = psutil.Process(running.postgres.process.pid)
        sessions = first.children(recursive=True)
        first.kill()
        psutil.wait_procs(sessions, timeout=20)  # until it notices, a session still answers
        yield
    finally:
        running.hold.clear()


def back(client):
    until = time.monotonic() + 40
    while client.get("/api/health").status_code != 200:
        assert time.monotonic() < until
        time.sleep(0.2)


def test_the_database_killed_in_mid_upload_leaves_nothing_half_written(client, running):
    audit = talk.new_audit(client, "crash")
    rng = np.random.default_rng(0)
    n = 50_000
    data = talk.csv_bytes(pa.table({"x": rng.normal(size=n), "y": rng.choice(["a", "b"], n)}))
    with contextlib.ExitStack() as stack:

        def pieces():
            yield data[: len(data) // 2]
            stack.enter_context(database_away(running))
            yield data[len(data) // 2 :]

        answer = client.put(f"/api/audits/{audit}/table", params={"name": "t.csv"}, content=pieces())
        assert answer.status_code == 503
        assert answer.headers["retry-after"]
        assert "nothing was written" in answer.json()["detail"]
    back(client)
    assert client.get(f"/api/audits/{audit}").json()["table"] is None
    assert client.get(f"/api/audits/{audit}/tasks").json() == []
    assert not list((running.home.files / "incoming").iterdir())
    done = talk.put_table(client, audit, data)
    assert done["state"] == "done", done
    assert client.get(f"/api/audits/{audit}").json()["table"]["profile"]["rows"] == n


def test_a_database_that_is_away_is_said_and_waited_for(client, running):
    with database_away(running):
        until = time.monotonic() + 30  # the database's own processes notice a moment later
        while client.get("/api/audits").status_code != 503:
            assert time.monotonic() < until
        assert client.post("/api/audits", json={"title": "never made"}).status_code == 503
    back(client)
    assert "never made" not in [audit["title"] for audit in client.get("/api/audits").json()]


def test_work_goes_on_over_a_restart_of_the_database(client, running):
    audit = talk.demo_audit(client)
    context = {"model": audit["models"][0]["id"], "rows": "training"}
    task = running_task(client, audit, context, {"loss": "error_rate", "repeats": 40, "explained": 60, "walks": 128})
    with database_away(running):
        while client.get("/api/health").status_code == 200:
            time.sleep(0.05)
    back(client)
    assert talk.wait(client, task, 400)["state"] == "done"
