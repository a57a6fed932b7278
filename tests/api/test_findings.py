"""Findings over the API: gathered, decided, talked about, taken apart, raised by hand; and counted alike everywhere."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pyarrow as pa
import pytest
from tests.api import talk


@pytest.fixture
def home(client, audit, context):
    """The demo's address for findings, with its groups compared; whatever a test decided is open again afterwards."""
    talk.read(client, audit["id"], "tilt", context)
    address = f"/api/audits/{audit['id']}"
    yield address
    for one in listed(client, address, context):
        if one["standing"]["decision"] != "open":
            client.put(f"{address}/findings", json={"finding": one["name"], "decision": "open"})


def listed(client, address: str, context: dict) -> list[dict]:
    return client.post(f"{address}/findings", json=context).json()


def named(client, address: str, context: dict, name: str) -> dict:
    return next(one for one in listed(client, address, context) if one["name"] == name)


def test_the_same_count_on_rail_front_page_and_report(client, audit, context, home):
    found = listed(client, home, context)
    assert client.post(f"{home}/glance", json=context).json()["tilt"] == sum(one["area"] == "tilt" for one in found)
    version = audit["checked_model"]
    assert client.get("/api/audits/flagged").json()[audit["id"]]["open"] == len(
        listed(client, home, {"model": version})
    )
    done = talk.wait(client, client.post(f"{home}/reports", json=context).json())
    report = next(one for one in client.get(f"{home}/reports").json() if one["number"] == done["result"]["number"])
    assert report["flagged"] == len(listed(client, home, context))
    outer = next(one for one in found if one["group"] == "outer isles" and one["columns"] == ["home_area"])
    metrics = {part["metric"] for part in outer["parts"] if len(part["columns"]) == 1}
    assert "selection_rate" in metrics and len(metrics) > 1  # planted: one fact, whatever the metric
    assert all(part["gap"]["value"] is not None for part in outer["parts"])


def test_a_decision_needs_what_it_stands_on_and_is_remembered(client, context, home):
    one = listed(client, home, context)[0]
    put = {"finding": one["name"], "read": one["number"]}
    for wanted, said in (
        ({"decision": "accepted"}, "with a reason"),
        ({"decision": "accepted", "reason": "  "}, "with a reason"),
        ({"decision": "mended"}, "in which model version"),
    ):
        answer = client.put(f"{home}/findings", json=put | wanted)
        assert answer.status_code == 422 and said in answer.json()["detail"]
    before = client.get(f"{home}/findings/history", params={"finding": one["name"]}).json()
    wanted = {"decision": "mended", "version": "v4", "owner": "A. Reader", "due": "2027-02-03", "author": "B. Writer"}
    number = client.put(f"{home}/findings", json=put | wanted).json()
    assert number == one["number"] + 1
    assert client.put(f"{home}/findings", json=put | wanted | {"read": number}).json() == number  # nothing new
    now = named(client, home, context, one["name"])
    assert now["standing"] == {
        "decision": "mended",
        "reason": "",
        "version": "v4",
        "owner": "A. Reader",
        "due": "2027-02-03",
    }
    text = "<script>alert(1)</script> =1+1"
    assert client.post(f"{home}/findings/history", json={"finding": one["name"], "said": text}).status_code == 201
    assert client.post(f"{home}/findings/history", json={"finding": one["name"], "said": "  "}).status_code == 422
    history = client.get(f"{home}/findings/history", params={"finding": one["name"]}).json()[len(before) :]
    assert [line["author"] for line in history] == ["B. Writer", "somebody unnamed"]
    assert history[0]["changes"]["decision"] == ["open", "mended"] and history[0]["changes"]["due"] == [
        None,
        "2027-02-03",
    ]
    assert (history[1]["said"], history[1]["changes"]) == (text, {})


def test_who_has_not_read_the_last_decision_writes_over_nothing(client, running, context, home):
    one = listed(client, home, context)[1]

    def decide(owner: str) -> int:
        with talk.to(running.url) as own:
            body = {"finding": one["name"], "decision": "watched", "owner": owner, "read": one["number"]}
            return own.put(f"{home}/findings", json=body).status_code

    with ThreadPoolExecutor(6) as pool:
        answers = list(pool.map(decide, "abcdef"))
    assert sorted(answers) == [200, 409, 409, 409, 409, 409]
    late = client.put(f"{home}/findings", json={"finding": one["name"], "decision": "open", "read": one["number"]})
    assert (
        late.status_code == 409
        and "decided in another window meanwhile by somebody unnamed: watched" in late.json()["detail"]
    )


def test_a_part_is_taken_apart_and_put_back(client, context, home):
    whole = next(one for one in listed(client, home, context) if len(one["parts"]) > 2)
    part = whole["parts"][1]["name"]
    body = {"finding": part, "apart": True}
    assert client.put(f"{home}/findings/gathering", json=body).status_code == 204
    try:
        assert client.put(f"{home}/findings/gathering", json=body).status_code == 204  # twice is once
        alone, rest = named(client, home, context, part), named(client, home, context, whole["name"])
        assert alone["apart"] and [one["name"] for one in alone["parts"]] == [part]
        assert part not in {one["name"] for one in rest["parts"]}
    finally:
        client.put(f"{home}/findings/gathering", json=body | {"apart": False})
    assert named(client, home, context, whole["name"])["parts"] == whole["parts"]
    lines = client.get(f"{home}/findings/history", params={"finding": part}).json()
    assert [line["said"].split(" ")[0] for line in lines][-2:] == ["Taken", "Put"]


def test_a_finding_raised_by_hand_stands_with_the_others_and_in_the_report(client, audit, context):
    own = client.post(f"/api/audits/{audit['id']}/duplicate").json()["id"]
    address = f"/api/audits/{own}"
    context = context | {"model": client.get(address).json()["models"][0]["id"]}
    key = talk.read(client, own, "performance", context)["key"]
    body = {"statement": "Too good to be <b>true</b>.", "key": key, "context": context, "author": "A. Reader"}
    name = client.post(f"{address}/findings/raised", json=body).json()
    mine = named(client, address, context, name)
    assert (mine["area"], mine["severity"], mine["author"], mine["evidence"]) == ("intake", "medium", "A. Reader", key)
    assert client.post(f"{address}/findings/raised", json=body | {"key": "0" * 64}).status_code == 404
    assert client.post(f"{address}/findings/raised", json=body | {"statement": " "}).status_code == 422
    decided = {"finding": name, "decision": "to mend", "reason": "See the leak.", "owner": "C."}
    client.put(f"{address}/findings", json=decided)
    done = talk.wait(client, client.post(f"{address}/reports", json=context).json())
    html = client.get(f"{address}/reports/{done['result']['number']}").text
    assert (
        "Too good to be &lt;b&gt;true&lt;/b&gt;. Raised by A. Reader. Decision: to mend; reason: See the leak; seen to by C."
        in html
    )
    assert key in html
    # its evidence stays as long as the finding does, and goes with the audit
    model = context["model"]
    assert client.delete(f"{address}/models/{model}").status_code in (200, 204)
    assert named(client, address, {"model": None}, name)["statement"] == body["statement"]
    client.delete(f"{address}?for_good=true")


def test_a_pocket_that_was_decided_about_is_measured_again_on_another_version(client, audit, context):
    own = client.post(f"/api/audits/{audit['id']}/duplicate").json()["id"]
    address = f"/api/audits/{own}"
    models = {one["name"]: one["id"] for one in client.get(address).json()["models"]}
    there, here = (context | {"model": models[name]} for name in ("gradient trees v3", "random forest v2"))
    talk.read(client, own, "pockets", there)
    one = next(one for one in listed(client, address, there) if one["area"] == "pockets")
    (part,) = one["parts"]
    body = {"finding": one["name"], "evidence": one["evidence"], "read": 0, "author": "Ada"}
    client.put(f"{address}/findings", json=body | {"decision": "accepted", "reason": "A coin is a coin."})
    for _ in range(200):
        found = client.post(f"{address}/findings/again", json=here).json()
        if not found["waiting"]:
            break
        time.sleep(0.1)
    (before,) = [each for each in found["findings"] if each["finding"].startswith("pocket|")]
    (again,) = before["parts"]
    assert again["again"]["before"]["value"] == part["gap"]["value"]
    halving, _, conditions = part["name"].rsplit(" [", 1)[0].split("|", 2)[2].partition("|")
    read = talk.read(client, own, "pocket", here, {"conditions": conditions, "halving": int(halving)})["result"]
    # held against what the scores themselves foretell there
    told = read["gap"]["inside"]["value"] / read["gap"]["foretold"]
    assert again["again"]["now"]["value"] == pytest.approx(told)
    client.delete(f"{address}?for_good=true")


def test_what_was_decided_on_another_version_is_measured_again_and_asks_to_be_looked_at(client, audit, context):
    own = client.post(f"/api/audits/{audit['id']}/duplicate").json()["id"]
    address = f"/api/audits/{own}"
    models = {one["name"]: one["id"] for one in client.get(address).json()["models"]}
    first, second = models["gradient trees v3"], models["small network v2"]
    there, here = context | {"model": first}, context | {"model": second}

    def again(read: dict) -> list[dict]:
        for _ in range(100):
            found = client.post(f"{address}/findings/again", json=read).json()
            if not found["waiting"]:
                return found["findings"]
            time.sleep(0.05)
        raise AssertionError("it is still measured")

    one = next(one for one in listed(client, address, there) if one["group"] == "outer isles")
    body = {"finding": one["name"], "evidence": one["evidence"], "read": 0, "author": "Ada"}
    decided = body | {"decision": "accepted", "reason": "Known since spring."}
    assert client.put(f"{address}/findings", json=decided).json() == 1
    assert again(there) == []  # it was decided on this version
    assert again(there | {"rows": "training"}) == []  # other rows are another question
    (before,) = again(here)
    assert (before["model"], before["author"], before["looked"]) == ("gradient trees v3", "Ada", False)
    assert (before["other_model"], before["other_table"]) == (True, False)
    assert before["statement"] == one["statement"] and before["standing"]["reason"] == "Known since spring."
    # the same change that the sheet shows of both versions of the same rows
    beside = talk.read(client, own, "tilt", here | {"alongside": {"model": first}})["result"]["disparities"]
    assert len(before["parts"]) == len(one["parts"])
    for part, was in zip(before["parts"], one["parts"], strict=True):
        assert part["again"]["same_rows"]
        disparity = next(d for d in beside if f"{d['attribute']}: {d['group']} · {d['metric']}" in was["name"])
        change = disparity["change"][f"{disparity['judged']}_change"]
        assert part["again"]["change"] == change
        assert part["again"]["before"]["value"] == was["gap"]["value"]
        now = disparity[disparity["judged"]]["value"]
        assert part["again"]["now"]["value"] == now and not disparity["corrected"]
        expected = now / was["gap"]["value"] if disparity["judged"] == "ratio" else now - was["gap"]["value"]
        assert part["again"]["change"]["value"] == pytest.approx(expected)
    # looked at: it stands here as it stood there, and is asked for no more
    taken = before["standing"] | {
        "finding": before["finding"],
        "evidence": before["evidence"],
        "read": before["number"],
    }
    assert client.put(f"{address}/findings", json=taken | {"author": "Bo"}).json() == 1
    assert [one["looked"] for one in again(here)] == [True]
    now = next(one for one in listed(client, address, here) if one["name"] == before["finding"])
    assert now["standing"]["decision"] == "accepted" and before["there"]
    client.delete(f"{address}?for_good=true")


def tilted(seed: int, group: str = "b") -> bytes:
    """Recorded scores of two groups, the second of which is hardly ever favoured."""
    rng = np.random.default_rng(seed)
    g = rng.integers(0, 2, 600)
    scores = np.clip(rng.normal(0.6 - 0.25 * g, 0.15), 0, 1)
    columns = {"g": np.where(g == 1, group, "a"), "score": scores, "y": rng.integers(0, 2, 600)}
    return talk.csv_bytes(pa.table(columns))


def audit_of(client, table: bytes) -> str:
    own = talk.new_audit(client, "Audit of two tables")
    talk.put_table(client, own, table)
    spec = client.get(f"/api/audits/{own}").json()["spec"]
    talk.put_spec(client, own, talk.set_roles(spec, g="group", score="score", y="outcome") | {"event": "1"})
    assert talk.wait(client, client.post(f"/api/audits/{own}/finish", json={}).json())["state"] == "done"
    return own


def test_on_another_table_the_same_finding_is_measured_on_its_rows(client):
    own = audit_of(client, tilted(1))
    address, context = f"/api/audits/{own}", {"model": None, "rows": "all"}
    talk.read(client, own, "tilt", context)
    one = listed(client, address, context)[0]
    body = {"finding": one["name"], "evidence": one["evidence"], "decision": "accepted", "reason": "Yes.", "read": 0}
    client.put(f"{address}/findings", json=body)
    assert client.post(f"{address}/findings/again", json=context).json()["findings"] == []
    talk.put_table(client, own, tilted(9))
    assert talk.wait(client, client.post(f"{address}/finish", json={}).json())["state"] == "done"
    found = talk.read(client, own, "tilt", context)["result"]["disparities"]
    (before,) = client.post(f"{address}/findings/again", json=context).json()["findings"]
    assert (before["other_table"], before["other_model"], before["looked"]) == (True, False, False)
    assert before["finding"] == one["name"]
    (part, *_), was = before["parts"], one["parts"][0]["gap"]
    disparity = next(d for d in found if f"{d['attribute']}: {d['group']} · {d['metric']}" in one["parts"][0]["name"])
    now = disparity[was["scale"]]
    assert part["again"]["now"] == now and not part["again"]["same_rows"]
    change = part["again"]["change"]["value"]
    expected = now["value"] / was["value"] if was["scale"] == "ratio" else now["value"] - was["value"]
    assert change == pytest.approx(expected)
    # looked at: the line of history says so, though nothing about the decision has changed
    assert client.put(f"{address}/findings", json=body | {"evidence": before["evidence"], "read": 1}).json() == 2
    assert client.post(f"{address}/findings/again", json=context).json()["findings"] == []
    lines = client.get(f"{address}/findings/history", params={"finding": one["name"]}).json()
    assert lines[-1]["said"] == "Looked at again: accepted still."
    # what it was compared with is not there any more: nobody can tell
    talk.put_table(client, own, tilted(9, group="c"))
    assert talk.wait(client, client.post(f"{address}/finish", json={}).json())["state"] == "done"
    talk.read(client, own, "tilt", context)
    (gone,) = client.post(f"{address}/findings/again", json=context).json()["findings"]
    assert gone["verdict"] == "cannot be told"
    assert "since it is compared with c now, and was with b" in gone["parts"][0]["sentence"]
    client.delete(f"{address}?for_good=true")
