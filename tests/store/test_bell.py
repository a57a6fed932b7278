"""Told at once what was committed, and only that."""

from __future__ import annotations

import queue
import threading
import time
import uuid

import psycopg2
import pytest

from zerotilt.store import database
from zerotilt.store.bell import ENDED, Endings, Listener, ring


@pytest.fixture
def bound(running):
    database.bind(running.postgres.address)
    with database.database.connection_context():
        yield database.database


def test_what_is_committed_is_heard_and_what_is_rolled_back_is_not(bound):
    heard: queue.Queue[str] = queue.Queue()
    listener = Listener("zt_test", heard.put)
    listener.start()
    said = str(uuid.uuid4())
    try:
        with bound.atomic() as transaction:
            ring("zt_test", "never")
            transaction.rollback()
        until = time.monotonic() + 20
        while heard.empty() and time.monotonic() < until:  # it may not listen yet
            ring("zt_test", said)
            time.sleep(0.02)
        assert heard.get(timeout=1) == said
    finally:
        listener.stop()


def test_who_listens_hears_again_after_the_connection_was_cut(bound, running):
    heard: queue.Queue[str] = queue.Queue()
    listener = Listener("zt_cut", heard.put)
    listener.start()

    def rung() -> None:
        until = time.monotonic() + 20
        while heard.empty() and time.monotonic() < until:
            ring("zt_cut", "x")
            time.sleep(0.02)
        assert heard.get(timeout=1) == "x"

    try:
        rung()
        admin = psycopg2.connect(**running.postgres.address)
        admin.autocommit = True
        with admin.cursor() as cursor:
            cursor.execute("select pg_terminate_backend(pid) from pg_stat_activity where query = 'listen zt_cut'")
            assert cursor.rowcount == 1
        admin.close()
        with heard.mutex:
            heard.queue.clear()
        rung()
    finally:
        listener.stop()


def test_an_end_is_waited_for_and_one_that_was_before_is_seen(bound):
    endings = Endings()
    over = threading.Event()
    assert endings.wait("a", lambda: True, 0)
    assert not endings.wait("a", over.is_set, 0.05)
    found: list[bool] = []
    waiting = threading.Thread(target=lambda: found.append(endings.wait("a", over.is_set, 30)))
    waiting.start()
    until = time.monotonic() + 20
    while waiting.is_alive() and time.monotonic() < until:
        ring(ENDED, "another")
        ring(ENDED, "a")
        time.sleep(0.02)
    waiting.join(1)
    assert found == [True] and not endings._waiting
