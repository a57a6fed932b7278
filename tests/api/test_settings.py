"""Settings of one audit taken for another's table, from the audit or from its file."""

from __future__ import annotations

import tomllib
import uuid

import pytest
from tests.api import talk

from zerotilt import settings_file
from zerotilt.core.meaning import Rule
from zerotilt.settings_file import HowRead

FIRST = b"size,area,gone,claimed,granted\n" + b"".join(
    b"%d,%s,x,%s,%s\n"
    % (i % 17, (b"north", b"south")[i % 3 == 0], (b"yes", b"no")[i % 2], (b"accepted", b"turned down")[i % 5 > 2])
    for i in range(60)
)
SECOND = FIRST.replace(b"gone", b"new").replace(b"north", b"west")


@pytest.fixture
def two(client):
    """An audit that is described, and another with a table like its own."""
    made = [talk.new_audit(client, f"Settings {uuid.uuid4().hex[:8]}") for _ in range(2)]
    for audit, data in zip(made, (FIRST, SECOND), strict=True):
        assert talk.put_table(client, audit, data)["state"] == "done"
    spec = client.get(f"/api/audits/{made[0]}").json()["spec"]
    spec = talk.set_roles(spec, claimed="outcome", granted="decision", area="group", gone="group")
    described = spec | {
        "event": "yes",
        "favourable": "other",
        "favourable_said": True,
        "decision_means": {"accepted": "yes", "turned down": "no"},
        "threshold": 0.3,
        "wording": spec["wording"] | {"row": "claim", "rows": "claims"},
        "intersections": [["area", "gone"]],
    }
    talk.put_spec(client, made[0], described)
    yield made
    for audit in made:
        client.delete(f"/api/audits/{audit}?for_good=true")


def taken(client, into: str, **body) -> dict:
    answer = client.post(f"/api/audits/{into}/settings", json=body)
    assert answer.status_code == 200, answer.text
    return answer.json()


def test_another_audits_settings_are_taken_and_what_does_not_fit_is_named(client, two):
    first, second = two
    done = taken(client, second, audit=first)
    spec = done["audit"]["spec"]
    roles = {column["name"]: column["role"] for column in spec["columns"]}
    assert roles == {
        "size": "feature",
        "area": "group",
        "new": "ignored",
        "claimed": "outcome",
        "granted": "decision",
    }
    assert (spec["event"], spec["favourable"], spec["threshold"], spec["wording"]["row"]) == (
        "yes",
        "other",
        0.3,
        "claim",
    )
    assert spec["decision_means"] == {"accepted": "yes", "turned down": "no"}
    said = " ".join(done["unfit"])
    assert "The table has no column “gone”." in said and "do not speak of “new”" in said
    assert "The crossing of “area” and “gone” is left out" in said
    # who wrote it, and why, is on record
    schema = client.get(f"/api/audits/{second}/meaning/schema").json()
    title = client.get(f"/api/audits/{first}").json()["title"]
    assert schema[0]["reason"] == f"as in “{title}”" and schema[0]["author"] == "somebody unnamed"
    # and the audit can be finished with them
    ended = talk.wait(client, client.post(f"/api/audits/{second}/finish", json={"model": None}).json())
    assert ended["state"] == "done", ended


def test_a_file_does_the_same_and_takes_everything_back(client, two):
    first, second = two
    before = client.get(f"/api/audits/{second}/settings")
    assert before.headers["content-type"].startswith("application/toml")
    assert before.headers["content-disposition"].endswith('.toml"')
    own = client.get(f"/api/audits/{second}").json()["spec"]
    text = client.get(f"/api/audits/{first}/settings", params={"rows": "all"}).text
    assert tomllib.loads(text)["reading"]["rows"] == "all"
    by_file = taken(client, second, file=text)
    back = taken(client, second, file=before.text)
    assert back["unfit"] == [] and back["audit"]["spec"] == own
    assert taken(client, second, audit=first)["audit"]["spec"] | {"policy": None} == by_file["audit"]["spec"] | {
        "policy": None
    }


def test_taking_what_holds_already_writes_no_version(client, two):
    first, _ = two
    number = client.get(f"/api/audits/{first}").json()["meaning"]
    text = client.get(f"/api/audits/{first}/settings").text
    again = taken(client, first, file=text)
    assert again["audit"]["meaning"] == number and again["unfit"] == []


def test_the_settings_of_the_demo_fit_it(client, audit):
    """With a model's decision rule, and the model that the page reads."""
    text = client.get(f"/api/audits/{audit['id']}/settings", params={"model": audit["models"][0]["id"]}).text
    found = settings_file.read(text)
    assert found.spec.model_dump(mode="json") == audit["spec"]
    assert found.model == f"{audit['models'][0]['name']}.onnx"


def test_a_decision_rule_is_named_and_left_where_it_was_answered_for(client, two):
    first, second = two
    found = settings_file.read(client.get(f"/api/audits/{first}/settings").text)
    ruled = found.model_copy(update={"reading": HowRead(rule=Rule(threshold=0.4))})
    done = taken(client, second, file=settings_file.written(ruled))
    assert "A decision rule is not taken" in done["unfit"][-1]
    assert done["audit"]["spec"]["threshold"] == 0.3


def test_what_cannot_be_taken_is_refused(client, two):
    first, second = two
    path = f"/api/audits/{second}/settings"
    for body, status, said in (
        ({}, 422, "Either another audit or a file"),
        ({"audit": first, "file": "zerotilt = 1"}, 422, "Either another audit or a file"),
        ({"file": "not = toml ="}, 422, "not written as TOML"),
        ({"file": "zerotilt = 1\n[problem]\nthreshold = 7"}, 422, "problem.threshold: it must be at most 1"),
        ({"audit": str(uuid.uuid4())}, 404, ""),
        ({"audit": "no such"}, 404, ""),
    ):
        answer = client.post(path, json=body)
        assert (answer.status_code, said in answer.json()["detail"]) == (status, True), answer.text
    bare = talk.new_audit(client, "Settings of nothing")
    assert client.post(path, json={"audit": bare}).status_code == 422
    assert client.get(f"/api/audits/{bare}/settings").status_code == 422
    assert client.post(f"/api/audits/{bare}/settings", json={"audit": first}).status_code == 422
    client.delete(f"/api/audits/{bare}?for_good=true")
    assert client.get(f"/api/audits/{second}").json()["spec"]["event"] != "?"
