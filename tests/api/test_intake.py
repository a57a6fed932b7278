"""Intake over the API: good files and bad ones."""

import hashlib
import io
import time

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from skl2onnx import to_onnx
from sklearn.linear_model import LogisticRegression
from tests.api import talk
from tests.core import zoo

from zerotilt.store.files import FileStore


@pytest.fixture(scope="module")
def loans():
    rng = np.random.default_rng(3)
    n = 1_200
    income, region = rng.normal(40, 12, n).round(1), rng.choice(["north", "south"], n)
    paid = rng.random(n) < 1 / (1 + np.exp(-(income - 38) / 8))
    score = np.clip(1 / (1 + np.exp(-(income - 40) / 9)) + np.where(region == "south", -0.1, 0.0), 0, 1)
    return pa.table({"income": income, "region": region, "score": score.round(4), "paid": np.where(paid, "yes", "no")})


def test_from_a_table_with_scores_to_a_finished_audit(client, loans):
    audit = talk.new_audit(client)
    assert talk.put_table(client, audit, talk.csv_bytes(loans))["result"] == {"rows": 1_200}
    view = client.get(f"/api/audits/{audit}").json()
    guesses = {column["name"]: column["role"] for column in view["spec"]["columns"]}
    assert guesses == {"income": "feature", "region": "group", "score": "score", "paid": "outcome"}
    assert view["spec"]["event"] == "yes"
    done = talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={}).json())
    assert done["state"] == "done", done
    view = client.get(f"/api/audits/{audit}").json()
    assert view["ready"] and view["counts"] == {"hold-out": 360, "training": 840, "all": 1_200}
    found = talk.read(client, audit, "performance", {"rows": "hold-out"})
    # scores were recorded and nothing splits the rows: nothing was trained on any of them here
    assert view["only_all"]
    assert [(one["which"], one["rows"]) for one in found["result"]["sets"]] == [("all", 1_200)]
    assert (
        "the predictions were recorded, and whether the model was trained on these very rows is not known"
        in found["reading"]["detail"]
    )
    tilt = talk.read(client, audit, "tilt", {"rows": "all"})
    assert {group["group"] for group in tilt["result"]["groups"]} == {"north", "south"}


def test_a_model_is_needed_for_what_asks_about_new_rows(client, loans):
    audit = talk.new_audit(client)
    talk.put_table(client, audit, talk.csv_bytes(loans))
    talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={}).json())
    answer = client.post(f"/api/audits/{audit}/readings/drivers", json={"context": {}, "settings": {}}).json()
    failed = talk.wait(client, answer["task"])
    assert failed["state"] == "failed"
    assert "needs a model" in failed["error"]["message"]


def test_the_version_that_intake_was_finished_with_is_known(client):
    audit = talk.demo_audit(client)
    assert audit["checked_model"] == audit["models"][0]["id"]


def test_a_corrected_dialect_reads_the_table_again(client):
    audit = talk.new_audit(client)
    talk.put_table(client, audit, b"a;b\n1.234;x\n5.678;z\n")
    view = client.get(f"/api/audits/{audit}").json()
    assert view["table"]["profile"]["columns"][0]["stored"] == "double"
    dialect = view["table"]["profile"]["dialect"] | {"decimal": ",", "thousands": "."}
    talk.wait(client, client.post(f"/api/audits/{audit}/table/reread", json={"dialect": dialect}).json())
    column = client.get(f"/api/audits/{audit}").json()["table"]["profile"]["columns"][0]
    assert (column["stored"], column["high"]) == ("int64", 5678)


def test_marks_for_no_value_are_counted_named_and_kept(client):
    audit = talk.new_audit(client)
    talk.put_table(client, audit, b"n,y\n" + b"1,a\n2,b\n?,a\nNA,b\n" * 20)
    profile = client.get(f"/api/audits/{audit}").json()["table"]["profile"]
    assert {one["level"]: one["rows"] for one in profile["marks"]} == {"?": 20, "NA": 20}
    assert (profile["columns"][0]["stored"], profile["columns"][0]["missing"]) == ("int64", 40)
    assert profile["notes"] == ["“?” is read as no value: all else in “n” is a number."]
    dialect = profile["dialect"] | {"missing": ["?"]}
    talk.wait(client, client.post(f"/api/audits/{audit}/table/reread", json={"dialect": dialect}).json())
    again = client.get(f"/api/audits/{audit}").json()["table"]["profile"]
    assert again["columns"][0]["missing"] == 20 and "NA" in [one["level"] for one in again["columns"][0]["levels"]]
    assert {one["level"]: one["rows"] for one in again["marks"]} == {"?": 20, "NA": 20}


def test_the_classes_of_a_model_tell_which_column_is_the_outcome_until_a_person_has_said_it(client):
    rng = np.random.default_rng(6)
    x = rng.normal(size=200)
    verdict = np.where(x + rng.normal(size=200) > 0, "granted", "refused")
    table = pa.table({"x": x, "verdict": verdict, "again": rng.choice(["yes", "no"], 200)})
    fitted = LogisticRegression().fit(x[:, None], verdict)
    options = {id(fitted): {"zipmap": False}}
    file = to_onnx(fitted, x[:1, None].astype(np.float32), options=options, target_opset={"": 18, "ai.onnx.ml": 3})
    for said in (False, True):
        audit = talk.new_audit(client)
        talk.put_table(client, audit, talk.csv_bytes(table))
        spec = client.get(f"/api/audits/{audit}").json()["spec"]
        assert [one["role"] for one in spec["columns"]] == ["feature", "feature", "outcome"]
        if said:
            talk.put_spec(client, audit, talk.set_roles(spec, x="ignored"))
        talk.put_model(client, audit, file.SerializeToString())
        spec = client.get(f"/api/audits/{audit}").json()["spec"]
        roles = {one["name"]: one["role"] for one in spec["columns"]}
        assert roles["verdict"] == ("feature" if said else "outcome")
        assert roles["again"] == ("outcome" if said else "ignored")
        if not said:
            assert spec["event"] in ("granted", "refused") and spec["favourable_said"]


def test_what_was_entered_is_carried_over_to_another_table(client, loans):
    audit = talk.new_audit(client)
    talk.put_table(client, audit, talk.csv_bytes(loans))
    spec = talk.set_roles(client.get(f"/api/audits/{audit}").json()["spec"], income="ignored")
    spec["wording"] |= {"rows": "loans"}
    talk.put_spec(client, audit, spec)
    changed = loans.append_column("extra", pa.array(["a", "b"] * 600)).drop_columns("score")
    coded = changed.set_column(0, "income", pa.array([f"about {value}" for value in range(1_200)]))
    talk.put_table(client, audit, talk.csv_bytes(coded))
    found = client.get(f"/api/audits/{audit}").json()["spec"]
    columns = {column["name"]: column for column in found["columns"]}
    assert set(columns) == {"income", "region", "paid", "extra"}
    assert (columns["income"]["role"], columns["income"]["kind"]) == ("ignored", "text")
    assert columns["region"]["role"] == "group"
    assert (found["wording"]["rows"], found["event"]) == ("loans", "yes")


def test_marks_that_are_the_same_are_refused(client, loans):
    audit = talk.new_audit(client)
    talk.put_table(client, audit, talk.csv_bytes(loans))
    dialect = client.get(f"/api/audits/{audit}").json()["table"]["profile"]["dialect"]
    answer = client.post(f"/api/audits/{audit}/table/reread", json={"dialect": dialect | {"thousands": "."}})
    assert answer.status_code == 422
    assert "both “.”" in answer.json()["detail"]
    for encoding in ("klingon", "hex", "rot13", "undefined", ""):
        answer = client.post(f"/api/audits/{audit}/table/reread", json={"dialect": dialect | {"encoding": encoding}})
        assert answer.status_code == 422 and "is not an encoding known here" in answer.json()["detail"], encoding


def test_changing_a_role_asks_for_finishing_again_but_wording_does_not(client, loans):
    audit = talk.new_audit(client)
    talk.put_table(client, audit, talk.csv_bytes(loans))
    talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={}).json())
    spec = client.get(f"/api/audits/{audit}").json()["spec"]
    spec["wording"] |= {"rows": "loans", "favourable": "granted"}
    assert talk.put_spec(client, audit, spec)["ready"]
    reading = talk.read(client, audit, "performance", {"rows": "all"})["reading"]
    assert "loans" in reading["headline"][0]["text"]
    changed = talk.set_roles(spec, region="ignored")
    assert not talk.put_spec(client, audit, changed)["ready"]
    refused = client.post(f"/api/audits/{audit}/readings/tilt", json={"context": {}, "settings": {}})
    assert refused.status_code == 422
    assert refused.json()["todo"] == "Finish Intake first."


@pytest.mark.parametrize(
    ("data", "message", "where"),
    [
        (b"a,b\n1,2\n3\n", "1 values", "line 3"),
        (b"a,b\n", "no rows", "line 2"),
        (b"a,a\n1,2\n", "called “a”", "header, line 1"),
        (b"PAR1 and nothing more", "cut off or damaged", None),
    ],
)
def test_a_bad_table_fails_with_its_place_and_the_earlier_one_stays(client, running, loans, data, message, where):
    audit = talk.new_audit(client)
    talk.put_table(client, audit, talk.csv_bytes(loans), "good.csv")
    failed = talk.put_table(client, audit, data, "bad.csv")
    assert failed["state"] == "failed"
    assert message in failed["error"]["message"]
    assert failed["error"]["where"] == where
    assert client.get(f"/api/audits/{audit}").json()["table"]["name"] == "good.csv"
    kept, until = FileStore(running.home.files), time.monotonic() + 10
    while hashlib.sha256(data).hexdigest() in set(kept.digests()):  # thrown away right after the failure is told
        assert time.monotonic() < until
        time.sleep(0.05)


def test_an_empty_upload_is_refused_at_once(client):
    audit = talk.new_audit(client)
    answer = client.put(f"/api/audits/{audit}/table", params={"name": "e.csv"}, content=b"")
    assert answer.status_code == 422
    assert answer.headers["content-type"] == "application/problem+json"
    assert answer.json()["detail"] == "The file is empty."


def test_a_bad_model_fails_and_is_not_listed(client, loans):
    audit = talk.new_audit(client)
    talk.put_table(client, audit, talk.csv_bytes(loans))
    failed = talk.put_model(client, audit, b"this is not ONNX")
    assert failed["state"] == "failed"
    assert "not an ONNX model" in failed["error"]["message"] or "not ONNX" in failed["error"]["message"]
    assert client.get(f"/api/audits/{audit}").json()["models"] == []


def test_what_is_predicted_is_told_by_the_model_until_somebody_says_it(client):
    kind, model, columns = zoo.made("random forest of a number")
    few = np.clip(zoo.data()[2][kind] // 3, 1, 5).astype(int)
    data = talk.csv_bytes(pa.table(columns | {"y": few}))

    def problem(audit: str) -> tuple[str, str]:
        view = client.get(f"/api/audits/{audit}").json()
        return view["spec"]["task"], view["meaning"]["problem"]["author"]

    first = talk.new_audit(client)
    talk.put_table(client, first, data)
    assert problem(first) == ("several classes", "")
    talk.put_model(client, first, model)
    assert problem(first) == ("regression", "")
    other_way = talk.new_audit(client)
    talk.put_model(client, other_way, model)
    talk.put_table(client, other_way, data)
    assert problem(other_way) == ("regression", "")
    said = talk.new_audit(client)
    talk.put_table(client, said, data)
    spec = client.get(f"/api/audits/{said}").json()["spec"]
    talk.put_spec(client, said, spec | {"task": "ordered classes"})
    talk.put_model(client, said, model)
    assert problem(said) == ("ordered classes", "somebody unnamed")


def test_roles_that_do_not_work_are_said_on_finishing(client, loans):
    audit = talk.new_audit(client)
    talk.put_table(client, audit, talk.csv_bytes(loans))
    spec = client.get(f"/api/audits/{audit}").json()["spec"]
    for changes, message in (
        ({"event": "maybe"}, "“maybe” is not in the outcome column"),
        (talk.set_roles(spec, income="score", score="ignored"), "outside 0 to 1"),
        (talk.set_roles(spec, income="outcome"), "both marked as outcome"),
    ):
        talk.put_spec(client, audit, spec | changes)
        answer = client.post(f"/api/audits/{audit}/finish", json={}).json()
        told = talk.wait(client, answer)["error"]["message"] if "state" in answer else answer["detail"]
        assert message in told
        assert not client.get(f"/api/audits/{audit}").json()["ready"]


def test_an_upload_that_breaks_off_leaves_nothing(client, running):
    import socket
    import time

    audit = talk.new_audit(client)
    before = set(running.home.files.rglob("*"))
    with socket.create_connection(("127.0.0.1", running.port)) as line:
        line.sendall(
            f"PUT /api/audits/{audit}/table?name=t.csv HTTP/1.1\r\nHost: 127.0.0.1:{running.port}\r\n"
            f"Authorization: Bearer {running.home.key}\r\nContent-Length: 1000000\r\n\r\na,b\r\n1,2\r\n".encode()
        )
        until = time.monotonic() + 10
        while set(running.home.files.rglob("*")) == before:  # it is being written
            assert time.monotonic() < until
    while set(running.home.files.rglob("*")) != before:  # and gone once the line is cut
        assert time.monotonic() < until
        time.sleep(0.02)
    assert client.get(f"/api/audits/{audit}").json()["table"] is None


def test_pictures_in_a_table_are_kept_and_the_audit_reads_the_rest(client, running):
    rows = 300
    sink = io.BytesIO()
    chance = np.linspace(0.01, 0.99, rows)
    given = {
        "picture": pa.array([bytes([row % 256]) * 5_000 for row in range(rows)]),
        "letter": [f"Row {row}: " + "a long tale. " * 40 for row in range(rows)],
        "area": ["hill" if row % 3 else "shore" for row in range(rows)],
        "score": chance,
        "paid": (np.arange(rows) * 7 % rows < chance * rows).astype(int),
    }
    pq.write_table(pa.table(given), sink)
    audit = talk.new_audit(client)
    assert talk.put_table(client, audit, sink.getvalue(), "letters.parquet")["state"] == "done"
    spec = client.get(f"/api/audits/{audit}").json()["spec"]
    kinds = {column["name"]: (column["kind"], column["role"]) for column in spec["columns"]}
    assert kinds["picture"] == ("bytes", "ignored") and kinds["letter"] == ("text", "ignored")
    wrong = talk.set_roles(spec, score="score", area="group", paid="outcome", picture="feature") | {"event": "1"}
    refused = talk.put_part(client, audit, "schema", {"columns": wrong["columns"]})
    assert refused.status_code == 422 and "“picture” holds bytes" in refused.text
    talk.put_spec(client, audit, talk.set_roles(spec, score="score", area="group", paid="outcome") | {"event": "1"})
    assert talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={}).json())["state"] == "done"
    cases = talk.read(client, audit, "cases", {"rows": "all"})["result"]
    assert cases["total"] == rows
