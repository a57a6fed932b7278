"""What is quick comes first; what turns out to be long, or is looked at no more, steps back."""

from __future__ import annotations

import os
import subprocess
import threading

import pytest
from tests.api import talk
from tests.tasks.test_board import Recorded, connection, demo_audit  # noqa: F401

from zerotilt.core.meaning import Context
from zerotilt.core.methods import AREAS, METHODS, first_shown
from zerotilt.store.records import ModelVersion, Task, Timing
from zerotilt.tasks import board, lane
from zerotilt.tasks.expectation import GUESS, QUICK_SECONDS, expected, learn
from zerotilt.tasks.lane import Lane
from zerotilt.tasks.queue import Queue, Turn


@pytest.fixture
def process():
    with subprocess.Popen(["sleep", "60"]) as found:
        yield found.pid
        found.kill()


def priority(number: int) -> int:
    return os.getpriority(os.PRIO_PROCESS, number)


def test_quick_work_that_lasts_gives_its_place_up_once_and_steps_back(process, monkeypatch):
    place = threading.BoundedSemaphore(1)
    assert place.acquire(blocking=False)
    mine = Lane(place, quick=True)
    mine.started(process)
    mine.tick(unwatched=False)
    assert not place.acquire(blocking=False) and priority(process) == 0
    monkeypatch.setattr(lane, "AGED_SECONDS", 0.0)
    mine.tick(unwatched=False)
    assert place.acquire(blocking=False) and priority(process) == 10
    mine.tick(unwatched=True)
    assert priority(process) == 19
    mine.give_back()
    place.release()
    with pytest.raises(ValueError):  # it was given back once
        place.release()


def test_long_work_keeps_its_place_while_it_is_looked_at(process, monkeypatch):
    monkeypatch.setattr(lane, "AGED_SECONDS", 0.0)
    place = threading.BoundedSemaphore(1)
    assert place.acquire(blocking=False)
    mine = Lane(place, quick=False)
    mine.started(process)
    mine.tick(unwatched=False)
    assert not place.acquire(blocking=False)
    mine.tick(unwatched=True)
    assert place.acquire(blocking=False) and priority(process) == 19


def payload(method: str, settings: dict | None = None, table: str = "nowhere") -> dict:
    checked = METHODS[method].settings.model_validate(settings or {}).model_dump(mode="json")
    return {
        "method": method,
        "settings": checked,
        "table_digest": table,
        "model_digest": "m",
        "context": {"rows": "all"},
    }


def test_how_long_work_takes_is_learnt(connection):  # noqa: F811
    Timing.delete().execute()
    look = dict(METHODS["drivers"].first_look)
    assert expected(payload("drivers"), 1000) is None
    assert expected(payload("drivers", look), 1000) == GUESS <= QUICK_SECONDS
    learn(payload("drivers", look), 1000, 0.2)
    learn(payload("drivers"), 1000, 8.0)
    assert expected(payload("drivers"), 1000) == 8.0
    learn(payload("drivers"), 1000, 4.0)  # less than it was: the first time, files were opened
    assert expected(payload("drivers"), 1000) == 4.0
    learn(payload("drivers"), 1000, 8.0)
    assert expected(payload("drivers"), 1000) == 6.0
    assert expected(payload("drivers", look), 1000) == 0.2
    # another table: as long as on the nearest one, longer where it is larger, never shorter
    assert expected(payload("drivers", table="larger"), 3000) == 18.0
    assert expected(payload("drivers", table="smaller"), 10) == 6.0
    # which output is read changes nothing, which rows are read does
    other = payload("drivers") | {"context": {"rows": "all", "output": "log-odds"}}
    assert expected(other, 1000) == 6.0
    learn(payload("drivers") | {"context": {"rows": "hold-out"}}, 1000, 2.0)
    assert expected(payload("drivers"), 1000) == 6.0


def test_what_is_expected_to_be_quick_is_told_at_once(demo_audit, monkeypatch):  # noqa: F811
    rung: list[str] = []
    monkeypatch.setattr(board, "ring", lambda channel, name: rung.append(name))
    Timing.delete().execute()
    desk = board.Board(Recorded())
    model = str(demo_audit.models.order_by(ModelVersion.created).first().id)
    context = Context(model=model, rows="training")
    quick = desk.reading(demo_audit, context, "tilt", {"reference": "best-off"})
    long = desk.reading(demo_audit, context, "interactions", {})
    ahead = desk.reading(demo_audit, context, "lattice", {}, turn=Turn.ahead)
    assert rung == [str(quick.id)]
    assert (quick.expected, long.expected) == (GUESS, None) and ahead.expected == GUESS


def test_of_one_turn_the_newest_wish_comes_first(connection):  # noqa: F811
    performed: list[str] = []
    sent = Queue(performed.append)
    own = sent.huey.storage
    own.flush_queue()
    monotone = iter(range(1_000, 100_000, 1_000))
    import zerotilt.tasks.queue as module

    clock = module.time
    try:
        module.time = type("Clock", (), {"time": staticmethod(lambda: float(next(monotone)))})
        for name, turn in (
            ("first", Turn.asked),
            ("second", Turn.asked),
            ("ahead", Turn.ahead),
            ("look", Turn.first_look),
        ):
            sent.send(name, turn)
    finally:
        module.time = clock
    while (message := sent.huey.dequeue()) is not None:
        sent.huey.execute(message)
    assert performed == ["look", "second", "first", "ahead"]


def test_what_nobody_looks_at_is_dropped_before_it_begins_and_steps_back_after(client, audit, context):
    asked = {"context": context | {"rows": "all"}, "settings": {"draws": 7}}
    task = client.post(f"/api/audits/{audit['id']}/readings/interactions", json=asked).json()["task"]
    left = client.post(f"{task['address']}/leave").json()
    assert left["state"] in ("dropped", "running")
    if left["state"] == "running":
        assert Task.get_by_id(task["id"]).unwatched
    again = client.post(f"/api/audits/{audit['id']}/readings/interactions", json=asked).json()["task"]
    assert (again["id"] == task["id"]) == (left["state"] == "running")
    assert not Task.get_by_id(again["id"]).unwatched
    assert talk.wait(client, client.post(f"{again['address']}/cancel").json())["state"] == "cancelled"


def test_a_quick_reading_is_in_the_answer(client, audit, context):
    answers = []
    for group in ("uplands", "outer isles"):
        asked = {"context": context, "settings": {"attribute": "home_area", "group": group, "against": "all others"}}
        address = f"/api/audits/{audit['id']}/readings/one_group"
        asked["settings"] = {"attribute": "home_area", "group": group}
        answers.append(client.post(address, json=asked).json())
    assert all(one["evidence"] or one["task"]["state"] in ("running", "queued") for one in answers)
    for one, group in zip(answers, ("uplands", "outer isles"), strict=True):
        if one["evidence"]:
            assert one["evidence"]["result"]["group"] == group


def test_a_refusal_of_a_quick_reading_is_in_the_answer(client, audit, context):
    asked = {"context": context, "settings": {"column": "nowhere"}}
    answer = client.post(
        f"/api/audits/{audit['id']}/readings/spread", json=asked | {"settings": {"feature": "nowhere"}}
    )
    task = talk.wait(client, answer.json()["task"])
    assert task["state"] == "failed" and "nowhere" in task["error"]["message"]


def test_what_the_parts_show_first_is_made_ready_in_the_order_in_which_they_stand(demo_audit, monkeypatch):  # noqa: F811
    monkeypatch.delenv("ZT_AHEAD")
    queue = Recorded()
    desk = board.Board(queue)
    Task.delete().execute()
    context = Context(model=str(ModelVersion.get(ModelVersion.audit == demo_audit).id), rows="training")
    desk.ahead(demo_audit, context)
    made = [Task.get_by_id(name) for name in queue.sent]
    areas = [METHODS[task.payload["method"]].area for task in made]
    assert areas == sorted(areas, key=AREAS.index)
    assert len({(METHODS[t.payload["method"]].area, METHODS[t.payload["method"]].part) for t in made}) >= 13
    assert set(queue.turns) == {Turn.ahead}
    assert all(task.unwatched for task in made)
    wanted = next(task for task in made if task.payload["method"] == "tilt")
    joined = desk.reading(demo_audit, context, "tilt", {})  # a person opens it before it was begun
    assert joined.id == wanted.id
    assert not Task.get_by_id(wanted.id).unwatched
    assert (queue.sent[-1], queue.turns[-1]) == (str(wanted.id), Turn.asked)
    desk.reading(demo_audit, context, "tilt", {})
    assert queue.sent.count(str(wanted.id)) == 2  # it came forward once


def test_without_an_outcome_or_a_model_only_what_can_be_read_is_made_ready(demo):
    _, spec, _ = demo
    assert {"drivers", "tilt", "expectations"} <= {name for name, _ in first_shown(spec, with_model=True)}
    bare = {name for name, _ in first_shown(spec, with_model=False)}
    assert "tilt" in bare and not bare & {"drivers", "response", "expectations"}
    unknown = spec.model_copy(
        update={
            "columns": tuple(
                c.model_copy(update={"role": "ignored"}) if c.role == "outcome" else c for c in spec.columns
            )
        }
    )
    assert "drivers" not in {name for name, _ in first_shown(unknown, with_model=True)}


def test_what_is_made_ready_goes_one_after_the_other_and_keeps_its_place(process):
    place = threading.BoundedSemaphore(1)
    assert place.acquire(blocking=False)
    mine = Lane(place, quick=False, ahead=True)
    mine.started(process)
    mine.tick(unwatched=True)
    assert not place.acquire(blocking=False) and priority(process) == 19
    mine.tick(unwatched=False)  # somebody looks after all
    assert priority(process) == (10 if os.geteuid() == 0 else 19)
    mine.give_back()


def test_of_what_is_made_ready_the_oldest_comes_first_and_of_wishes_the_newest():
    given: list[tuple[str, float]] = []
    queue = Queue.__new__(Queue)
    queue._run = lambda name, priority: given.append((name, priority))  # type: ignore[method-assign]
    for turn in (Turn.ahead, Turn.asked):
        for name in ("first", "second"):
            queue.send(name, turn)
            threading.Event().wait(0.02)
    ahead, asked = dict(given[:2]), dict(given[2:])
    assert ahead["first"] > ahead["second"]
    assert asked["second"] > asked["first"] > ahead["first"]
