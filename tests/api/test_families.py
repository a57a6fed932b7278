"""Where versions come from over the API: families, notes, recipes line by line, and the choice of one."""

from __future__ import annotations

import pytest
from tests.api import talk

HOME = {"gap": "selection_rate", "column": "home_area", "group": "outer isles", "reference": "harbour town"}


@pytest.fixture(scope="module")
def own(running):
    """A copy of the demo's first audit with a linear model, the same with rows weighed, and one changed from it."""
    with talk.to(running.url) as client:
        made = client.post(f"/api/audits/{talk.demo_audit(client)['id']}/duplicate").json()["id"]
        recipes = [{"estimator": "linear"}, {"estimator": "linear", "reweigh": "home_area"}]
        tasks = client.post(f"/api/audits/{made}/candidates", json={"recipes": recipes}).json()
        assert [talk.wait(client, one)["state"] for one in tasks] == ["done", "done"]
        first = by_name(client, made)["linear model 1"]["model"]
        body = {"recipes": [{"estimator": "linear", "penalty": 5}], "parent": first}
        assert talk.wait(client, client.post(f"/api/audits/{made}/candidates", json=body).json()[0])["state"] == "done"
        yield made
        client.delete(f"/api/audits/{made}?for_good=true")


def by_name(client, audit) -> dict:
    return {one["name"]: one for one in client.get(f"/api/audits/{audit}/versions").json()["versions"]}


def test_versions_stand_after_what_they_came_from(client, own):
    found = by_name(client, own)
    first = found["linear model 1"]["model"]
    assert found["linear model 3"]["parent"] == first
    assert found["linear model 3"]["why"] == "its recipe was changed into this one"
    assert (
        found["linear model 2"]["parent"] == first and found["linear model 2"]["why"] == "the same without its remedies"
    )
    assert found["linear model 2"]["remedies"][0].startswith("rows weighed so that home area")
    assert "train_again" in found["linear model 1"]["script"] and found["linear model 1"]["trained_here"]
    names = list(found)
    assert names.index("linear model 2") > names.index("linear model 1") < names.index("linear model 3")


def test_somebody_says_where_a_version_came_from_and_how_it_was_made(client, own):
    found = by_name(client, own)
    pair = (found["logistic regression v1"], found["gradient trees v3"])
    old, new = sorted(pair, key=lambda one: one["created"])
    address = f"/api/audits/{own}/versions/{new['model']}"
    told = client.put(f"{address}/parent", json={"parent": old["model"]}).json()
    assert {one["name"]: one["parent"] for one in told["versions"]}[new["name"]] == old["model"]
    refused = client.put(f"/api/audits/{own}/versions/{old['model']}/parent", json={"parent": new["model"]})
    assert refused.status_code == 422 and "cannot have come from it" in refused.json()["detail"]
    note = {"kind": "notebook cell", "text": "model.fit(<b>x</b>, y)", "author": "Ana"}
    made = client.post(f"{address}/notes", json=note).json()
    assert by_name(client, own)[new["name"]]["notes"][0] | {"id": ""} == made | {"id": ""}
    assert client.delete(f"{address}/notes/{made['id']}").status_code == 204
    assert client.delete(f"{address}/notes/{made['id']}").status_code == 404
    assert not by_name(client, own)[new["name"]]["notes"]
    client.put(f"{address}/parent", json={"parent": None})


def test_recipes_are_held_against_each_other_line_by_line(client, own):
    found = by_name(client, own)
    first, third = found["linear model 1"]["model"], found["linear model 3"]["model"]
    lines = client.get(f"/api/audits/{own}/versions/{first}/against/{third}").json()
    assert lines[0] == {"what": "penalty", "here": "1.0", "there": "5.0", "same": False}
    assert all(one["same"] for one in lines[1:]) and {"table", "library scikit-learn"} <= {one["what"] for one in lines}
    other = client.get(f"/api/audits/{own}/versions/{first}/against/{found['gradient trees v3']['model']}").json()
    assert any(one["what"] == "estimator" and not one["same"] for one in other)


def test_a_choice_needs_a_reason_and_keeps_what_was_known(client, own):
    chosen = by_name(client, own)["linear model 2"]["model"]
    address = f"/api/audits/{own}/versions/{chosen}/choice"
    refused = client.post(address, json={"reason": " "})
    assert refused.status_code == 422 and "gives a reason" in refused.json()["detail"]
    made = client.post(
        address, json={"reason": "The gap is smaller.", "traded": "Some accuracy.", "author": "Ana"}
    ).json()
    assert made["name"] == "linear model 2" and made["author"] == "Ana"
    assert made["said"][0].startswith("Of 3 candidates, ")
    assert any(one.startswith("Linear model 2, rows weighed") for one in made["said"])
    told = client.get(f"/api/audits/{own}/versions").json()
    assert told["choices"][0]["reason"] == "The gap is smaller." and by_name(client, own)["linear model 2"]["chosen"]


def test_a_gap_that_is_not_named_is_the_farthest_group(client, own):
    view = client.get(f"/api/audits/{own}/candidates", params={"gap": "selection_rate"}).json()
    assert view["gap"] == {
        "metric": "selection_rate",
        **{name: HOME[name] for name in ("column", "group", "reference")},
    }
    (one,) = view["remedied"]
    assert {group["group"] for group in one["groups"]} == {"harbour town", "outer isles", "uplands"}
    assert all(group["learnt"] == pytest.approx(one["groups"][0]["learnt"]) for group in one["groups"])
    assert view["frontier_said"][0] and any(each["dominated"] is None for each in view["table"]["standings"])


def test_all_versions_are_read_on_the_same_rows(client, own):
    first = by_name(client, own)["linear model 1"]
    context = {"model": first["model"], "rows": "hold-out", "output": "probability"}
    found = talk.read(client, own, "versions", context)["result"]
    assert found["versions"][0] == "linear model 1" and {"linear model 2", "gradient trees v3"} <= set(
        found["versions"]
    )
    at = {(one["version"], one["metric"], one["group"]): one for one in found["values"]}
    mended = at["linear model 2", "selection_rate", "outer isles"]
    assert mended["verdict"] == "higher" and mended["change"]["low"] > 0
    tilt = talk.read(client, own, "tilt", context)["result"]
    isles = next(one for one in tilt["groups"] if one["group"] == "outer isles")
    assert (
        at["linear model 1", "selection_rate", "outer isles"]["value"]["value"]
        == isles["metrics"]["selection_rate"]["value"]
    )
