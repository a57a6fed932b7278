"""Two windows: neither overwrites what the other wrote without a word."""

from __future__ import annotations

import uuid
from concurrent.futures import ThreadPoolExecutor

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
    talk.put_spec(client, audit, spec)
    assert talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={}).json())["state"] == "done"
    return audit


def view(client, audit):
    return client.get(f"/api/audits/{audit}").json()


def policy(client, audit, author: str, read: str | None = None, reason: str = "", **changes):
    body = {"policy": view(client, audit)["spec"]["policy"] | changes, "author": author, "reason": reason}
    return talk.put_part(client, audit, "policy", body, read)


def test_parts_are_written_apart_and_none_overwrites_another(client, own):
    old = view(client, own)
    assert policy(client, own, "Ada", ratio_low=0.9).status_code == 200
    problem = {name: old["spec"][name] for name in talk.PARTS["problem"]} | {"threshold": 0.4}
    assert talk.put_part(client, own, "problem", problem, old["meaning"]["problem"]["tag"]).status_code == 200
    now = view(client, own)["spec"]
    assert now["policy"]["ratio_low"] == 0.9 and now["policy"]["number"] == 2 and now["threshold"] == 0.4
    forged = {"policy": now["policy"] | {"number": 77}}
    assert talk.put_part(client, own, "policy", forged).json()["spec"]["policy"]["number"] == 3  # it is counted here


@pytest.mark.parametrize(
    ("part", "one", "other", "differs"),
    [
        ("problem", {"threshold": 0.3}, {"threshold": 0.6}, "It differs in “threshold”."),
        ("wording", {"wording": {"row": "loan"}}, {"wording": {"row": "case"}}, "It differs in “row”."),
        ("comparisons", {"intersections": [["g", "y"]]}, {"intersections": []}, "It differs in “intersections”."),
        ("changeable", {"allowed": [{"feature": "g", "change": "none"}]}, {"allowed": []}, "It differs in “g”."),
        ("expectations", {"expectations": {"g": "rises"}}, {"expectations": {"g": "falls"}}, "It differs in “g”."),
    ],
)
def test_a_part_read_before_another_was_written_is_a_conflict_that_says_what_changed(
    client, own, part, one, other, differs
):
    read = view(client, own)
    number = read["meaning"][part]["number"]
    tag, body = read["meaning"][part]["tag"], {name: read["spec"].get(name) for name in talk.PARTS.get(part, ())}
    first = talk.put_part(client, own, part, body | one | {"author": "Ada", "reason": "to see"}, tag)
    assert first.status_code == 200, first.text
    assert first.headers["ETag"] == f'"{first.json()["meaning"][part]["tag"]}"' != f'"{tag}"'
    second = talk.put_part(client, own, part, body | other | {"author": "Bo"}, tag)
    assert second.status_code == 409
    said = second.json()["detail"]
    assert f"was changed in another window meanwhile by Ada: version {number + 1} (to see)." in said and differs in said
    assert view(client, own)["spec"] == first.json()["spec"]
    # whoever has read what is there may write
    assert talk.put_part(client, own, part, body | other, first.headers["ETag"]).status_code == 200
    versions = client.get(f"/api/audits/{own}/meaning/{part}")
    assert [one["number"] for one in versions.json()] == [*range(number + 2, 0, -1)]
    assert versions.json()[1]["author"] == "Ada" and versions.json()[1]["body"] != versions.json()[0]["body"]
    assert client.get(f"/api/audits/{own}/meaning/nothing").status_code == 404


def test_saves_of_one_hand_within_minutes_are_one_version_but_no_older_one_is_overwritten(client, own):
    tags = []
    for threshold in (0.41, 0.42, 0.43):
        now = view(client, own)
        body = {name: now["spec"][name] for name in talk.PARTS["problem"]} | {"threshold": threshold}
        tags.append(talk.put_part(client, own, "problem", body, now["meaning"]["problem"]["tag"]).headers["ETag"])
    assert len(set(tags)) == 3
    assert client.get(f"/api/audits/{own}/meaning/problem").json()[0]["number"] <= 3
    assert talk.put_part(client, own, "problem", body | {"threshold": 0.5}, tags[0]).status_code == 409


def test_of_two_policies_after_the_same_one_the_second_is_told_of_the_first(client, own):
    tag = view(client, own)["meaning"]["policy"]["tag"]
    assert policy(client, own, "Ada", tag, "as agreed", ratio_low=0.7).status_code == 200
    second = policy(client, own, "Bo", tag)
    assert second.status_code == 409
    assert (
        "The flag policy was changed in another window meanwhile by Ada: version 2 (as agreed)."
        in second.json()["detail"]
    )


def test_policies_at_the_same_moment_are_numbered_and_none_fails(running, client, own):
    def put(number):
        with talk.to(running.url) as mine:
            return policy(mine, own, f"P{number}").status_code

    with ThreadPoolExecutor(8) as pool:
        assert set(pool.map(put, range(8))) <= {200, 409}
    numbers = [one["number"] for one in client.get(f"/api/audits/{own}/meaning/policy").json()]
    assert len(numbers) == len(set(numbers))
    assert view(client, own)["spec"]["policy"]["number"] == max(numbers)


def test_expectations_and_comparisons_at_the_same_moment_are_both_kept(running, client, own):
    def expect(name):
        with talk.to(running.url) as mine:
            while True:  # whoever comes second reads again and writes then
                now = view(mine, own)
                known = {one["name"]: one["expected"] for one in now["spec"]["columns"] if one["expected"]}
                body = {"expectations": known | {name: "rises"}}
                answer = talk.put_part(mine, own, "expectations", body, now["meaning"]["expectations"]["tag"])
                if answer.status_code != 409:
                    return answer.status_code

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
    talk.put_spec(client, own, spec | {"threshold": 0.3})
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
    talk.put_spec(client, twin, spec)
    assert talk.wait(client, client.post(f"/api/audits/{twin}/finish", json={}).json())["state"] == "done"
    assert client.get(f"/api/audits/{twin}/evidence/{found['key']}/arrays").status_code == 404
    assert talk.read(client, twin, "tilt", context)["computed"] == found["computed"]  # the same, not again
    assert client.get(f"/api/audits/{twin}/evidence/{found['key']}/arrays").status_code == 200
    assert client.delete(f"/api/audits/{own}?for_good=true").status_code == 204
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
    digest = client.get(f"/api/audits/{own}/reports/{number}/manifest.json").json()["files"]["report.html"]
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
    written = f"/api/audits/{own}/reports/1"
    assert client.post(f"{written}/signatures", json={"name": "Ada", "role": "reviewer"}).status_code == 201
    (found,) = client.get(f"/api/audits/{own}/reports").json()
    manifest = client.get(f"{written}/manifest.json").json()
    report = [found["digest"], found["signatures"][0]["digest"], *manifest["files"].values()]
    twin = talk.new_audit(client)
    raw = (running.home.files / table["uploaded_digest"][:2] / table["uploaded_digest"]).read_bytes()
    talk.put_table(client, twin, raw)
    assert client.delete(f"/api/audits/{own}/dossier/{item['id']}").status_code == 204
    assert client.get(f"/api/audits/{own}/dossier").json() == []
    assert client.delete(f"/api/audits/{own}?for_good=true").status_code == 204
    assert client.get(f"/api/audits/{own}").status_code == 404

    def there(digest):
        return (running.home.files / digest[:2] / digest).exists()

    assert there(table["digest"]) and there(table["uploaded_digest"])  # the other audit has the same table
    assert not any(there(one) for one in report)
    assert client.delete(f"/api/audits/{twin}/table").status_code == 204
    assert not there(table["digest"]) and not there(table["uploaded_digest"])
    assert client.get(f"/api/audits/{twin}").json()["table"] is None
    assert client.delete(f"/api/audits/{twin}/models/{twin}").status_code == 404
    client.delete(f"/api/audits/{twin}?for_good=true")
