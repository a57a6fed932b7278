"""A task that is taken up again finishes once, and a finish never overwrites what a person did meanwhile."""

from __future__ import annotations

import contextlib
import os
import pwd
import signal
import threading
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psutil
import psycopg2
import pytest
from tests.api import talk
from tests.tasks.test_board import Recorded, connection, demo_audit  # noqa: F401  fixtures

from zerotilt.core.meaning import Context, Spec
from zerotilt.core.refusal import Cancelled, Refused
from zerotilt.readers import inside
from zerotilt.readers.room import Room
from zerotilt.readers.watch import HelperDied, ended_without_a_word
from zerotilt.store.database import database
from zerotilt.store.files import Damaged, FileStore, Missing
from zerotilt.store.records import Audit, Report, TableFile, Task
from zerotilt.tasks import board, reporting, worker
from zerotilt.tasks.finishing import table
from zerotilt.tasks.lane import Lane
from zerotilt.tasks.ownership import Superseded, claim
from zerotilt.tasks.ticker import Ticker
from zerotilt.tasks.worker import Worker


@pytest.fixture
def made(connection, tmp_path):  # noqa: F811
    return Worker(Recorded(), FileStore(tmp_path))


def begun(kind: str, audit: Audit | None, payload: dict) -> Task:
    task = Task.create(audit=audit, kind=kind, title=kind, payload=payload)
    return claim(str(task.id))


def overtaken(task: Task) -> Task:
    """A second attempt at the same task, as after a sleep that outlasted its heartbeat."""
    Task.update(state="queued").where(Task.id == task.id).execute()
    return claim(str(task.id))


REPORT = {"files": {"report.html": "a" * 64, "audit.json": "b" * 64}, "flagged": 2, "tested": 5}


def test_two_attempts_at_a_report_write_one(made, demo_audit):  # noqa: F811
    first = begun("report", demo_audit, {"document": {}})
    second = overtaken(first)
    assert second.attempts == first.attempts + 1
    before = demo_audit.reports.count()
    with pytest.raises(Superseded):
        made._finish(first, dict(REPORT))
    made._finish(second, dict(REPORT))
    with pytest.raises(Superseded):
        made._finish(second, dict(REPORT))  # and no second time either
    assert demo_audit.reports.count() == before + 1
    assert Report.select().where(Report.audit == demo_audit).order_by(Report.number.desc()).first().tested == 5


def test_a_table_that_is_finished_and_one_that_is_asked_for_do_not_wait_for_one_another(made, demo_audit, running):  # noqa: F811
    digest, result = "d" * 64, {"file": "e" * 64, "profile": demo_audit.tables[0].profile, "spec": demo_audit.spec}
    task = Task(audit=demo_audit, kind="read_table", payload={"digest": digest, "name": "t.csv", "bytes": 1})
    waiting = "select count(*) from pg_locks where locktype = 'advisory' and not granted"
    ended: list[BaseException | None] = []

    def finish():
        try:
            with database.connection_context(), database.atomic() as transaction:
                table(made._board, made._files, task, result)
                transaction.rollback()
            ended.append(None)
        except BaseException as problem:
            ended.append(problem)

    with psycopg2.connect(**running.postgres.address) as other, other.cursor() as asking:
        asking.execute("select pg_advisory_xact_lock(hashtextextended(%s, 0))", (digest,))  # as Board.submit does
        finishing = threading.Thread(target=finish)
        finishing.start()
        while not ended and not asking.execute(waiting) and not asking.fetchone()[0]:
            time.sleep(0.02)
        # and now writes down its task, which holds the audit
        asking.execute("select 1 from audit where id = %s for key share nowait", (str(demo_audit.id),))
        other.rollback()
        finishing.join(30)
    assert ended == [None]


def test_an_attempt_that_was_overtaken_neither_fails_nor_beats(made, demo_audit):  # noqa: F811
    first = begun("report", demo_audit, {"document": {}})
    overtaken(first)
    made._end(first, "failed", {"message": "late"})
    assert Task.get_by_id(first.id).state == "running"
    with pytest.raises(Superseded):
        Ticker(first)(1, 2, "late")


def test_a_stale_heartbeat_is_taken_up_again_and_the_sleeper_changes_nothing(made, demo_audit):  # noqa: F811
    task = begun("report", demo_audit, {"document": {}})
    Task.update(heartbeat=datetime.now(UTC) - timedelta(minutes=5)).where(Task.id == task.id).execute()
    assert made.sweep() >= 1
    assert Task.get_by_id(task.id).state == "queued"
    with pytest.raises(Superseded):
        made._finish(task, dict(REPORT))


def test_copying_a_large_file_into_the_store_beats(made, demo_audit, tmp_path):  # noqa: F811
    path = tmp_path / "large"
    path.write_bytes(b"x" * 5_000_000)
    beats = []
    made._files.take(path, lambda: beats.append(1))
    assert len(beats) == 5
    task = begun("report", demo_audit, {"document": {}})
    Task.update(cancel=True).where(Task.id == task.id).execute()
    with pytest.raises(Cancelled):
        made._files.take(path, Ticker(task).beat)


def test_a_table_read_again_keeps_the_roles_that_were_entered_meanwhile(made, connection):  # noqa: F811
    columns = [{"name": "a", "kind": "numeric", "role": "feature"}, {"name": "y", "kind": "numeric", "role": "feature"}]
    profile = {"rows": 1, "columns": [{"name": n, "stored": "int64", "missing": 0, "distinct": 1} for n in "ay"]}
    guessed = Spec.model_validate({"columns": columns}).model_dump(mode="json")
    audit = Audit.create(title="t", spec=guessed)
    TableFile.create(audit=audit, name="t", raw_digest="0" * 64, digest="1" * 64, bytes=1, profile=profile)
    task = begun("read_table", audit, {"name": "t", "digest": "0" * 64, "bytes": 1})
    entered = Spec.model_validate({"columns": [columns[0], columns[1] | {"role": "outcome"}], "event": "1"})
    Audit.update(spec=entered.model_dump(mode="json")).where(Audit.id == audit.id).execute()
    made._finish(task, {"file": "2" * 64, "profile": profile, "spec": guessed})
    found = Spec.model_validate(Audit.get_by_id(audit.id).spec)
    assert found.outcome.name == "y" and found.event == "1"


def test_a_check_of_what_was_changed_meanwhile_does_not_make_ready(made, demo_audit):  # noqa: F811
    payload = board.basis(demo_audit, Context())
    result = {"counts": {}, "unknown_outcomes": 0, "classes": []}
    task = begun("check", demo_audit, payload)
    changed = Spec.model_validate(demo_audit.spec).model_copy(update={"seed": 99})
    Audit.update(spec=changed.model_dump(mode="json"), ready=False).where(Audit.id == demo_audit.id).execute()
    with pytest.raises(Refused, match="was changed while it was checked"):
        made._finish(task, dict(result))
    assert not Audit.get_by_id(demo_audit.id).ready
    Audit.update(spec=payload["spec"]).where(Audit.id == demo_audit.id).execute()
    made._finish(Task.get_by_id(task.id), dict(result))
    assert Audit.get_by_id(demo_audit.id).ready


def test_finishes_for_two_models_are_two(connection, demo_audit):  # noqa: F811
    desk = board.Board(Recorded())
    models = [str(one.id) for one in demo_audit.models][:2]
    found = [desk.check(demo_audit, Context(model=model)).id for model in models]
    found += [reporting.ask_report(desk, demo_audit, Context(model=model)).id for model in models]
    assert len(set(found)) == 4
    assert reporting.ask_report(desk, demo_audit, Context(model=models[0])).id == found[2]


def test_bytes_are_held_against_their_name_when_they_are_read(tmp_path):
    files = FileStore(tmp_path)
    digest = files.put(b"a table")
    assert files.verified(digest).read_bytes() == b"a table"
    files.path(digest).write_bytes(b"another")
    with pytest.raises(Damaged, match="was changed"):
        files.verified(digest)
    files.path(digest).unlink()
    with pytest.raises(Missing, match="is missing"):
        files.verified(digest)


def test_a_job_whose_helper_was_killed_is_taken_up_again(made, demo_audit, monkeypatch):  # noqa: F811
    def gone(*given, **more):
        raise HelperDied("the process that starts jobs was ended, and the job with it")

    monkeypatch.setattr(Room, "run", gone)
    payload = board.basis(demo_audit, Context()) | {"method": "tilt", "settings": {}, "seed": 1}
    monkeypatch.setattr(Worker, "_arguments", lambda self, task, ticker: {})
    task = Task.create(audit=demo_audit, kind="evidence", title="t", payload=payload)
    made._perform(str(task.id), Lane(threading.Semaphore(0), quick=True))
    found = Task.get_by_id(task.id)
    assert (found.state, found.error) == ("queued", None)
    assert made._queue.sent == [str(task.id)]


@pytest.mark.parametrize(("code", "tries"), [(-signal.SIGKILL, 3), (-signal.SIGTERM, 3), (-signal.SIGSEGV, 1), (3, 1)])
def test_a_job_that_somebody_ended_is_tried_again_and_one_that_crashed_is_told_of(
    made,
    demo_audit,  # noqa: F811
    monkeypatch,
    code,
    tries,
):
    def ended(*given, **more):
        raise ended_without_a_word("evidence", code, 2**30)

    monkeypatch.setattr(Room, "run", ended)
    payload = board.basis(demo_audit, Context()) | {"method": "tilt", "settings": {}, "seed": 1}
    monkeypatch.setattr(Worker, "_arguments", lambda self, task, ticker: {})
    task = Task.create(audit=demo_audit, kind="evidence", title="t", payload=payload)
    for _ in range(tries):
        assert Task.get_by_id(task.id).state == "queued"
        made._perform(str(task.id), Lane(threading.Semaphore(0), quick=True))
    found = Task.get_by_id(task.id)
    assert found.state == "failed" and found.attempts == tries
    assert ("check the model file" in str(found.error)) == (tries == 1)


def test_long_work_leaves_a_place_for_quick_work(made, demo_audit, monkeypatch):  # noqa: F811
    done = []
    monkeypatch.setattr(Worker, "_perform", lambda self, task_id, lane: done.append(task_id))
    for _ in range(worker.PLACES):
        assert made._places.acquire(blocking=False)
    long = Task.create(audit=demo_audit, kind="evidence", title="l", payload={}, expected=20.0)
    quick = Task.create(audit=demo_audit, kind="evidence", title="q", payload={}, expected=0.2)
    made.perform(str(long.id))
    made.perform(str(quick.id))
    assert done == [str(quick.id)]
    assert made._queue.sent == [str(long.id)]  # back in the queue, not lost
    Task.update(state="done").where(Task.id == quick.id).execute()
    made.perform(str(quick.id))  # heard of at once, and found in the queue later
    assert done == [str(quick.id)]


def test_models_are_run_without_the_database_password(running, client):
    found: list[dict] = []
    audit = talk.new_audit(client, "Environments")
    # a worker that was just revived starts its helpers with its first job
    assert talk.put_table(client, audit, b"a,b\n1,2\n3,4\n")["state"] == "done"
    for one in psutil.Process(running.children["worker"].pid).children(recursive=True):
        with contextlib.suppress(psutil.NoSuchProcess, psutil.ZombieProcess):  # jobs come and go
            if any("forkserver" in part for part in one.cmdline()):
                found.append(one.environ())
    assert found
    password = running.home.password
    assert not any(password in value for environment in found for value in environment.values())


def test_started_as_root_a_job_becomes_somebody_else_and_reads_what_it_was_given(tmp_path):
    if os.geteuid() != 0:
        pytest.skip("only root can become somebody else")
    own = tmp_path / "own"
    own.write_bytes(b"a table")
    own.chmod(0o600)
    scratch = tmp_path / "scratch"
    scratch.mkdir(mode=0o700)
    read, write = os.pipe()
    if not (pid := os.fork()):
        try:
            given = inside.unprivileged({"path": str(own), "rows": 3}, str(scratch))
            with open(given["path"], "rb") as source:
                text = source.read().decode()
            try:
                own.read_bytes()
                text += ", and could open it again"
            except PermissionError:
                pass
            os.write(write, f"{os.geteuid()} {text}".encode())
        finally:
            os._exit(0)
    os.waitpid(pid, 0)
    user, _, text = os.read(read, 200).decode().partition(" ")
    if inside.other_user() is not None:
        assert (int(user) != 0, text) == (True, "a table")


@pytest.mark.skipif(os.geteuid() != 0, reason="only root gives files away")
def test_what_a_job_finds_in_its_scratch_is_its_own_and_nothing_else_is_given_away(tmp_path):
    nobody, scratch = pwd.getpwnam("nobody"), tmp_path / "scratch"
    scratch.mkdir()
    for name in ("secret", "other"):
        (tmp_path / name).write_text("a word")
    (scratch / "model.onnx").write_bytes(b"m")
    (scratch / "leads").symlink_to(tmp_path / "secret")
    os.link(tmp_path / "other", scratch / "also")
    inside.give(scratch, nobody)
    owners = {
        one.name: one.lstat().st_uid for one in (scratch, *scratch.iterdir(), tmp_path / "secret", tmp_path / "other")
    }
    assert owners == {
        "scratch": nobody.pw_uid,
        "model.onnx": nobody.pw_uid,
        "leads": 0,
        "also": 0,
        "secret": 0,
        "other": 0,
    }


def test_who_runs_models_is_said_and_what_to_do_where_that_is_root(monkeypatch, tmp_path):
    closed = tmp_path / "closed"
    (closed / "bin").mkdir(parents=True)
    for folder in (closed / "bin", closed, *closed.parents):
        if folder != Path("/") and folder.stat().st_uid == os.geteuid():
            folder.chmod(folder.stat().st_mode | 0o001)
    monkeypatch.setattr(inside.sys, "executable", str(closed / "bin" / "python"))
    monkeypatch.setattr(inside, "__file__", str(closed / "bin" / "inside.py"))
    for euid, mode, taken, words, todo in (
        (0, 0o755, False, "models run as nobody, who owns nothing", False),
        (0, 0o700, False, f"models run as root, since other users cannot enter {closed}", True),
        (0, 0o700, True, "models run as nobody, who owns nothing", False),  # a worker takes a view of its own
        (65534, 0o700, False, "who started Zero Tilt", False),
    ):
        closed.chmod(mode)
        monkeypatch.setattr(inside, "can_be_taken", lambda *_: taken)  # noqa: B023
        monkeypatch.setattr(inside.os, "geteuid", lambda: euid)  # noqa: B023
        said = inside.runs_as()
        assert words in said[0] and bool(said[1]) == todo
        assert said[0].endswith("they reach no network and can start no program")
        assert (inside.other_user() is None) == (euid != 0 or mode == 0o700)


def test_the_server_says_who_runs_models_and_they_do(client, running, audit, context):
    said = client.get("/api/health").json()["models"]
    assert said == running.models[0] == inside.runs_as(running.home.scratch)[0]
    client.post(f"/api/audits/{audit['id']}/readings/drivers", json={"context": context, "settings": {"repeats": 7}})
    worker = psutil.Process(running.children["worker"].pid)
    until = time.monotonic() + 30
    ours = {os.geteuid()}
    while time.monotonic() < until:
        users = set()
        for one in worker.children(recursive=True):
            with contextlib.suppress(psutil.Error):
                users.add(one.uids().effective)
        if ("as nobody" in said) == bool(users - ours):
            return
        time.sleep(0.1)
    raise AssertionError((said, users))
