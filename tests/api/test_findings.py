"""Findings over the API: gathered, decided, talked about, taken apart, raised by hand; and counted alike everywhere."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import httpx
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
    assert client.get("/api/audits/flagged").json()[audit["id"]] == len(listed(client, home, {"model": version}))
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
    assert [line["author"] for line in history] == ["B. Writer", "local"]
    assert history[0]["changes"]["decision"] == ["open", "mended"] and history[0]["changes"]["due"] == [
        None,
        "2027-02-03",
    ]
    assert (history[1]["said"], history[1]["changes"]) == (text, {})


def test_who_has_not_read_the_last_decision_writes_over_nothing(client, running, context, home):
    one = listed(client, home, context)[1]

    def decide(owner: str) -> int:
        with httpx.Client(base_url=running.url, timeout=60) as own:
            body = {"finding": one["name"], "decision": "watched", "owner": owner, "read": one["number"]}
            return own.put(f"{home}/findings", json=body).status_code

    with ThreadPoolExecutor(6) as pool:
        answers = list(pool.map(decide, "abcdef"))
    assert sorted(answers) == [200, 409, 409, 409, 409, 409]
    late = client.put(f"{home}/findings", json={"finding": one["name"], "decision": "open", "read": one["number"]})
    assert late.status_code == 409 and "decided in another window meanwhile by local: watched" in late.json()["detail"]


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
