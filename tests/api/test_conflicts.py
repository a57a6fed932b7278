"""Two windows: neither overwrites what the other wrote without a word."""

from __future__ import annotations

import uuid
from concurrent.futures import ThreadPoolExecutor

import httpx
import pyarrow as pa
import pytest
from tests.api import talk


def recorded(name: str) -> bytes:
    """Ninety rows with scores; no other table has a group of this name."""
    n = 90
    columns = {
        "g": [f"p {name}", "q", "r"] * (n // 3),
        "score": [i / n for i in range(n)],
        "y": [int(i > 40) for i in range(n)],
    }
    return talk.csv_bytes(pa.table(columns))


@pytest.fixture
def own(client):
    """A finished audit of recorded scores."""
    name = str(uuid.uuid4())  # no other audit has the same report or table
    audit = talk.new_audit(client, f"Audit of its own {name}")
    talk.put_table(client, audit, recorded(name))
    spec = client.get(f"/api/audits/{audit}").json()["spec"]
    spec = talk.set_roles(spec, g="group", score="score", y="outcome") | {"event": "1"}
    client.put(f"/api/audits/{audit}/spec", json=spec)
    assert talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={}).json())["state"] == "done"
    return audit


def view(client, audit):
    return client.get(f"/api/audits/{audit}").json()


def policy(client, audit, author: str, after: int | None = None, **changes):
    body = {"policy": view(client, audit)["spec"]["policy"] | changes, "author": author, "after": after}
    return client.put(f"/api/audits/{audit}/policy", json=body)


def test_an_older_window_cannot_put_an_older_policy_in_force(client, own):
    old = view(client, own)["spec"]
    assert policy(client, own, "Ada", ratio_low=0.9).status_code == 200
    saved = client.put(f"/api/audits/{own}/spec", json=old | {"threshold": 0.4})
    assert saved.status_code == 200
    now = view(client, own)["spec"]
    assert now["policy"]["ratio_low"] == 0.9 and now["policy"]["number"] == 2 and now["threshold"] == 0.4
    forged = old | {"policy": old["policy"] | {"number": 77, "alpha": 0.5}}
    client.put(f"/api/audits/{own}/spec", json=forged)
    assert view(client, own)["spec"]["policy"] == now["policy"]


def test_a_meaning_read_before_another_was_written_is_a_conflict_in_words(client, own):
    read = view(client, own)
    first = client.put(f"/api/audits/{own}/spec", params={"version": read["version"]}, json=read["spec"])
    assert first.json()["version"] == read["version"] + 1
    second = client.put(f"/api/audits/{own}/spec", params={"version": read["version"]}, json=read["spec"])
    assert second.status_code == 409
    assert "changed in another window" in second.json()["detail"]


def test_of_two_policies_after_the_same_one_the_second_is_told_of_the_first(client, own):
    assert policy(client, own, "Ada", after=1).status_code == 200
    second = policy(client, own, "Bo", after=1)
    assert second.status_code == 409
    assert "Flag policy 2 was put in force meanwhile, chosen by Ada" in second.json()["detail"]


def test_policies_at_the_same_moment_are_numbered_and_none_fails(running, client, own):
    def put(number):
        with httpx.Client(base_url=running.url, timeout=60) as mine:
            return policy(mine, own, f"P{number}").status_code

    with ThreadPoolExecutor(8) as pool:
        assert set(pool.map(put, range(8))) <= {200, 409}
    numbers = [one["number"] for one in client.get(f"/api/audits/{own}/policies").json()]
    assert len(numbers) == len(set(numbers))
    assert view(client, own)["spec"]["policy"]["number"] == max(numbers)


def test_expectations_and_comparisons_at_the_same_moment_are_both_kept(running, client, own):
    def expect(name):
        with httpx.Client(base_url=running.url, timeout=60) as mine:
            body = {"feature": name, "expected": "rises"}
            return mine.put(f"/api/audits/{own}/expectations", json=body).status_code

    names = [column["name"] for column in view(client, own)["spec"]["columns"]]
    with ThreadPoolExecutor(4) as pool:
        assert set(pool.map(expect, names)) == {200}
    assert all(column["expected"] == "rises" for column in view(client, own)["spec"]["columns"])


def kept(client, audit):
    found = talk.read(client, audit, "tilt", {"rows": "all"})
    return client.post(f"/api/audits/{audit}/dossier", json={"key": found["key"], "context": {"rows": "all"}}).json()


def test_a_note_written_elsewhere_is_not_overwritten(client, own):
    item = kept(client, own)
    path = f"/api/audits/{own}/dossier/{item['id']}"
    assert client.patch(path, json={"note": "mine", "noted": item["noted"]}).status_code == 200
    second = client.patch(path, json={"note": "yours", "noted": item["noted"]})
    assert second.status_code == 409
    assert "it reads: “mine”" in second.json()["detail"]


def test_what_is_kept_says_what_has_changed_since(client, own):
    item = kept(client, own)
    assert item["changed"] == []
    policy(client, own, "Ada", ratio_low=0.9)
    (again,) = client.get(f"/api/audits/{own}/dossier").json()
    assert again["changed"] == ["the flag policy"]
    spec = view(client, own)["spec"]
    client.put(f"/api/audits/{own}/spec", json=spec | {"threshold": 0.3})
    (again,) = client.get(f"/api/audits/{own}/dossier").json()
    assert "the meaning of its columns" in again["changed"]
    talk.wait(client, client.post(f"/api/audits/{own}/finish", json={}).json())
    task = talk.wait(client, client.post(f"/api/audits/{own}/reports", json={"rows": "all"}).json())
    assert task["state"] == "done", task
    html = client.get(f"/api/audits/{own}/reports/1").text
    assert "Older than this report" in html and "the flag policy" in html


def test_evidence_of_another_audit_is_neither_kept_nor_read(client, own, audit, context):
    found = talk.read(client, audit["id"], "tilt", context)
    answer = client.post(f"/api/audits/{own}/dossier", json={"key": found["key"], "context": {"rows": "all"}})
    assert answer.status_code == 404
    assert client.get(f"/api/audits/{own}/evidence/{found['key']}/arrays").status_code == 404
    assert client.get(f"/api/audits/{audit['id']}/evidence/{found['key']}/arrays").status_code == 200


def test_what_another_audit_computed_is_shared_only_when_it_is_asked_for(client, own):
    context = {"rows": "all"}
    found = talk.read(client, own, "tilt", context)
    spec, name = view(client, own)["spec"], view(client, own)["title"].rsplit(" ", 1)[1]
    twin = talk.new_audit(client, "Its twin")
    talk.put_table(client, twin, recorded(name))
    client.put(f"/api/audits/{twin}/spec", json=spec)
    assert talk.wait(client, client.post(f"/api/audits/{twin}/finish", json={}).json())["state"] == "done"
    assert client.get(f"/api/audits/{twin}/evidence/{found['key']}/arrays").status_code == 404
    assert talk.read(client, twin, "tilt", context)["computed"] == found["computed"]  # the same, not again
    assert client.get(f"/api/audits/{twin}/evidence/{found['key']}/arrays").status_code == 200
    assert client.delete(f"/api/audits/{own}").status_code == 204
    assert talk.read(client, twin, "tilt", context)["computed"] == found["computed"]


def test_a_task_is_there_under_its_own_audits_address_alone(client, own, audit):
    task = client.post(f"/api/audits/{own}/finish", json={}).json()
    assert task["address"] == f"/api/audits/{own}/tasks/{task['id']}"
    for address in (f"/api/audits/{audit['id']}/tasks/{task['id']}", f"/api/tasks/{task['id']}"):
        assert client.get(address).status_code == client.post(f"{address}/cancel").status_code == 404
    assert talk.wait(client, task)["state"] == "done"
    assert client.get(f"/api/audits/{uuid.uuid4()}/events").status_code == 404


def test_a_report_that_was_altered_or_is_missing_is_not_served(client, own, running):
    task = talk.wait(client, client.post(f"/api/audits/{own}/reports", json={"rows": "all"}).json())
    number = task["result"]["number"]
    digest = next(r["digest"] for r in client.get(f"/api/audits/{own}/reports").json() if r["number"] == number)
    path = running.home.files / digest[:2] / digest
    original = path.read_bytes()
    path.write_bytes(original.replace(b"Audit report", b"Audit forged"))
    forged = client.get(f"/api/audits/{own}/reports/{number}")
    assert forged.status_code == 409 and "was changed after it was written" in forged.json()["detail"]
    path.unlink()
    assert client.get(f"/api/audits/{own}/reports/{number}").status_code == 410
    path.write_bytes(original)
    assert client.get(f"/api/audits/{own}/reports/{number}").status_code == 200


def test_a_replaced_table_is_not_computed_under_the_original_name(client, own, running):
    table = view(client, own)["table"]
    path = running.home.files / table["digest"][:2] / table["digest"]
    original = path.read_bytes()
    path.write_bytes(original[:-1] + b"x")
    answer = client.post(
        f"/api/audits/{own}/readings/tilt", json={"context": {"rows": "all"}, "settings": {"reference": "best-off"}}
    )
    task = talk.wait(client, answer.json()["task"])
    assert task["state"] == "failed"
    assert "was changed: its content is not what it was" in task["error"]["message"]
    path.write_bytes(original)


def test_deleting_takes_what_nothing_else_needs_and_leaves_the_rest(client, own, running):
    talk.wait(client, client.post(f"/api/audits/{own}/reports", json={"rows": "all"}).json())
    item = kept(client, own)
    held = client.get(f"/api/audits/{own}/holds").json()
    assert held["reports"] == 1 and held["kept"] == 1 and held["tables"] == 1
    table = view(client, own)["table"]
    report = client.get(f"/api/audits/{own}/reports").json()[0]["digest"]
    twin = talk.new_audit(client)
    raw = (running.home.files / table["uploaded_digest"][:2] / table["uploaded_digest"]).read_bytes()
    talk.put_table(client, twin, raw)
    assert client.delete(f"/api/audits/{own}/dossier/{item['id']}").status_code == 204
    assert client.get(f"/api/audits/{own}/dossier").json() == []
    assert client.delete(f"/api/audits/{own}").status_code == 204
    assert client.get(f"/api/audits/{own}").status_code == 404

    def there(digest):
        return (running.home.files / digest[:2] / digest).exists()

    assert there(table["digest"]) and there(table["uploaded_digest"])  # the other audit has the same table
    assert not there(report)
    assert client.delete(f"/api/audits/{twin}/table").status_code == 204
    assert not there(table["digest"]) and not there(table["uploaded_digest"])
    assert client.get(f"/api/audits/{twin}").json()["table"] is None
    assert client.delete(f"/api/audits/{twin}/models/{twin}").status_code == 404
    client.delete(f"/api/audits/{twin}")
