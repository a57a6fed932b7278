"""Candidates over the API: trained as work, compared on the same folds, looked at once and counted."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import pytest
from tests.api import talk

QUICK = [{"estimator": "linear"}, {"estimator": "one tree"}]


@pytest.fixture(scope="module")
def own(running):
    """A copy of the demo's first audit with two candidates."""
    with talk.to(running.url) as client:
        made = client.post(f"/api/audits/{talk.demo_audit(client)['id']}/duplicate").json()["id"]
        tasks = client.post(f"/api/audits/{made}/candidates", json={"recipes": QUICK}).json()
        assert [talk.wait(client, one)["state"] for one in tasks] == ["done", "done"]
        yield made
        client.delete(f"/api/audits/{made}?for_good=true")


def test_candidates_are_model_versions_and_compared(client, own):
    view = client.get(f"/api/audits/{own}/candidates").json()
    assert view["metrics"][0] == view["table"]["metric"] == "log_loss" and view["others"] == 0
    assert {one["name"] for one in view["candidates"]} == {"linear model 1", "one tree 1"}
    assert view["table"]["leader"] == "linear model 1" and view["table"]["rows"] == 5_400
    assert view["reading"][0].startswith("Of 2 candidates, linear model 1 has the smallest log loss: ")
    models = {one["name"]: one for one in client.get(f"/api/audits/{own}").json()["models"]}
    for one in view["candidates"]:
        assert models[one["name"]]["id"] == one["model"] and one["test"] is None
        assert "train_again" in one["script"] and one["seconds"] > 0
    context = {"model": view["candidates"][0]["model"], "rows": "hold-out", "output": "probability"}
    read = talk.read(client, own, "performance", context)
    held = {one["metric"]: one["value"] for one in read["result"]["measures"]} if "measures" in read["result"] else {}
    assert not held or abs(held["log_loss"] - view["table"]["standings"][0]["validation"]["value"]) < 0.1


def test_the_gap_of_a_group_stands_beside(client, own):
    asked = {
        "metric": "auc",
        "gap": "selection_rate",
        "column": "home_area",
        "group": "outer isles",
        "reference": "harbour town",
    }
    view = client.get(f"/api/audits/{own}/candidates", params=asked).json()
    assert view["table"]["metric"] == "auc" and view["table"]["larger_is_better"]
    assert all(one["gap"]["high"] < 0 for one in view["table"]["standings"] if one["name"] == "linear model 1")
    assert "outer isles" in next(one for one in view["groups"] if one["attribute"] == "home_area")["groups"]
    refused = client.get(f"/api/audits/{own}/candidates", params={"metric": "rmse"})
    assert refused.status_code == 422 and "is not measured of these candidates" in refused.json()["detail"]


def test_rows_put_aside_are_told_once_somebody_looks_and_every_look_is_counted(client, own):
    before = client.get(f"/api/audits/{own}/candidates").json()
    model = before["candidates"][0]["model"]
    seen = client.post(f"/api/audits/{own}/candidates/{model}/look").json()
    assert seen["test"]["rows"] == 600 and 0.3 < seen["test"]["values"]["log_loss"] < 0.9 and seen["looks"] == 1
    client.post(f"/api/audits/{own}/candidates/{model}/look")
    after = client.get(f"/api/audits/{own}/candidates").json()
    assert after["looks"] == before["looks"] + 2
    assert [one["test"] is not None for one in after["candidates"]].count(True) == 1
    assert client.post(f"/api/audits/{own}/candidates/{own}/look").status_code == 404


def test_what_is_there_already_is_not_trained_again(client, own):
    again = client.post(f"/api/audits/{own}/candidates", json={"recipes": QUICK})
    assert again.status_code == 422 and "was trained already" in again.json()["detail"]
    wrong = client.post(f"/api/audits/{own}/candidates", json={"recipes": [{"estimator": "oracle"}]})
    assert wrong.status_code == 422


def test_the_same_asked_for_at_the_same_moment_is_trained_once(client, own, running):
    """Two tabs, a double click, a starter set posted twice: joined by recipe, under one name each."""
    wanted = {"recipes": [{"estimator": "naive Bayes", "seed": 77}, {"estimator": "one tree", "seed": 78}]}

    def ask(_: int) -> list[dict]:
        with talk.to(running.url) as other:
            answer = other.post(f"/api/audits/{own}/candidates", json=wanted)
        return answer.json() if answer.status_code == 202 else []

    with ThreadPoolExecutor(8) as people:
        every = [task for tasks in people.map(ask, range(8)) for task in tasks]
    assert len({task["id"] for task in every}) == 2
    assert {talk.wait(client, task)["state"] for task in every[:2]} == {"done"}
    names = [one["name"] for one in client.get(f"/api/audits/{own}").json()["models"]]
    assert len(names) == len(set(names)) and sum("naive Bayes" in one for one in names) == 1
    search = {"search": {"seconds": 5}}
    with ThreadPoolExecutor(4) as people:
        told = list(
            people.map(
                lambda _: client.post(f"/api/audits/{own}/candidates/search", json=search).json()["id"], range(4)
            )
        )
    assert len(set(told)) == 1
    client.post(f"/api/audits/{own}/tasks/{told[0]}/cancel")
    for model in client.get(f"/api/audits/{own}").json()["models"]:
        if model["name"] in ("naive Bayes 1", "one tree 2"):
            client.delete(f"/api/audits/{own}/models/{model['id']}")


def test_other_folds_are_not_compared_with_these_and_a_failure_is_said(client, own):
    dealing = {"folds": 3, "test_share": 0}
    tasks = client.post(
        f"/api/audits/{own}/candidates",
        json={
            "recipes": [
                {"estimator": "linear", "dealing": dealing},
                {"estimator": "linear", "dealing": {"folds": 3, "together": "channel"}},
            ]
        },
    ).json()
    ended = [talk.wait(client, one) for one in tasks]
    assert ended[0]["state"] == "done" and ended[1]["state"] == "failed"
    assert "the column has 3 values in these rows" in ended[1]["error"]["message"]
    view = client.get(f"/api/audits/{own}/candidates").json()
    assert [one["name"] for one in view["candidates"]] == ["linear model 2"] and view["others"] == 2
    model = view["candidates"][0]["model"]
    none = client.post(f"/api/audits/{own}/candidates/{model}/look")
    assert none.status_code == 422 and "No rows were put aside" in none.json()["detail"]
    assert client.delete(f"/api/audits/{own}/models/{model}").status_code == 204
    assert len(client.get(f"/api/audits/{own}/candidates").json()["candidates"]) == 2
