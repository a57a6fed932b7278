"""Quick readings are answered in their request, without a task, and are kept as any other."""

from __future__ import annotations

import shutil

import pytest
from starlette.testclient import TestClient
from tests.api import talk

from zerotilt.api.app import create
from zerotilt.store import database
from zerotilt.store.files import FileStore
from zerotilt.store.records import EvidenceRow, Task
from zerotilt.tasks.at_hand import Answering


@pytest.fixture
def tasks(running):
    """How many tasks of an audit's evidence there are."""
    database.bind(running.postgres.address)

    def count(audit):
        with database.database.connection_context():
            return Task.select().where((Task.audit == audit["id"]) & (Task.kind == "evidence")).count()

    return count


def post(client, audit, context, method, settings):
    return client.post(
        f"/api/audits/{audit['id']}/readings/{method}", json={"context": context, "settings": settings}
    ).json()


def directly(client, audit, context, method, settings, tasks):
    """The first settings that are answered without a task, and the answer; on a busy machine some go the long way."""
    for one in settings:
        before = tasks(audit)
        found = post(client, audit, context, method, one)
        if found["evidence"] and tasks(audit) == before:
            return one, found
    raise AssertionError("all went the long way")


def warmed(client, audit, context, method, settings):
    """Read it with other settings until it is known to be quick here."""
    for one in settings:
        talk.read(client, audit["id"], method, context, one)


def test_a_quick_reading_is_answered_at_once_and_leaves_no_task(client, audit, context, tasks):
    warmed(client, audit, context, "ladder", [{"row": row} for row in (3, 4, 5)])
    row, found = directly(client, audit, context, "ladder", [{"row": row} for row in range(40, 60)], tasks)
    # kept: listed, and found again
    listed = {one["key"] for one in client.get(f"/api/audits/{audit['id']}/evidence").json()}
    assert found["evidence"]["key"] in listed
    again = post(client, audit, context, "ladder", row)
    assert again["evidence"] == found["evidence"] and again["task"] is None
    assert found["fresh"] and not again["fresh"]  # the page looks for findings once, as no task tells of them


def test_it_says_what_a_task_would_have_said(client, audit, context, tasks):
    warmed(client, audit, context, "segment", [{"conditions": f"parcel_weight>{i}"} for i in (1, 2, 3)])
    every = [{"conditions": f"parcel_weight>7.{i} or channel=telephone"} for i in range(1, 20)]
    asked, found = directly(client, audit, context, "segment", every, tasks)
    direct = found["evidence"]
    with database.database.connection_context():
        EvidenceRow.delete().where(EvidenceRow.key == direct["key"]).execute()
    taken = talk.read(client, audit["id"], "segment", context, asked)
    for name in ("key", "result", "reading", "context", "settings", "digests", "rows", "rows_described"):
        assert taken[name] == direct[name]


def test_what_is_shown_with_it_comes_with_it(client, audit, context):
    warmed(client, audit, context, "tried", [{"row": 1, "edits": {"missed_scans": f"{i}"}} for i in (1, 2, 3)])
    asked = {"row": 1, "edits": {"missed_scans": "1.375"}}
    talk.read(client, audit["id"], "tried", context, asked)
    found = post(client, audit, context, "tried", asked)
    (beside,) = found["beside"]
    assert (beside["method"], beside["settings"]) == ("ladder", asked)
    own = post(client, audit, context, "ladder", asked)["evidence"]
    assert own == beside["evidence"]


def test_what_is_refused_is_refused_in_words(client, audit, context):
    warmed(client, audit, context, "segment", [{"conditions": f"parcel_weight>{i}"} for i in (4, 5, 6)])
    found = post(client, audit, context, "segment", {"conditions": "no_such_column>3"})
    ended = talk.wait(client, found["task"])
    assert ended["state"] == "failed" and "no_such_column" in ended["error"]["message"]


def test_an_answer_to_another_question_is_not_taken(running, audit, context, client, tasks, tmp_path):
    warmed(client, audit, context, "ladder", [{"row": row} for row in (6, 7, 8)])
    other = talk.read(client, audit["id"], "ladder", context, {"row": 6})
    said: list[list] = [[other], [], [{}]]
    Answering(tmp_path, lambda asked, seconds: {"evidence": said.pop(0)})
    with TestClient(create(FileStore(tmp_path / "files"), folder=tmp_path), base_url="http://127.0.0.1") as own:
        for row in (9, 10, 11):
            found = post(own, audit, context, "ladder", {"row": row})
            read = found["evidence"] or talk.read(client, audit["id"], "ladder", context, {"row": row})
            assert read["settings"]["row"] == row


def test_of_what_comes_with_an_answer_only_what_was_asked_for_is_kept(running, audit, context, client, tmp_path):
    store = FileStore(tmp_path / "files")
    shutil.copy(running.home.files / "seal", store.folder)  # of the same house
    talk.read(client, audit["id"], "segment", context, {"conditions": "parcel_weight>11"})
    asked = {"row": 2, "edits": {"missed_scans": "2.5"}}
    tried = talk.read(client, audit["id"], "tried", context, asked)
    forged = tried | {"key": "f" * 64}
    with database.database.connection_context():
        # its ladder, too: on a quiet machine it came with the first answer, and would be found beside this one
        beside = (EvidenceRow.method == "ladder") & (EvidenceRow.body["settings"]["row"] == "2")
        EvidenceRow.delete().where((EvidenceRow.key == tried["key"]) | beside).execute()
    Answering(tmp_path, lambda asked, seconds: {"evidence": [tried, forged]})
    with TestClient(create(store, folder=tmp_path), base_url="http://127.0.0.1") as own:
        found = post(own, audit, context, "tried", asked)
    assert found["evidence"]["key"] == tried["key"] and found["beside"] == []
    with database.database.connection_context():
        assert not EvidenceRow.select().where(EvidenceRow.key == forged["key"]).exists()
