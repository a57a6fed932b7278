"""Segments as they are kept: what is refused in words, what stays when a table lacks a column, and what keys know."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
from tests.api import talk


@pytest.fixture
def own(client):
    """A finished audit of recorded scores."""
    rng = np.random.default_rng(1)
    n = 400
    made = pa.table(
        {
            "area": rng.choice(["north", "south"], n),
            "weight": rng.normal(5, 2, n).round(2),
            "score": rng.random(n).round(3),
            "paid": rng.choice(["yes", "no"], n),
        }
    )
    audit = talk.new_audit(client, "Segments of its own")
    assert talk.put_table(client, audit, talk.csv_bytes(made))["state"] == "done"
    spec = client.get(f"/api/audits/{audit}").json()["spec"]
    talk.put_spec(client, audit, talk.set_roles(spec, area="group", score="score", paid="outcome") | {"event": "yes"})
    assert talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={}).json())["state"] == "done"
    yield audit, made
    assert client.delete(f"/api/audits/{audit}", params={"for_good": True}).status_code in (200, 204)


def heavy(name: str = "heavy", over: float = 6) -> dict:
    return {"name": name, "conditions": [{"column": "weight", "over": over}]}


@pytest.mark.parametrize(
    ("segments", "words"),
    [
        ([heavy(f"s{i}") for i in range(10_000)], "an audit keeps up to 300 segments; with these it would have 10,000"),
        ([heavy(), heavy()], "two segments have the same name, “heavy”"),
        ([{"name": "nothing"}], "neither conditions nor picked rows"),
        ([{"name": "odd", "conditions": [{"column": "weight"}]}], "the condition on “weight” says nothing"),
        ([heavy() | {"alternatives": [[]]}], "an alternative without a condition"),
        ([heavy("n" * 121)], "no longer than so many characters: 120"),
    ],
)
def test_what_cannot_be_kept_is_refused_in_words_and_nothing_is_lost(client, own, segments, words):
    audit, _ = own
    kept = talk.put_part(client, audit, "comparisons", {"segments": [heavy("kept")]})
    assert kept.status_code == 200
    refused = talk.put_part(client, audit, "comparisons", {"segments": segments})
    assert refused.status_code == 422 and words.lower() in refused.text.lower(), refused.text[:400]
    assert [one["name"] for one in client.get(f"/api/audits/{audit}").json()["spec"]["segments"]] == ["kept"]


def test_three_hundred_segments_are_kept_and_compared(client, own):
    audit, made = own
    many = [heavy(f"over {i / 20}", i / 20) for i in range(300)]
    assert talk.put_part(client, audit, "comparisons", {"segments": many}).status_code == 200
    found = talk.read(client, audit, "segments", {"rows": "all"})["result"]
    weight = made.column("weight").to_numpy()
    assert [one["rows"] for one in found["segments"]] == [int((weight > i / 20).sum()) for i in range(300)]


def test_a_segment_stays_when_a_new_table_lacks_its_column_and_reads_again_when_it_is_back(client, own):
    audit, made = own
    north = {"name": "north", "conditions": [{"column": "area", "levels": ["north"]}]}
    assert talk.put_part(client, audit, "comparisons", {"segments": [heavy(), north]}).status_code == 200
    without = talk.csv_bytes(made.drop_columns(["weight"]))
    assert talk.put_table(client, audit, without)["state"] == "done"
    assert talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={}).json())["state"] == "done"
    spec = client.get(f"/api/audits/{audit}").json()["spec"]
    assert [one["name"] for one in spec["segments"]] == ["heavy", "north"]
    found = talk.read(client, audit, "segments", {"rows": "all"})["result"]
    assert [one["name"] for one in found["segments"]] == ["north"]
    assert found["notes"] == ["Not read, since the table lacks what they ask about: “heavy”."]
    task = client.post(
        f"/api/audits/{audit}/readings/performance", json={"context": {"rows": "all", "segment": heavy()}}
    ).json()
    task = task.get("task") or task
    said = talk.wait(client, task)["error"]["message"] if "id" in task else task["detail"]
    assert "asks about “weight”, which this table does not have" in said
    tilt = talk.read(client, audit, "tilt", {"rows": "all"})["result"]
    of_segments = next(one for one in tilt["attributes"] if one["attribute"] == "(segments)")
    assert "Not read, since the table lacks a column: “heavy”." in of_segments["note"]
    assert talk.put_table(client, audit, talk.csv_bytes(made))["state"] == "done"
    assert talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={}).json())["state"] == "done"
    again = talk.read(client, audit, "segments", {"rows": "all"})["result"]
    assert [one["name"] for one in again["segments"]] == ["heavy", "north"]


def test_keys_know_conditions_and_not_how_they_are_called_or_came_about(client, own):
    audit, made = own

    def read(segment: dict) -> dict:
        return talk.read(client, audit, "performance", {"rows": "all", "segment": segment})

    first = read(heavy())
    assert first["rows"] == int((made.column("weight").to_numpy() > 6).sum())
    assert read(heavy() | {"source": "cut by equal counts"})["key"] == first["key"]
    turned = read({"name": "heavy", "conditions": [{"column": "weight", "over": 6, "negated": True}]})
    assert turned["rows"] == made.num_rows - first["rows"] and turned["key"] != first["key"]
    wider = read(heavy() | {"alternatives": [[{"column": "area", "levels": ["north"]}]]})
    assert wider["rows"] > first["rows"] and wider["key"] != first["key"]
