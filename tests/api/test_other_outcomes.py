"""Audits of several classes, ordered classes and numbers through the API: the same routes, the same evidence."""

from __future__ import annotations

import pyarrow as pa
import pytest
from tests.api import talk
from tests.core import zoo


def opened(client, name: str, task: str, order: tuple[str, ...] = ()) -> tuple[str, dict]:
    kind, model, columns = zoo.made(name)
    outcome = zoo.data()[2][kind]
    if order:
        outcome = [order[code] for code in outcome]
    audit = talk.new_audit(client, f"Audit of {task}")
    assert talk.put_table(client, audit, talk.csv_bytes(pa.table(columns | {"y": outcome})))["state"] == "done"
    assert talk.put_model(client, audit, model)["state"] == "done"
    spec = talk.set_roles(
        client.get(f"/api/audits/{audit}").json()["spec"], y="outcome", **dict.fromkeys(columns, "feature")
    )
    spec |= {"task": task, "event": "", "holdout_share": 0.5}
    if order:
        for column in spec["columns"]:
            if column["name"] == "y":
                column |= {"kind": "ordered", "order": list(order)}
    talk.put_spec(client, audit, spec)
    model_id = client.get(f"/api/audits/{audit}").json()["models"][0]["id"]
    done = talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={"model": model_id}).json())
    assert done["state"] == "done", done
    return audit, {"model": model_id, "rows": "all", "output": "probability"}


@pytest.mark.parametrize(
    ("name", "task", "words"),
    [
        ("random forest of a number", "regression", "is off by"),
        ("gradient boosting, three classes", "several classes", "get their own class"),
    ],
)
def test_the_methods_serve_every_kind_of_outcome(client, name, task, words):
    audit, context = opened(client, name, task)
    read = {
        method: talk.read(client, audit, method, context, settings)
        for method, settings in (
            ("performance", {}),
            ("drivers", {"repeats": 2}),
            ("response", {}),
            ("ale", {}),
            ("ladder", {"row": 3}),
        )
    }
    said = {method: found["reading"]["headline"][0]["text"] for method, found in read.items()}
    assert words in said["performance"]
    ladder = read["ladder"]["result"]
    total = ladder["baseline"] + sum(rung["contribution"] for rung in ladder["rungs"])
    assert total == pytest.approx(ladder["prediction"], abs=1e-6)
    assert ladder["output"] == ("value" if task == "regression" else "probability")
    assert ladder["threshold"] is None and ladder["favoured"] is None
    assert read["drivers"]["result"]["loss"] == ("squared_error" if task == "regression" else "log_loss")


def test_a_class_is_read_by_its_name_and_the_classes_cancel(client):
    audit, context = opened(client, "random forest, three classes", "several classes")
    totals: dict[str, float] = {}
    for name in ("0", "1", "2"):
        found = talk.read(client, audit, "ladder", context | {"read_class": name}, {"row": 3})["result"]
        assert found["event"] == f"y is {name}" and found["method"] == "trees"
        for rung in found["rungs"]:
            totals[rung["feature"]] = totals.get(rung["feature"], 0) + rung["contribution"]
    assert all(total == pytest.approx(0, abs=1e-6) for total in totals.values())


def test_a_class_the_model_does_not_know_fails_with_those_it_knows(client):
    audit, context = opened(client, "random forest, three classes", "several classes")
    body = {"context": context | {"read_class": "9"}, "settings": {"row": 3}}
    ended = talk.wait(client, client.post(f"/api/audits/{audit}/readings/ladder", json=body).json()["task"])
    assert "“9” is none of the classes 0, 1 and 2" in ended["error"]["message"]


def test_what_is_of_an_event_alone_says_why_it_is_not_of_a_number(client):
    audit, context = opened(client, "random forest of a number", "regression")
    for settings, said in (
        ({"which": "false positive"}, "event with its absence"),
        ({"which": "wrong"}, "too high or too low"),
    ):
        body = {"context": context, "settings": settings}
        ended = talk.wait(client, client.post(f"/api/audits/{audit}/readings/cases", json=body).json()["task"])
        assert said in ended["error"]["message"]
    body = {"context": context, "settings": {}}
    ended = talk.wait(client, client.post(f"/api/audits/{audit}/readings/thresholds", json=body).json()["task"])
    assert "event" in ended["error"]["message"]
