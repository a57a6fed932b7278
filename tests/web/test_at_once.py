"""Parts opened one after the other without waiting: what is quick is there before what is long, whoever came first."""

from __future__ import annotations

import time

from playwright.sync_api import expect
from tests.api import talk
from tests.web.conftest import reading


def tasks_of(client, audit, method: str) -> list[dict]:
    return [one for one in client.get(f"/api/audits/{audit['id']}/tasks").json() if one["method"] == method]


def test_quick_parts_answer_while_a_long_one_is_under_way(page, client, audit):
    """Long work is asked for first, a network's methods side by side; then three quick parts."""
    network = next(one["id"] for one in audit["models"] if "network" in one["name"])
    page.goto(f"/audits/{audit['id']}/drivers?part=methods&rows=training&model={network}")
    until = time.monotonic() + 60
    while not tasks_of(client, audit, "side_by_side"):
        assert time.monotonic() < until, "the whole was asked for"
        time.sleep(0.05)
    areas = page.get_by_role("navigation", name="Areas")
    areas.get_by_role("link", name="Tilt").click()
    for part in ("Crossings", "Given other columns", "Labels and decisions"):
        page.get_by_role("tab", name=part).click()
        expect(page.get_by_role("tab", name=part)).to_have_attribute("data-state", "active")
        assert "training claims" in page.get_by_role("banner").inner_text()
        reading(page)
        expect(page.locator("main figure svg").first).to_be_visible()
    long = [one for one in tasks_of(client, audit, "side_by_side") if one["expected"] is None or one["expected"] > 1]
    assert all(one["state"] != "done" for one in long), "what is quick came after what is long"
    areas.get_by_role("link", name="Drivers").click()
    page.get_by_role("tab", name="Methods side by side").click()
    expect(page.get_by_test_id("detail")).to_contain_text("explained")  # the first look, or the whole
    waiting = ("queued", "running", "done")
    assert any(one["state"] in waiting for one in tasks_of(client, audit, "side_by_side")), "asked again, or under way"


def test_a_new_answer_moves_nothing(page, client, audit, context):
    """What stands below the line of what is under way keeps its place while another feature is read."""
    page.goto(f"/audits/{audit['id']}/response?feature=ferry_legs")
    reading(page)
    place = page.get_by_test_id("reading").bounding_box()["y"]
    page.get_by_role("button", name="Feature: ferry legs").click()
    page.get_by_role("menuitemradio", name="account age").click()
    expect(page.get_by_test_id("reading")).to_contain_text("account age", ignore_case=True)
    assert page.get_by_test_id("reading").bounding_box()["y"] == place
    assert talk.read(client, audit["id"], "response", context, {"feature": "account_age"})["result"]["feature"] == "account_age"
