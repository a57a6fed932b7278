"""A search over the API: progress, its end, and the candidate that comes of it."""

from __future__ import annotations

import time

import pytest
from tests.api import talk


@pytest.fixture(scope="module")
def own(running):
    with talk.to(running.url) as client:
        made = client.post(f"/api/audits/{talk.demo_audit(client)['id']}/duplicate").json()["id"]
        yield made
        client.delete(f"/api/audits/{made}?for_good=true")


def test_what_was_found_is_trained_and_says_among_how_many(client, own):
    body = {
        "search": {"estimators": ["linear"], "most": 4, "seconds": 60},
        "base": {"estimator": "linear", "dealing": {"folds": 2}},
    }
    ended = talk.wait(client, client.post(f"/api/audits/{own}/candidates/search", json=body).json())
    assert ended["state"] == "done" and ended["result"]["recipes"] == 4
    assert ended["result"]["said"].startswith("4 recipes were tried, ")
    until = time.monotonic() + 60
    while not (view := client.get(f"/api/audits/{own}/candidates").json())["table"] and time.monotonic() < until:
        time.sleep(0.2)
    (one,) = view["candidates"]
    assert one["name"] == ended["result"]["name"] == "linear model 1"
    assert "It was found among 4 recipes that were tried on these folds" in " ".join(view["reading"])


@pytest.mark.parametrize(
    ("search", "message"),
    [({"seconds": 1}, "seconds"), ({"rate": [0.3, 0.1]}, "no smaller"), ({"estimators": ["magic"]}, "estimators")],
)
def test_a_search_that_cannot_be_is_refused_at_once(client, own, search, message):
    found = client.post(f"/api/audits/{own}/candidates/search", json={"search": search})
    assert found.status_code == 422 and message in found.text
