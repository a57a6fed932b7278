"""What Drivers and Response ask of the server beyond one reading: arrays, expectations, findings, what is alongside."""

from __future__ import annotations

import io
import json

import psycopg2
import pyarrow.csv as pacsv
import pyarrow.parquet as pq
import pytest
from tests.api import talk


def demo_named(client, title: str) -> dict:
    found = next(one for one in client.get("/api/audits").json() if one["title"] == title)
    return client.get(f"/api/audits/{found['id']}").json()


def test_every_array_of_a_result_downloads_in_three_formats(client, audit, context):
    found = talk.read(client, audit["id"], "response", context, {"feature": "channel", "colour": "sender_kind"})
    base = f"/api/audits/{audit['id']}/evidence/{found['key']}/arrays"
    names = client.get(base).json()
    assert {"points", "parts", "curves"} <= set(names)
    for name in names:
        files = {kind: client.get(f"{base}/{name}", params={"kind": kind}) for kind in ("csv", "parquet", "json")}
        assert all(answer.status_code == 200 for answer in files.values())
        records = json.loads(files["json"].content)
        assert pq.read_table(io.BytesIO(files["parquet"].content)).to_pylist() == records
        assert pacsv.read_csv(io.BytesIO(files["csv"].content)).num_rows == len(records)
        assert f'filename="response-{name}-' in files["csv"].headers["content-disposition"]
    means = [point["mean"] for point in found["result"]["points"]]
    assert [record["mean"] for record in json.loads(client.get(f"{base}/points?kind=json").content)] == means
    assert client.get(f"{base}/nothing").status_code == 404
    assert client.get(f"{base}/points", params={"kind": "xlsx"}).status_code == 422
    assert client.get(f"/api/audits/{audit['id']}/evidence/none/arrays").status_code == 404


def test_an_expectation_is_kept_changes_no_number_and_makes_a_finding(client, audit, context):
    address = f"/api/audits/{audit['id']}"
    before = talk.read(client, audit["id"], "drivers", context)["key"]
    spec = talk.expect(client, audit["id"], "photo_attached", "none").json()["spec"]
    try:
        assert client.get(address).json()["ready"]
        assert talk.read(client, audit["id"], "drivers", context)["key"] == before
        expected = {c["name"]: c["expected"] for c in spec["columns"] if c["expected"]}
        assert expected["photo_attached"] == "none"
        found = talk.read(client, audit["id"], "expectations", context, {"expected": expected})["result"]
        assert next(one for one in found["checked"] if one["feature"] == "photo_attached")["contradicted"]
        findings = client.post(f"{address}/findings", json=context).json()
        assert sum(one["area"] == "drivers" for one in findings) == sum(one["contradicted"] for one in found["checked"])
        mine = next(one for one in findings if one["statement"].startswith("Photo attached was expected"))
        assert (mine["area"], mine["standing"]["decision"], mine["severity"]) == ("drivers", "open", "medium")
        open_before = client.post(f"{address}/glance", json=context).json()["drivers"]
        judged = {"finding": mine["name"], "decision": "accepted", "reason": "Photos are asked for."}
        assert client.put(f"{address}/findings", json=judged).status_code == 200
        assert client.put(f"{address}/findings", json=judged | {"decision": "maybe"}).status_code == 422
        again = client.post(f"{address}/findings", json=context).json()
        kept = next(one for one in again if one["name"] == mine["name"])
        assert (kept["standing"]["decision"], kept["standing"]["reason"]) == ("accepted", "Photos are asked for.")
        assert client.post(f"{address}/glance", json=context).json()["drivers"] == open_before - 1
        done = talk.wait(client, client.post(f"{address}/reports", json=context).json(), 120)
        html = client.get(f"{address}/reports/{done['result']['number']}").text
        assert "Photo attached was expected to have no effect" in html
        assert "Decision: accepted; reason: Photos are asked for." in html
    finally:
        talk.expect(client, audit["id"], "photo_attached", None)
    answer = talk.expect(client, audit["id"], "nope", "rises")
    assert answer.status_code == 422 and "no column “nope”" in answer.json()["detail"]


def test_a_version_alongside_is_read_in_the_same_evidence(client, audit, context):
    models = {model["name"]: model["id"] for model in audit["models"]}
    beside = context | {"alongside": {"model": models["random forest v2"], "rows": None}}
    found = talk.read(client, audit["id"], "response", beside, {"feature": "missed_scans"})
    alone = talk.read(
        client, audit["id"], "response", context | {"model": models["random forest v2"]}, {"feature": "missed_scans"}
    )
    assert found["digests"]["alongside"] == alone["digests"]["model"] != found["digests"]["model"]
    assert found["result"]["beside"]["mean"] == pytest.approx([p["mean"] for p in alone["result"]["points"]])
    # a method that reads nothing alongside is not computed again for it
    assert talk.read(client, audit["id"], "ale", beside)["key"] == talk.read(client, audit["id"], "ale", context)["key"]
    strange = context | {"alongside": {"model": "00000000-0000-0000-0000-000000000000", "rows": None}}
    answer = client.post(f"/api/audits/{audit['id']}/readings/response", json={"context": strange, "settings": {}})
    assert answer.status_code == 422 and "no such model version" in answer.json()["detail"]


def test_the_demo_has_every_system_and_both_sheets_serve_them(client, audit):
    assert [model["name"] for model in audit["models"]] == [
        "gradient trees v3", "logistic regression v1", "random forest v2", "small network v2",
        "gradient trees v0, withdrawn",
    ]  # fmt: skip
    days, desks = demo_named(client, "Skerry Post, days to settle"), demo_named(client, "Skerry Post, routing desk")
    assert desks["classes"] == ["front desk", "claims desk", "senior desk", "field inspection"]
    cases = [(audit, model) for model in audit["models"]] + [(days, days["models"][0]), (desks, desks["models"][0])]
    for one, model in cases:
        context = {"model": model["id"], "rows": "hold-out", "output": "probability"}
        for method, settings in (
            ("drivers", {"rows": 400, "repeats": 2, "explained": 15, "walks": 16}),
            ("response", {"feature": "declared_value"}),
            ("surface", {"first": "declared_value", "second": "photo_attached", "rows": 30, "points": 8}),
        ):
            if method == "surface" and one is audit:
                continue  # every version of an event is drawn alike
            found = talk.read(client, one["id"], method, context, settings)
            assert found["reading"]["headline"][0]["text"]
    found = talk.read(
        client, days["id"], "response", context | {"model": days["models"][0]["id"]}, {"feature": "declared_value"}
    )
    assert found["result"]["output"] == "value" and " days" in found["reading"]["headline"][0]["text"]
    found = talk.read(client, desks["id"], "response", context, {"feature": "declared_value"})["result"]
    totals = [sum(one["mean"][i] for one in found["classes"]) for i in range(len(found["points"]))]
    assert totals == pytest.approx([1] * len(totals), abs=1e-6)


def test_a_decision_outside_the_four_is_refused_by_the_database_too(running):
    connection = psycopg2.connect(**running.postgres.address)
    try:
        with connection, connection.cursor() as cursor:
            cursor.execute("select id from audit limit 1")
            (audit,) = cursor.fetchone()
            with pytest.raises(psycopg2.errors.CheckViolation):
                cursor.execute(
                    "insert into judgement (id, audit_id, finding, decision) values (gen_random_uuid(), %s, 'f', 'maybe')",
                    (audit,),
                )
    finally:
        connection.close()


@pytest.mark.parametrize(
    ("method", "settings", "array", "columns"),
    [
        (
            "drivers",
            {"rows": 400, "repeats": 2, "explained": 15, "walks": 16},
            "drivers",
            {"feature", "permutation_value"},
        ),
        ("side_by_side", {"rows": 300, "repeats": 2, "explained": 12, "walked": 16, "walks": 16}, "placed", {"rank"}),
        ("spread", {"sampled": 40, "walks": 24}, "lanes", {"feature", "p50"}),
        ("surface", {"first": "parcel_weight", "second": "channel", "points": 5, "rows": 20}, "points", {"decision"}),
        ("interactions", {"rows": 10, "draws": 2}, "pairs", {"first", "second", "strength_value"}),
        ("ale", {"feature": "parcel_weight"}, "points", {"value", "partial"}),
        ("expected", {"feature": "account_age"}, "worst", {"row", "step"}),
    ],
)
def test_each_method_s_arrays_hold_what_the_evidence_holds(client, audit, context, method, settings, array, columns):
    found = talk.read(client, audit["id"], method, context, settings)
    base = f"/api/audits/{audit['id']}/evidence/{found['key']}/arrays"
    records = json.loads(client.get(f"{base}/{array}?kind=json").content)
    assert columns <= set(records[0])
    if method == "surface":
        assert len(records) == len(found["result"]["values"]) * len(found["result"]["values"][0])
        assert [record["value"] for record in records] == [value for row in found["result"]["values"] for value in row]
    else:
        assert len(records) == len(found["result"][array])
    for kind in ("csv", "parquet"):
        assert client.get(f"{base}/{array}?kind={kind}").status_code == 200


def test_settings_of_the_sheets_are_refused_by_name(client, audit, context):
    def ended(method: str, settings: dict) -> str:
        body = {"context": context, "settings": settings}
        answer = client.post(f"/api/audits/{audit['id']}/readings/{method}", json=body)
        if answer.status_code != 200:
            return answer.text
        return talk.wait(client, answer.json()["task"])["error"]["message"]

    assert "Percentiles: 90 and 10 were given" in ended("response", {"percentiles": [90, 10]})
    assert "region: it begins at 5 and ends at 1" in ended("response", {"feature": "account_age", "low": 5, "high": 1})
    assert "colour: the table has no column “hue”" in ended("spread", {"colour": "hue", "sampled": 20})
    assert "colour: the table has no column “hue”" in ended("response", {"colour": "hue"})
    assert "“ties” is not a feature of the model" in ended("surface", {"first": "ties"})
    assert "loss: squared error was given; for binary outcomes there are" in ended("drivers", {"loss": "squared_error"})
    edits = {"first": "account_age", "second": "channel", "case": 3, "edits": {"shoe_size": "4"}}
    assert "edits: “shoe_size” is not a feature" in ended("surface", edits)
