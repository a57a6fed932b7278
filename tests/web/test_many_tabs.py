"""More tabs of one audit than a browser keeps connections to a server: all of them are answered and told of work."""

from __future__ import annotations

from tests.api import talk
from tests.web.conftest import expect

PLACES = ("tilt", "response", "cases", "drivers", "data?part=columns", "tilt?part=crossings", "cases?part=all", "report")


def test_eight_tabs_are_all_answered_and_hear_of_what_another_asks_for(page, window, audit, client, context):
    address = f"/audits/{audit['id']}"
    page.goto(f"{address}/{PLACES[0]}")
    tabs = [page, *(window.new_page() for _ in PLACES[1:])]
    for tab, place in zip(tabs[1:], PLACES[1:], strict=True):
        tab.goto(f"{address}/{place}")
    for tab in tabs:
        expect(tab.locator("[data-testid=reading], main h1").first).to_be_visible()
    # one listens for all: the others' connections are free for what is asked
    held = [tab.evaluate("async () => (await navigator.locks.query()).held.map((one) => one.name)") for tab in tabs[:2]]
    assert held[0] == held[1] and len(held[0]) == 1
    body = {"context": context | {"rows": "training"}, "settings": {"sampled": 20_000, "walks": 9_000}}
    task = client.post(f"/api/audits/{audit['id']}/readings/spread", json=body).json()["task"]
    for tab in tabs[1:4]:
        expect(tab.get_by_text("1 running")).to_be_visible()
    # the one that listened is closed; another takes its place, and tells the rest
    page.goto("/api/health")
    client.post(f"{task['address']}/cancel")
    talk.wait(client, task)
    for tab in tabs[1:4]:
        expect(tab.get_by_text("1 running")).to_have_count(0)
    assert tabs[5].evaluate("async () => (await navigator.locks.query()).held.length") == 1
