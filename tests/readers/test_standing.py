"""A process that stands ready in a reader: quick jobs one after the other, and nothing lost where it fails."""

from __future__ import annotations

import os
import signal
import time
from concurrent.futures import ThreadPoolExecutor

import pytest
from tests.readers.test_room import ask, folder, room  # noqa: F401

from zerotilt.core.refusal import Refused
from zerotilt.readers import room as rooms


class NoAnswer(Exception):
    pass


@pytest.fixture
def standing(ask, room):  # noqa: F811
    """A method asked of who stands ready, once a job was done as usual."""

    def answer(job, arguments, scratch, tick):
        found = room.answer(job, arguments, seconds)
        if found is None:
            raise NoAnswer
        return found

    def asked(method="performance", settings=None, within=5.0, **context):
        nonlocal seconds
        seconds = within
        return ask(method, settings, run=answer, **context)

    seconds = 5.0
    return asked


def number_of(room):  # noqa: F811
    found = next(iter(room._readers.values()))._standing
    return found and found._number


def test_nobody_stands_before_a_first_job_has_opened_the_files(standing, ask, room):  # noqa: F811
    with pytest.raises(NoAnswer):
        standing()
    ask("performance")
    assert standing().result["sets"]


@pytest.mark.parametrize("method", ["performance", "tilt", "ladder", "segment", "tried", "response"])
def test_it_answers_what_a_process_of_its_own_would(standing, ask, method):  # noqa: F811
    settings = {"row": 30} if method in ("ladder", "tried") else {}
    once = ask(method, settings)
    found = [standing(method, settings) for _ in range(3)]
    assert {one.key for one in found} == {once.key}
    assert all(one.result == once.result for one in found)


def test_one_process_answers_all_and_other_rows_are_other_rows(standing, ask, room):  # noqa: F811
    whole, training = ask("performance"), ask("performance", rows="training")
    assert standing().result == whole.result
    first = number_of(room)
    assert standing(rows="training").result == training.result
    assert standing().result == whole.result
    assert number_of(room) == first


def test_many_at_once_get_their_own_answers(standing, ask, room):  # noqa: F811
    ask("cases")
    with ThreadPoolExecutor(6) as pool:
        found = list(pool.map(lambda place: standing("cases", {"offset": 20 * (place % 3), "limit": 20}), range(18)))
    for place, one in enumerate(found):
        assert one.result == found[place % 3].result
    assert len({str(one.result["cases"]) for one in found}) == 3
    assert len(room._readers) == 1


def test_one_that_is_killed_is_replaced(standing, ask, room):  # noqa: F811
    whole = ask("performance")
    standing()
    first = number_of(room)
    os.kill(first, signal.SIGKILL)
    with pytest.raises(NoAnswer):
        standing()
    assert standing().result == whole.result
    assert number_of(room) not in (None, first)


def gone(number: int) -> bool:
    """Whether a process that was told to end has ended, a moment later: who is busy ends late."""
    until = time.monotonic() + 10
    while os.path.exists(f"/proc/{number}/exe") and time.monotonic() < until:
        time.sleep(0.02)
    return not os.path.exists(f"/proc/{number}/exe")


def test_what_takes_too_long_is_given_up_and_the_reader_stays(standing, ask, room):  # noqa: F811
    ask("performance")
    standing()
    first = number_of(room)
    began = time.monotonic()
    with pytest.raises(NoAnswer):
        standing("drivers", {"repeats": 60, "loss": "auc"}, within=0.1)
    assert time.monotonic() - began < 3
    assert gone(first)
    assert next(iter(room._readers.values())).alive and standing().result["sets"]


def test_what_is_refused_is_refused_and_it_goes_on_standing(standing, ask, room):  # noqa: F811
    ask("performance")
    with pytest.raises(Refused, match="not a feature"):
        standing("response", {"feature": "no such"})
    number = number_of(room)
    assert standing().result["sets"] and number_of(room) == number


def test_it_ends_with_its_reader(standing, ask, room):  # noqa: F811
    ask("performance")
    standing()
    number, reader = number_of(room), next(iter(room._readers.values()))
    os.kill(reader._process.pid, signal.SIGKILL)
    reader._process.join(5)
    assert gone(number)
    with pytest.raises(NoAnswer):
        standing()
    assert ask("performance").result["sets"]  # in another reader


def test_one_that_has_grown_is_replaced(standing, ask, room, monkeypatch):  # noqa: F811
    whole = ask("performance")
    monkeypatch.setattr(rooms, "SPARE_MEMORY", -(2**50))
    assert standing().result == whole.result
    assert number_of(room) is None
    monkeypatch.undo()
    assert standing().result == whole.result and number_of(room)
