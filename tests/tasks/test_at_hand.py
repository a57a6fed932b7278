"""Questions from the server to the worker beside it: answered, or not, and never another's."""

from __future__ import annotations

import multiprocessing
import threading
import time
from concurrent.futures import ThreadPoolExecutor

import pytest

from zerotilt.tasks import at_hand
from zerotilt.tasks.at_hand import Answering, DirectLine


def test_a_question_gets_its_answer(tmp_path):
    Answering(tmp_path, lambda asked, seconds: {"told": asked["number"] * 2})
    line = DirectLine(tmp_path)
    with ThreadPoolExecutor(8) as pool:
        found = list(pool.map(lambda i: line.ask({"number": i}, 1.0), range(80)))
    assert found == [{"told": 2 * i} for i in range(80)]


def test_where_nobody_listens_there_is_no_answer(tmp_path):
    assert DirectLine(tmp_path).ask({}, 1.0) is None
    assert DirectLine(tmp_path / "nowhere").ask({}, 1.0) is None


def test_a_folder_may_have_a_long_name(tmp_path):
    folder = tmp_path / ("long " * 40)
    folder.mkdir()
    Answering(folder, lambda asked, seconds: asked)
    assert DirectLine(folder).ask({"a": "b"}, 1.0) == {"a": "b"}


def test_only_its_owner_can_ask(tmp_path):
    Answering(tmp_path, lambda asked, seconds: asked)
    assert (tmp_path / at_hand.NAME).stat().st_mode & 0o077 == 0


def test_what_fails_has_no_answer_and_the_next_has(tmp_path):
    def answer(asked, seconds):
        return {"half": 1 / asked["by"]}

    Answering(tmp_path, answer)
    line = DirectLine(tmp_path)
    assert line.ask({"by": 0}, 1.0) is None
    assert line.ask({"by": 2}, 1.0) == {"half": 0.5}


def test_a_late_answer_is_not_taken_for_the_next_questions(tmp_path, monkeypatch):
    monkeypatch.setattr(at_hand, "GRACE", 0.1)
    go = threading.Event()

    def answer(asked, seconds):
        if asked["slow"]:
            go.wait(10)
        return {"told": asked["name"]}

    Answering(tmp_path, answer)
    line = DirectLine(tmp_path)
    began = time.monotonic()
    assert line.ask({"slow": True, "name": "first"}, 0.1) is None
    assert time.monotonic() - began < 2
    go.set()
    assert [line.ask({"slow": False, "name": f"{i}"}, 1.0) for i in range(3)] == [{"told": f"{i}"} for i in range(3)]


def stay(folder, name, ready):
    Answering(folder, lambda asked, seconds: {"by": name})
    ready.set()
    threading.Event().wait()


@pytest.mark.parametrize("asked_before", [True, False])
def test_after_a_worker_that_was_killed_comes_another(tmp_path, asked_before):
    spawn = multiprocessing.get_context("fork")
    line = DirectLine(tmp_path)
    found = []
    for name in ("first", "second"):
        ready = spawn.Event()
        worker = spawn.Process(target=stay, args=(tmp_path, name, ready), daemon=True)
        worker.start()
        assert ready.wait(10)
        if asked_before or name == "second":
            found += [line.ask({}, 1.0) for _ in range(2)]
        worker.kill()
        worker.join(10)
    assert line.ask({}, 1.0) is None
    first, second = {"by": "first"}, {"by": "second"}
    # what led to the first is found broken once, and the question goes another way
    assert found == ([first, first, None, second] if asked_before else [second, second])
