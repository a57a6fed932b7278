"""Resident readers: what they hold is opened once, jobs in them are apart, and they are bounded."""

from __future__ import annotations

import os
import signal
import tempfile
import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pyarrow.parquet as pq
import pytest

from zerotilt.core.evidence import Evidence
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Cancelled, Refused
from zerotilt.readers import alone
from zerotilt.readers.room import Room
from zerotilt.readers.watch import HelperDied


@pytest.fixture(scope="module")
def folder(demo):
    """The demo's table and models as files."""
    with tempfile.TemporaryDirectory(prefix="zt-test-") as found:
        place = Path(found)
        place.chmod(0o711)
        claims, _, models = demo
        pq.write_table(claims, place / "table.parquet")
        for name, data in models.items():
            (place / name).write_bytes(data)
            (place / name).chmod(0o600)
        yield place


@pytest.fixture
def room(folder):
    found = Room(folder, most=2)
    yield found
    found.close()


def go_on(done, total, what):
    return True


@pytest.fixture
def ask(folder, demo, room):
    """A method of the demo, read in the room."""
    spec = demo[1]

    def asked(method="tilt", settings=None, model="logistic regression v1", run=room.run, tick=go_on, **context):
        checked = METHODS[method].settings.model_validate(settings or {})
        arguments = {
            "spec": spec.model_dump(mode="json"),
            "context": {"rows": "hold-out", "output": "probability"} | context,
            "table_path": str(folder / "table.parquet"),
            "table_digest": "t",
            "model_path": str(folder / model),
            "model_digest": model,
            "method": method,
            "settings": checked.model_dump(mode="json"),
            "seed": 7,
        }
        with tempfile.TemporaryDirectory(dir=folder) as scratch:
            return Evidence.model_validate(run("evidence", arguments, Path(scratch), tick)["evidence"][0])

    return asked


@pytest.mark.parametrize("method", ["tilt", "performance", "ladder", "response", "cases"])
def test_what_is_read_warm_is_what_is_read_alone(ask, method):
    settings = {"row": 30} if method == "ladder" else {}
    warm = [ask(method, settings) for _ in range(2)]
    cold = ask(method, settings, run=alone.run)
    assert [one.result for one in warm] == [cold.result] * 2
    assert {one.key for one in warm} == {cold.key}


def test_a_change_of_what_is_meant_or_read_is_not_answered_from_before(ask):
    whole = ask("performance")
    again = ask("performance", rows="training")
    assert whole.key != again.key and whole.result != again.result
    assert ask("performance").result == whole.result


def test_one_reader_serves_many_at_once(ask, room):
    with ThreadPoolExecutor(4) as pool:
        found = list(pool.map(lambda place: ask("cases", {"offset": 20 * (place % 3), "limit": 20}), range(24)))
    assert len(room._readers) == 1
    for place, one in enumerate(found):
        assert one.result == found[place % 3].result
    assert len({str(one.result["cases"]) for one in found}) == 3


def test_the_least_used_reader_is_retired(ask, room, demo):
    names = list(demo[2])[:3]
    readers = []
    for name in names:
        ask(model=name)
        readers.append(list(room._readers.values())[-1])
    assert len(room._readers) == 2
    assert [one.alive for one in readers] == [False, True, True]
    assert not Path(readers[0]._scratch).exists() and Path(readers[1]._scratch).exists()
    ask(model=names[1])
    ask(model=names[0])
    assert [one.alive for one in readers] == [False, True, False]  # the one used longest ago


def test_a_job_that_is_no_longer_wanted_ends_and_its_reader_stays(ask, room):
    ask()
    with pytest.raises(Cancelled):
        ask("drivers", tick=lambda done, total, what: done == 0)
    reader = next(iter(room._readers.values()))
    assert reader.alive and reader.jobs == 0
    assert ask().result["disparities"]


def test_a_job_that_dies_is_said_and_its_reader_stays(ask, room):
    ask()
    numbers = []
    begin = room._run

    def killed(reader, job, arguments, scratch, on_tick, limits, gives_way, on_start):
        def kill(number):
            numbers.append(number)
            os.kill(number, signal.SIGKILL)

        return begin(reader, job, arguments, scratch, on_tick, limits, gives_way, kill)

    room._run = killed
    with pytest.raises(Refused, match="was ended by SIGKILL"):
        ask("drivers")
    room._run = begin
    assert numbers and ask().result["disparities"]


def test_a_reader_that_is_killed_in_the_middle_loses_nothing(ask, room):
    ask()
    reader = next(iter(room._readers.values()))

    def kill(done, total, what):
        if reader.alive:
            os.kill(reader._process.pid, signal.SIGKILL)
        return True

    with pytest.raises(HelperDied):
        ask("drivers", tick=kill)
    assert ask().result["disparities"]  # in another reader


def test_two_who_come_at_once_find_one_reader(ask, room):
    gate = threading.Barrier(3)

    def one(place):
        gate.wait(10)
        return ask("performance").result

    with ThreadPoolExecutor(3) as pool:
        first, *others = pool.map(one, range(3))
    assert others == [first, first] and len(room._readers) == 1


def test_started_as_root_readers_and_their_jobs_are_somebody_else(ask, room):
    if room._user is None:
        pytest.skip("only root can become somebody else")
    seen = []
    run = room._run

    def look(*given):
        return run(*given[:-1], lambda number: seen.append(os.stat(f"/proc/{number}").st_uid))

    room._run = look
    ask()
    reader = next(iter(room._readers.values()))
    assert {*seen, os.stat(f"/proc/{reader._process.pid}").st_uid} == {room._user.pw_uid}
