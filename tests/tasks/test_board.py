"""Tasks on a real database: one for one result, taken up again when left behind."""

from __future__ import annotations

import os
import subprocess
from datetime import UTC, datetime, timedelta

import peewee
import pytest

from zerotilt.core.meaning import Context
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.store import database
from zerotilt.store.database import Unreachable, patiently
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit, ModelVersion, Task
from zerotilt.tasks import board
from zerotilt.tasks.ownership import claim
from zerotilt.tasks.queue import Queue, Turn
from zerotilt.tasks.worker import Worker


class Recorded:
    """A queue that only remembers what was sent."""

    def __init__(self):
        self.sent: list[str] = []
        self.turns: list[Turn] = []
        self.huey = self
        self.perform = None

    def send(self, task_id: str, turn: Turn = Turn.asked) -> None:
        self.sent.append(task_id)
        self.turns.append(turn)

    def messages(self) -> dict[str, Turn]:
        return {}


@pytest.fixture
def connection(running):
    database.bind(running.postgres.address)
    with database.database.connection_context(), database.database.atomic() as transaction:
        yield database.database
        transaction.rollback()


@pytest.fixture
def demo_audit(connection):
    return Audit.select().where(Audit.demo).order_by(Audit.created).get()


def test_a_task_that_was_told_to_end_is_not_joined(connection):
    desk = board.Board(Recorded())
    first = desk.submit("demo", "Demo", {}, None, "one result")
    Task.update(state="running", cancel=True).where(Task.id == first.id).execute()
    second = desk.submit("demo", "Demo", {}, None, "one result")
    assert second.id != first.id and second.state == "queued"
    assert desk.submit("demo", "Demo", {}, None, "one result").id == second.id
    assert Task.get_by_id(first.id).state == "running"  # it ends by itself


def test_a_task_under_way_is_joined(connection):
    queue = Recorded()
    desk = board.Board(queue)
    first = desk.submit("demo", "Demo", {}, None, "one result")
    second = desk.submit("demo", "Demo", {}, None, "one result")
    assert first.id == second.id
    assert queue.sent == [str(first.id)]
    Task.update(state="done").where(Task.id == first.id).execute()
    assert desk.submit("demo", "Demo", {}, None, "one result").id != first.id


def test_evidence_that_is_there_is_given_back_whatever_the_model_is_called(demo_audit):
    queue = Recorded()
    model = str(demo_audit.models.order_by(ModelVersion.created).first().id)
    found = board.Board(queue).reading(demo_audit, Context(model=model), "tilt", {})
    assert found.method == "tilt"
    assert queue.sent == []
    assert board.Board(queue).known(demo_audit, Context(model=model, rows="training"), "tilt", {}) is None


def test_a_first_look_comes_before_what_takes_long(demo_audit):
    queue = Recorded()
    context = Context(model=str(demo_audit.models.order_by(ModelVersion.created).first().id), rows="training")
    desk = board.Board(queue)
    desk.reading(demo_audit, context, "interactions", {})
    desk.reading(demo_audit, context, "interactions", dict(METHODS["interactions"].first_look) | {"features": ()})
    desk.reading(demo_audit, context, "interactions", {"draws": 3}, turn=Turn.ahead)
    assert queue.turns == [Turn.asked, Turn.first_look, Turn.ahead]


def test_what_is_missing_is_said(connection):
    audit = Audit.create(title="empty")
    with pytest.raises(Refused, match="no table yet"):
        board.basis(audit, Context())
    demo = Audit.get(Audit.demo)
    with pytest.raises(Refused, match="no such model version"):
        board.basis(demo, Context(model="00000000-0000-0000-0000-000000000000"))


def left_behind(state: str, seconds: float) -> Task:
    past = datetime.now(UTC) - timedelta(seconds=seconds)
    return Task.create(kind="demo", title="t", payload={}, state=state, queued=past, heartbeat=past)


def test_what_a_dead_worker_left_is_taken_up_again(connection, tmp_path):
    queue = Recorded()
    worker = Worker(queue, FileStore(tmp_path))
    stale, lost = left_behind("running", 60), left_behind("queued", 60)
    alive, waiting = left_behind("running", 1), left_behind("queued", 1)
    worker.sweep()
    assert {str(stale.id), str(lost.id)} <= set(queue.sent)
    assert not {str(alive.id), str(waiting.id)} & set(queue.sent)
    assert Task.get_by_id(stale.id).state == "queued"


def test_a_task_whose_message_was_lost_is_sent_again_though_others_are_pending(connection, tmp_path):
    """Who took the message died before the task was claimed; what is made ready for later keeps the queue filled."""
    sent = Queue(lambda name: None)
    sent.huey.storage.flush_queue()
    Task.delete().execute()
    worker = Worker(sent, FileStore(tmp_path))
    there, lost, ahead = (left_behind("queued", 10) for _ in range(3))
    Task.update(unwatched=True).where(Task.id == ahead.id).execute()
    sent.send(str(there.id))
    assert worker.sweep() == 2
    assert sent.messages() == {str(there.id): Turn.asked, str(lost.id): Turn.asked, str(ahead.id): Turn.ahead}
    assert worker.sweep() == 0 and sent.huey.pending_count() == 3


def test_scratch_of_a_killed_process_goes_while_others_work_on(tmp_path):
    dead = subprocess.Popen(["true"])
    dead.wait()
    names = (
        f"zt-{dead.pid}-a",
        f"zt-reader-{dead.pid}-b",
        f"zt-{os.getpid()}-c",
        f"zt-reader-{os.getpid()}-d",
        "other",
    )
    for name in names:
        (tmp_path / name / "within").mkdir(parents=True)
    worker = Worker(Recorded(), FileStore(tmp_path / "files"), tmp_path)
    assert worker.sweep_scratch() == 2 and worker.sweep_scratch() == 0
    left = {one.name for one in tmp_path.iterdir()}
    assert left >= set(names[2:]) and not left & set(names[:2])


def test_the_newest_wish_comes_first_but_not_for_ever(connection, tmp_path):
    performed: list[str] = []
    sent = Queue(performed.append)
    sent.huey.storage.flush_queue()
    Task.delete().execute()
    worker = Worker(sent, FileStore(tmp_path))
    sent.perform = performed.append
    old, older, new = (left_behind("queued", 1) for _ in range(3))
    for one, seconds in ((old, 30), (older, 300), (new, 1)):
        Task.update(created=datetime.now(UTC) - timedelta(seconds=seconds)).where(Task.id == one.id).execute()
    sent.send(str(older.id), Turn.put_back)
    sent.send(str(old.id), Turn.put_back)
    sent.send(str(new.id))
    worker.sweep()
    worker.sweep()  # one at a time
    assert sorted(sent.messages().values()) == [Turn.put_back, Turn.asked, Turn.overdue]
    first = sent.huey.dequeue()
    sent.huey.execute(first)
    assert performed == [str(older.id)]
    # it finds no place: it stays the next one, and the rest lets through what is quick
    performed.clear()
    for _ in range(3):
        worker._places.acquire()
    worker.perform(str(older.id))
    worker.perform(str(old.id))
    assert sent.messages() == {str(older.id): Turn.overdue, str(old.id): Turn.put_back, str(new.id): Turn.asked}


def test_a_task_is_claimed_once_and_a_cancelled_one_never(connection):
    task = left_behind("queued", 0)
    assert claim(str(task.id)).attempts == 1
    assert claim(str(task.id)) is None
    unwanted = left_behind("queued", 0)
    Task.update(cancel=True).where(Task.id == unwanted.id).execute()
    assert claim(str(unwanted.id)) is None
    assert Task.get_by_id(unwanted.id).state == "cancelled"


def test_a_task_whose_worker_died_too_often_is_given_up(connection, tmp_path, monkeypatch):
    monkeypatch.setattr("zerotilt.tasks.worker.patiently", lambda action, seconds: action())
    task = left_behind("queued", 0)
    Task.update(attempts=10).where(Task.id == task.id).execute()
    Worker(Recorded(), FileStore(tmp_path)).perform(str(task.id))
    ended = Task.get_by_id(task.id)
    assert ended.state == "failed"
    assert "interrupted 10 times" in ended.error["message"]


def test_patience_ends_in_words(running):
    database.bind(running.postgres.address)
    tries = []

    def action():
        tries.append(1)
        raise peewee.OperationalError("gone")

    with pytest.raises(Unreachable, match="gone"):
        patiently(action, 0.5)
    assert len(tries) > 1


def test_patience_is_rewarded(running):
    database.bind(running.postgres.address)
    tries = []

    def action():
        tries.append(1)
        if len(tries) < 3:
            raise peewee.InterfaceError("not yet")
        return "there"

    assert patiently(action, 5) == "there"
