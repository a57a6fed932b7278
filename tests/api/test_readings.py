"""Readings, background work, dossier and reports over the API."""

import json
import re
import subprocess
import time

import jsonschema
import pytest
from tests.api import talk

from zerotilt.api import contract


def test_every_method_answers_for_the_demo(client, audit, context):
    for method, settings in (
        ("performance", {}), ("drivers", {}), ("response", {"feature": "parcel_weight"}), ("cases", {}),
        ("ladder", {"row": 12}), ("tilt", {}),
    ):  # fmt: skip
        found = talk.read(client, audit["id"], method, context, settings)
        assert found["method"] == method
        assert found["reading"]["headline"][0]["text"]
        assert found["digests"]["model"] == audit["models"][0]["digest"]
        assert found["libraries"]["numpy"]


def test_evidence_is_never_computed_twice(client, audit, context):
    first = talk.read(client, audit["id"], "response", context, {"feature": "ferry_legs"})
    again = client.post(
        f"/api/audits/{audit['id']}/readings/response",
        json={"context": context, "settings": {"feature": "ferry_legs"}},
    ).json()
    assert again["task"] is None
    assert again["evidence"]["computed"] == first["computed"]
    assert again["evidence"]["key"] == first["key"]


def test_asking_twice_at_once_makes_one_task(client, audit, context):
    body = {"context": context, "settings": {"loss": "brier_score", "repeats": 25}}
    path = f"/api/audits/{audit['id']}/readings/drivers"
    first, second = client.post(path, json=body).json(), client.post(path, json=body).json()
    assert first["task"]["id"] == second["task"]["id"]
    client.post(f"{first['task']['address']}/cancel")
    talk.wait(client, first["task"])


def test_work_tells_how_far_it_is_and_can_be_cancelled(client, audit, context):
    body = {"context": context | {"rows": "training"}, "settings": {"sampled": 20_000, "walks": 9_000}}
    task = client.post(f"/api/audits/{audit['id']}/readings/spread", json=body).json()["task"]
    seen = []
    until = time.monotonic() + 30
    while len(seen) < 3 and time.monotonic() < until:
        now = client.get(task["address"]).json()
        if now["state"] == "running" and now["done"] and (not seen or now["done"] > seen[-1]["done"]):
            seen.append(now)
        time.sleep(0.05)
    assert [one["done"] for one in seen] == sorted({one["done"] for one in seen})
    assert seen[-1]["total"] >= 3_000
    assert seen[-1]["what"] == "rows explained"
    assert seen[-1]["seconds_left"] > 0
    asked = time.monotonic()
    client.post(f"{task['address']}/cancel")
    assert talk.wait(client, task)["state"] == "cancelled"
    assert time.monotonic() - asked < 5


def test_events_follow_a_task_to_its_end(client, audit, context):
    body = {"context": context, "settings": {"repeats": 37}}
    task = client.post(f"/api/audits/{audit['id']}/readings/drivers", json=body).json()["task"]
    assert task, "the whole of a method with a first look is not answered in the request"
    states = []
    with client.stream("GET", f"/api/audits/{audit['id']}/events") as events:
        for line in events.iter_lines():
            if line.startswith("data: {") and task["id"] in line:
                states.append(json.loads(line[6:])["state"])
                if states[-1] in ("done", "failed", "cancelled"):
                    break
    assert states[-1] == "done"


@pytest.mark.parametrize(
    ("method", "settings", "said"),
    [
        ("drivers", {"repeats": 1}, "It must be at least 2"),
        ("drivers", {"colour": "red"}, "It is not known here"),
        ("ladder", {}, "It is needed and was not given"),
        ("expected", {"expected": "some"}, "It must be rises or falls"),
    ],
)
def test_bad_settings_name_the_argument(client, audit, context, method, settings, said):
    answer = client.post(
        f"/api/audits/{audit['id']}/readings/{method}", json={"context": context, "settings": settings}
    )
    assert answer.status_code == 422
    problem = answer.json()
    assert said in problem["detail"]
    assert problem["where"].startswith("settings")


def test_unknown_things_are_not_found(client, audit, context):
    nowhere = "00000000-0000-0000-0000-000000000000"
    assert client.get(f"/api/audits/{nowhere}").status_code == 404
    assert client.get("/api/audits/drop table").status_code == 404
    assert client.get(f"/api/tasks/{nowhere}").status_code == 404
    assert client.get(f"/api/audits/{audit['id']}/reports/99").status_code == 404
    other = client.post(f"/api/audits/{audit['id']}/readings/tilt", json={"context": context | {"model": nowhere}})
    assert other.status_code == 422


def test_only_pages_of_this_machine_may_talk(running):
    with talk.to(running.url) as client:
        assert client.get("/api/audits", headers={"Host": "evil.example"}).status_code == 421
        refused = client.post("/api/audits", json={"title": "x"}, headers={"Origin": "http://evil.example"})
        assert refused.status_code == 403
        same = client.post("/api/audits", json={"title": "x"}, headers={"Origin": running.url})
        assert same.status_code == 201
        page = client.get("/")
        assert "default-src 'self'" in page.headers["content-security-policy"]
        assert page.headers["x-content-type-options"] == "nosniff"


def test_the_dossier_keeps_notes_and_gives_back_what_was_taken_out(client, audit, context):
    evidence = talk.read(client, audit["id"], "tilt", context)
    path = f"/api/audits/{audit['id']}/dossier"
    kept = client.post(path, json={"key": evidence["key"], "context": context}).json()
    assert client.post(path, json={"key": evidence["key"], "context": context}).json()["id"] == kept["id"]
    client.patch(f"{path}/{kept['id']}", json={"note": "Ferry legs explain <b>half</b>."})

    def notes():
        return {item["id"]: item["note"] for item in client.get(path).json()}

    assert notes()[kept["id"]] == "Ferry legs explain <b>half</b>."
    client.patch(f"{path}/{kept['id']}", json={"removed": True})
    assert kept["id"] not in notes()
    client.patch(f"{path}/{kept['id']}", json={"removed": False})
    assert kept["id"] in notes()
    assert client.post(path, json={"key": "0" * 64, "context": context}).status_code == 404


def test_a_report_is_numbered_stored_and_traceable(client, audit, context):
    evidence = talk.read(client, audit["id"], "tilt", context)
    path = f"/api/audits/{audit['id']}"
    kept = client.post(f"{path}/dossier", json={"key": evidence["key"], "context": context}).json()
    client.patch(f"{path}/dossier/{kept['id']}", json={"note": "A note with <script>alert(1)</script>"})
    numbers = []
    for _ in range(2):
        done = talk.wait(client, client.post(f"{path}/reports", json=context).json(), 120)
        assert done["state"] == "done", done
        numbers.append(done["result"]["number"])
    assert numbers[1] == numbers[0] + 1
    first = client.get(f"{path}/reports/{numbers[0]}")
    assert "sandbox" in first.headers["content-security-policy"]
    assert "<script" not in first.text
    assert "A note with &lt;script&gt;" in first.text
    assert re.findall(r"Audit report (\d+)", first.text)[0] == str(numbers[0])
    data = client.get(f"{path}/reports/{numbers[0]}/audit.json").json()
    jsonschema.validate(data, json.loads((contract.FORMATS / "audit.schema.json").read_text()))
    flagged = [d for d in data["disparities"] if d["status"] == "flagged"]
    screen = [d for d in evidence["result"]["disparities"] if d["status"] == "flagged"]
    assert [(d["group"], d["metric"], d["ratio"]["value"]) for d in flagged] == [
        (d["group"], d["metric"], d["ratio"]["value"]) for d in screen
    ]
    reading = "".join(span["text"] for span in evidence["reading"]["headline"])
    assert reading in re.sub(r"<[^>]+>", "", first.text)


def test_the_published_contract_is_current():
    for path, text in contract.documents().items():
        assert path.read_text() == text, f"run: python -m zerotilt.api.contract ({path.name})"


def test_methods_without_a_place_in_the_document_are_noticed():
    with pytest.raises(ValueError, match=r"no notes of cases, data, .*remedies"):
        contract.in_words("# Methods")


def test_the_generated_types_are_current(tmp_path):
    written = contract.NAMES / "schema.d.ts"
    again = tmp_path / "schema.d.ts"
    command = ["node_modules/.bin/openapi-typescript", str(contract.FORMATS / "openapi.json"), "-o", str(again)]
    subprocess.run(command, cwd=contract.PROJECT / "web", check=True, capture_output=True)
    assert again.read_text() == written.read_text(), "run: npm run types (in web)"
