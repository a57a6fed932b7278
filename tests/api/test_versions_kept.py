"""Lineage goes where an audit goes; what compares all versions says when there is another one."""

from __future__ import annotations

import io

import pytest
from tests.api import talk

from zerotilt.store import archive, database, removal
from zerotilt.store.files import FileStore
from zerotilt.stored import audit_named


@pytest.fixture
def own(running, client):
    made = client.post(f"/api/audits/{talk.demo_audit(client)['id']}/duplicate").json()["id"]
    yield made
    client.delete(f"/api/audits/{made}?for_good=true")


def versions(client, audit) -> list[dict]:
    return client.get(f"/api/audits/{audit}/versions").json()["versions"]


def test_families_notes_and_choices_are_copied_and_archived(running, client, own):
    first, second, *_ = sorted(versions(client, own), key=lambda one: one["created"])
    at = f"/api/audits/{own}/versions"
    assert client.put(f"{at}/{second['model']}/parent", json={"parent": first["model"]}).status_code == 200
    client.post(f"{at}/{second['model']}/notes", json={"kind": "git commit", "text": "0123abc"})
    client.post(f"{at}/{second['model']}/choice", json={"reason": "It is plainer.", "author": "Ana"})
    copied = client.post(f"/api/audits/{own}/duplicate").json()["id"]
    told = {one["name"]: one for one in versions(client, copied)}
    assert told[second["name"]]["parent"] == told[first["name"]]["model"] != first["model"]
    assert not told[second["name"]]["chosen"]  # a choice is of the audit that it was made in
    client.delete(f"/api/audits/{copied}?for_good=true")

    database.bind(running.postgres.address)
    files = FileStore(running.home.files)
    before = client.get(at).json()
    with database.database.connection_context():
        audit, sink = audit_named(own), io.BytesIO()
        archive.export(audit, files, sink)
        with database.database.atomic():
            gone = removal.remove_audit(audit, files)
        removal.discard(files, gone)
        sink.seek(0)
        archive.restore(sink, files)
    assert client.get(at).json() == before
    assert before["choices"][0]["name"] == second["name"] and before["choices"][0]["said"] == []


def test_a_kept_comparison_says_that_there_is_another_version(client, own):
    models = client.get(f"/api/audits/{own}").json()["models"]
    context = {"model": models[0]["id"], "rows": "hold-out", "output": "probability"}
    key = talk.read(client, own, "versions", context)["key"]
    client.post(f"/api/audits/{own}/dossier", json={"key": key, "context": context})
    item = client.get(f"/api/audits/{own}/dossier").json()[0]
    assert item["changed"] == []
    body = {"recipes": [{"estimator": "one tree", "dealing": {"folds": 2}}]}
    assert talk.wait(client, client.post(f"/api/audits/{own}/candidates", json=body).json()[0])["state"] == "done"
    assert client.get(f"/api/audits/{own}/dossier").json()[0]["changed"] == ["the other model versions"]
    again = talk.read(client, own, "versions", context)
    assert again["key"] != key and "one tree 1" in again["result"]["versions"]


def test_versions_that_are_gone_are_not_chosen_any_more_but_the_choice_stays(client, own):
    last = versions(client, own)[-1]
    client.post(f"/api/audits/{own}/versions/{last['model']}/choice", json={"reason": "For now."})
    client.delete(f"/api/audits/{own}/models/{last['model']}")
    told = client.get(f"/api/audits/{own}/versions").json()
    assert told["choices"][0]["name"] == last["name"] and told["choices"][0]["model"] is None
    assert last["name"] not in {one["name"] for one in told["versions"]}
    nowhere = f"/api/audits/{own}/versions/{last['model']}"
    assert client.get(f"{nowhere}/against/{last['model']}").status_code == 404
    assert client.post(f"{nowhere}/notes", json={"kind": "note", "text": "x"}).status_code == 404
    assert client.post(f"{nowhere}/notes", json={"kind": "magic", "text": "x"}).status_code == 422


def test_a_context_cannot_name_other_versions_by_itself(client, own):
    models = client.get(f"/api/audits/{own}").json()["models"]
    context = {
        "model": models[0]["id"], "rows": "hold-out", "output": "probability",
        "others": [{"name": "smuggled", "digest": "0" * 64}], "model_named": "smuggled",
    }  # fmt: skip
    found = talk.read(client, own, "versions", context)
    assert "smuggled" not in found["result"]["versions"]
    plain = {name: context[name] for name in ("model", "rows", "output")}
    keys = [talk.read(client, own, "performance", one)["key"] for one in (context, plain)]
    assert keys[0] == keys[1]  # what somebody names there is read by nothing
