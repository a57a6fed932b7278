"""After a change by another hand, every place says what a fresh server says, or that it is being read again."""

from __future__ import annotations

import os
import random

import pytest
from playwright.sync_api import expect
from tests.api import talk
from tests.web.changes import CHANGES, PLACES, READ, World, opened, settled, tried

SEED = int(os.environ.get("ZT_SEED", "20"))
OPEN = int(os.environ.get("ZT_PLACES", "2"))
"""How many places are open under every change, by the seed; all of them by ``./zt bench after``."""


@pytest.fixture(scope="module")
def world(running, demo):
    claims, _, models = demo
    with talk.to(running.url, 60) as client:
        made = World.of(client, claims, models, "Claims under change")
        yield made
        client.delete(f"{made.at}?for_good=true")


def test_a_sheet_keeps_what_was_typed_while_intake_is_open_elsewhere_and_says_that_it_is_of_before(page, world):
    page.goto(f"/audits/{world.audit}/tilt")
    settled([page])
    reading = page.locator("#sheet").inner_text()
    page.goto(f"/audits/{world.audit}/data?part=making")
    page.get_by_label("Conditions, typed").fill("parcel weight over 1")
    settled([page])  # what is asked for once Intake is open is refused
    spec = world.view["spec"]
    columns = [one | ({"kind": "ordered"} if one["name"] == "claims_three_years" else {}) for one in spec["columns"]]
    world.put("schema", {"columns": columns})
    told = page.get_by_text("Intake of this audit is open again")
    expect(told).to_be_visible()
    assert page.evaluate("document.querySelector('[inert] textarea, [inert] input') !== null")
    expect(page.locator("[inert]").get_by_label("Conditions, typed")).to_have_value("parcel weight over 1")
    # who comes now is told that there is nothing
    other = page.context.new_page()
    other.goto(f"/audits/{world.audit}/tilt")
    expect(other.get_by_text("Intake of this audit is not finished")).to_be_visible()
    other.close()
    world.put("schema", {"columns": spec["columns"]})
    world.finish()
    expect(told).not_to_be_visible()
    expect(page.get_by_label("Conditions, typed")).to_have_value("parcel weight over 1")
    page.goto(f"/audits/{world.audit}/tilt")
    settled([page])
    assert page.locator("#sheet").inner_text() == reading


def test_what_is_shown_is_of_today_or_says_that_it_is_not(window, page, world):
    """Every change, under some of the places; each is held against a fresh page at every fourth change, and at the last."""
    chosen = random.Random(SEED).sample(PLACES, min(OPEN, len(PLACES)))
    places, elsewhere = [one for one in chosen if one not in READ], [one for one in chosen if one in READ]
    tabs = [page, *(window.new_page() for _ in places[1:])]
    opened(world, tabs, places)
    wrong = {}
    for number, change in enumerate(CHANGES, 1):
        due = {at for at in range(len(chosen)) if (at + number) % 4 == 0 or number == len(CHANGES)}
        anew = [at for at in due if at < len(places)]
        read = [one for at, one in enumerate(elsewhere, len(places)) if at in due]
        told = tried(world, change, tabs, places, anew, read)
        wrong |= {f"{change} × {place or 'first page'}": said for place, said in told.items()}
    assert wrong == {}, "\n\n".join(f"{pair}: {said}" for pair, said in wrong.items())
