"""After a change by another hand, every place says what a fresh server says, or that it is being read again."""

from __future__ import annotations

import os
import random

import pytest
from tests.api import talk
from tests.web.changes import CHANGES, PLACES, World, busy, differs, settled, shown

LEARNT = 700
"""Milliseconds in which a page hears of what another hand did."""
SEED = int(os.environ.get("ZT_SEED", "20"))
OPEN = int(os.environ.get("ZT_PLACES", "6"))
"""How many places are looked at after every change: a third of them, by the seed."""


@pytest.fixture(scope="module")
def world(running, demo):
    claims, _, models = demo
    with talk.to(running.url, 60) as client:
        made = World.of(client, claims, models, "Claims under change")
        yield made
        client.delete(f"{made.at}?for_good=true")


def address(world: World, place: str) -> str:
    return f"/audits/{world.audit}/{place}" if place else "/"


def test_what_is_shown_is_of_today_or_says_that_it_is_not(window, page, world):
    """Every change, under a third of the places."""
    places = random.Random(SEED).sample(PLACES, min(OPEN, len(PLACES)))
    tabs = [page, *(window.new_page() for _ in places[1:])]
    for tab, place in zip(tabs, places, strict=True):
        tab.goto(address(world, place))
    wrong: list[str] = []
    for change, make in CHANGES.items():
        before = [settled(tab) for tab in tabs]
        make(world)
        page.wait_for_timeout(LEARNT)
        early = [(busy(tab), shown(tab)) for tab in tabs]
        after = [settled(tab) for tab in tabs]
        for tab in tabs:
            tab.reload(wait_until="commit")
        for tab, place, was, (marked, seen), now in zip(tabs, places, before, early, after, strict=True):
            if left := differs(now, settled(tab)):
                wrong.append(f"{change} × {place or 'first page'}: {left}")
            elif not marked and differs(seen, now) and not differs(seen, was):
                wrong.append(f"{change} × {place or 'first page'}: of before without a mark: {differs(seen, now)}")
    assert wrong == [], "\n\n".join(wrong)
