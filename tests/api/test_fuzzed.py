"""Requests of every shape the contract allows, and of some it does not: no answer is a failure of ours."""

from __future__ import annotations

import json
import os

import pyarrow as pa
import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, seed, settings
from schemathesis import GenerationMode
from tests.api import talk

from zerotilt.api import contract

CONTRACT = json.loads((contract.FORMATS / "openapi.json").read_text())
EXAMPLES = int(os.environ.get("FUZZ_EXAMPLES", "24"))
"""Of each of some sixty-five operations: about 1,500 requests; the bench sends 20,000."""
SEED = int(os.environ.get("FUZZ_SEED", "0"))
schema = schemathesis.openapi.from_dict(CONTRACT).exclude(path_regex=r"/events$|^/api/demo$")
schema.config.generation.update(modes=[GenerationMode.POSITIVE, GenerationMode.NEGATIVE])


@pytest.fixture(scope="module")
def target(running):
    """An audit of its own, finished, so that requests find something to work on."""

    with talk.to(running.url) as client:
        audit = talk.new_audit(client, "Fuzzed")
        n = 120
        table = pa.table(
            {
                "g": ["north", "south"] * (n // 2),
                "score": [i / n for i in range(n)],
                "y": [int(i % 3 == 0) for i in range(n)],
            }
        )
        assert talk.put_table(client, audit, talk.csv_bytes(table))["state"] == "done"
        spec = client.get(f"/api/audits/{audit}").json()["spec"]
        spec = talk.set_roles(spec, g="group", score="score", y="outcome") | {"event": "1"}
        talk.put_spec(client, audit, spec)
        assert talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={}).json())["state"] == "done"
    return audit


@schema.parametrize()
@seed(SEED)
@settings(
    max_examples=EXAMPLES,
    phases=[Phase.generate],
    deadline=None,
    database=None,
    suppress_health_check=[*HealthCheck],
)
def test_no_request_makes_the_server_fail(case, running, target):
    whole = case.method == "DELETE" and case.path.count("{") == 1  # would take the audit away from the others
    if case.path_parameters and "audit_id" in case.path_parameters and not whole:
        case.path_parameters["audit_id"] = target
    answer = case.call(base_url=running.url, timeout=60, headers=talk.bearer(running.url))
    assert answer.status_code < 500, (case.method, case.path, answer.status_code, answer.text[:300])
    if answer.status_code >= 400:
        assert answer.headers["content-type"][0].startswith(("application/problem+json", "text/plain"))
        assert len(answer.content) < 3_000  # what was sent is not sent back
