"""Requests meant to hurt: each is answered in words, and nothing of it is kept or sent back."""

from __future__ import annotations

import json
import threading
from concurrent.futures import ThreadPoolExecutor

import pytest
from tests.api import talk


@pytest.mark.parametrize(
    ("body", "said"),
    [
        (b'{"title": "a\\u0000b"}', "NUL character"),
        (b'{"title": "\\ud800"}', "no text"),
        (b'{"title": NaN}', "NaN is no number"),
        (b'{"title": 1e999}', "beyond any number"),
        (b'{"title": "\xff"}', "no text"),
        (b"[" * 100_000, "cannot be read as JSON|nested too deeply"),
        (b"{", "cannot be read as JSON"),
    ],
)
def test_what_no_text_or_number_can_hold_is_refused(client, body, said):
    answer = client.post("/api/audits", content=body, headers={"content-type": "application/json"})
    assert answer.status_code == 422
    assert any(one in answer.json()["detail"] for one in said.split("|")), answer.text
    assert len(answer.content) < 1_000


def test_what_was_given_is_never_sent_back_at_length(client, audit):
    long = "x" * 100_000
    own = f"/api/audits/{audit['id']}"
    column = audit["spec"]["columns"][0] | {"name": long}
    schema = {name: audit["spec"][name] for name in ("columns", "model_inputs", "model_readings", "holdout_values")}
    for method, path, body in (
        ("PUT", f"{own}/versions/{audit['models'][1]['id']}/parent", {"parent": long}),
        ("PUT", f"{own}/meaning/schema", schema | {"columns": [column], "author": "I"}),
        ("POST", f"{own}/readings/tilt", {"context": {"model": long}, "settings": {}}),
        ("POST", f"{own}/readings/{long[:5_000]}", {"context": {"model": None}, "settings": {}}),
        ("GET", f"{own}/tasks/{long[:5_000]}", None),
    ):
        answer = client.request(method, path, json=body)
        assert 400 <= answer.status_code < 500 and len(answer.content) < 1_000, (path[:80], answer.text[:300])


def test_a_large_body_that_is_no_upload_is_refused_unread_and_not_sent_back(client):
    answer = client.post("/api/audits", json={"title": "x" * 3_000_000})
    assert answer.status_code == 413
    assert "xxx" not in answer.text


def test_a_large_body_without_a_length_is_refused_as_well(client):
    def pieces():
        for _ in range(40):
            yield b" " * 65_536

    answer = client.post("/api/audits", content=pieces(), headers={"content-type": "application/json"})
    assert answer.status_code == 413


@pytest.mark.parametrize("path", ["/api/audits/%00", "/api/audits/nobody", "/api/audits/" + "9" * 400, "/api/tasks/x"])
def test_addresses_that_name_nothing_are_told_so(client, path):
    answer = client.get(path)
    assert answer.status_code in (404, 422)
    assert answer.headers["content-type"].startswith("application/problem+json")


def test_a_model_version_that_is_no_identifier_is_refused(client, audit):
    body = {"context": {"model": "nobody", "alongside": {"model": "nobody either"}}}
    answer = client.post(f"/api/audits/{audit['id']}/readings/drivers", json=body)
    assert answer.status_code == 422
    assert "no such model version" in answer.json()["detail"]


def test_numbers_out_of_range_are_refused(client, audit):
    assert client.get(f"/api/audits/{audit['id']}/reports/99999999999999").status_code == 404
    body = {"policy": {"ratio_low": -1}, "author": "A"}
    assert talk.put_part(client, audit["id"], "policy", body).status_code == 422


def test_sixty_readers_at_once_are_all_answered(client, running, audit):

    def read(_):
        with talk.to(running.url) as own:
            return own.get(f"/api/audits/{audit['id']}").status_code

    gate = threading.Barrier(1)
    gate.wait()
    with ThreadPoolExecutor(60) as pool:
        found = list(pool.map(read, range(120)))
    assert set(found) <= {200, 503}
    assert found.count(200) >= 100


def test_the_contract_names_its_problems(client):
    contract = client.get("/api/openapi.json").json()
    for path, methods in contract["paths"].items():
        for method, route in methods.items():
            assert "503" in route["responses"], (method, path)
            for status, answer in route["responses"].items():
                if status.startswith(("4", "5")):
                    assert list(answer["content"]) == ["application/problem+json"]
    assert "HTTPValidationError" not in json.dumps(contract)


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b"\xef\xbb\xbf", "The file is empty"),
        (b"a,a\xe2\x80\x8b\n1,2\n", "look alike"),
        (b"a,b\n" + b"1,x\n" * 90_000 + b"2,y\x00z\n", "NUL character"),
        (b",".join(b"c%d" % i for i in range(6_000)) + b"\n" + b",".join([b"1"] * 6_000) + b"\n", "up to 5,000"),
    ],
)
def test_hostile_tables_are_refused_in_words(client, data, said):
    task = talk.put_table(client, talk.new_audit(client), data)
    assert task["state"] == "failed"
    assert said in task["error"]["message"]


def test_a_line_break_in_a_quoted_name_does_not_shift_the_table(client):
    audit = talk.new_audit(client)
    task = talk.put_table(client, audit, b'"home\narea",y\nx,1\nz,0\n')
    assert task["state"] == "done", task
    profile = client.get(f"/api/audits/{audit}").json()["table"]["profile"]
    assert [one["name"] for one in profile["columns"]] == ["home area", "y"]
    assert profile["rows"] == 2
