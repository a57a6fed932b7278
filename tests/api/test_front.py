"""The front page's list, and what is done to an audit as a whole."""

from __future__ import annotations

import uuid

import pytest
from tests.api import talk

from zerotilt.store import database

TABLE = b"sent,claimed,way\n" + b"".join(
    b"%d,%s,%s\n" % (i, (b"yes", b"no")[i % 2], b"ab"[i % 2 : i % 2 + 1]) for i in range(60)
)


def entry(client, audit: str) -> dict | None:
    return next((one for one in client.get("/api/audits").json() if one["id"] == audit), None)


@pytest.fixture
def own(client):
    made = talk.new_audit(client, f"Front {uuid.uuid4().hex[:8]}")
    yield made
    client.delete(f"/api/audits/{made}?for_good=true")


def test_an_audit_stands_there_with_what_tells_it_from_others(client, own, audit):
    found = entry(client, own)
    assert (found["table"], found["rows"], found["versions"], found["reports"], found["opened"]) == (
        None,
        None,
        0,
        0,
        None,
    )
    assert talk.put_table(client, own, TABLE)["state"] == "done"
    client.get(f"/api/audits/{own}")
    found = entry(client, own)
    assert (found["rows"], found["columns"]) == (60, 3)
    assert found["table"] and found["opened"] >= found["created"]
    demo = entry(client, audit["id"])
    assert (demo["rows"], demo["versions"]) == (12_000, len(client.get(f"/api/audits/{audit['id']}").json()["models"]))
    flagged = client.get("/api/audits/flagged").json()
    assert flagged[audit["id"]]["open"] > 0 and own not in flagged


def test_renamed_archived_and_brought_back(client, own):
    path = f"/api/audits/{own}"
    assert client.patch(path, json={"title": "  Loans  "}).json()["title"] == "Loans"
    assert client.patch(path, json={"archived": True}).json()["archived"]
    assert entry(client, own)["archived"]
    assert client.patch(path, json={"archived": False}).json()["title"] == "Loans"
    assert not entry(client, own)["archived"]
    assert client.patch(path, json={"title": ""}).status_code == 422
    assert client.patch(path, json={"title": "   "}).json()["title"] == "Loans"  # nothing but blanks names nothing
    assert client.patch(path, json={"title": "x" * 201}).status_code == 422


def test_deleted_it_is_gone_and_can_be_brought_back(client, own):
    path = f"/api/audits/{own}"
    assert talk.put_table(client, own, TABLE)["state"] == "done"
    before = client.get(path).json()
    assert client.post(f"{path}/restore").status_code == 404  # it is there
    assert client.delete(path).status_code == 204
    assert entry(client, own) is None
    for gone in (client.get(path), client.delete(path), client.patch(path, json={"archived": True})):
        assert gone.status_code == 404
    assert own in [one["id"] for one in client.get("/api/audits/deleted").json()]
    assert client.post(f"{path}/restore").status_code == 200
    now = client.get(path).json()
    assert now.pop("clock") > before.pop("clock") and now == before
    assert own not in [one["id"] for one in client.get("/api/audits/deleted").json()]


def test_a_duplicate_reads_the_same_and_stands_alone(client, audit, context):
    first = client.get(f"/api/audits/{audit['id']}").json()
    read = talk.read(client, audit["id"], "tilt", context)
    made = client.post(f"/api/audits/{audit['id']}/duplicate").json()
    again = client.post(f"/api/audits/{audit['id']}/duplicate").json()
    try:
        assert made["title"] == f"{first['title']}, copy" and again["title"] == f"{first['title']}, copy 2"
        assert not made["demo"] and made["ready"]
        copy = client.get(f"/api/audits/{made['id']}").json()
        assert copy["spec"] == first["spec"] and copy["counts"] == first["counts"]
        assert [one["name"] for one in copy["models"]] == [one["name"] for one in first["models"]]
        assert copy["checked_model"] in [one["id"] for one in copy["models"]]
        there = context | {
            "model": next(
                one["id"]
                for one, old in zip(copy["models"], first["models"], strict=True)
                if old["id"] == context["model"]
            )
        }
        same = talk.read(client, made["id"], "tilt", there)
        assert same["key"] == read["key"] and same["computed"] == read["computed"]
        client.delete(f"/api/audits/{made['id']}?for_good=true")
        assert talk.read(client, audit["id"], "tilt", context)["key"] == read["key"]  # the first keeps what they shared
    finally:
        for one in (made, again):
            client.delete(f"/api/audits/{one['id']}?for_good=true")


def test_an_empty_audit_is_duplicated_too(client, own):
    made = client.post(f"/api/audits/{own}/duplicate").json()
    assert client.get(f"/api/audits/{made['id']}").json()["table"] is None
    client.delete(f"/api/audits/{made['id']}?for_good=true")


@pytest.fixture
def written(running):
    """The database itself, behind the back of the program."""
    database.bind(running.postgres.address)
    with database.database.connection_context():
        yield database.database


@pytest.mark.parametrize(
    "harm",
    [
        "update audit set created = '99999-01-01' where id = %s",
        "update audit set opened = '99999-01-01' where id = %s",
        "update audit set spec = '{\"columns\": 7}' where id = %s",
        'update table_file set profile = \'{"rows": "many", "columns": {}}\' where audit_id = %s',
        "update meaning_version set body = '[]' where audit_id = %s",
        "update model_version set card = '7' where audit_id = %s",
    ],
)
def test_one_damaged_audit_breaks_no_list_and_can_be_deleted(client, audit, written, harm):
    own = client.post(f"/api/audits/{audit['id']}/duplicate").json()["id"]
    others = {one["id"] for one in client.get("/api/audits").json()} - {own}
    written.execute_sql(harm, (own,))
    listed = {one["id"] for one in client.get("/api/audits").json()}
    assert listed == {*others, own}
    assert client.get("/api/audits/flagged").status_code == 200
    for address in ("", "/findings", "/dossier", "/reports", "/tasks", "/state"):
        answer = client.get(f"/api/audits/{own}{address}")
        assert answer.status_code < 500, (address, answer.text)
    assert client.delete(f"/api/audits/{own}?for_good=true").status_code == 204
    assert {one["id"] for one in client.get("/api/audits").json()} == others
