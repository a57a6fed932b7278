"""After a change by another hand, every place says what a fresh server says, or that it is being read again."""

from __future__ import annotations

import os
import random

import pytest
from tests.api import talk
from tests.web.changes import CHANGES, PLACES, World, opened, tried

SEED = int(os.environ.get("ZT_SEED", "20"))
OPEN = int(os.environ.get("ZT_PLACES", "2"))
"""How many places are looked at after every change, by the seed; all of them by ``./zt bench after``."""


@pytest.fixture(scope="module")
def world(running, demo):
    claims, _, models = demo
    with talk.to(running.url, 60) as client:
        made = World.of(client, claims, models, "Claims under change")
        yield made
        client.delete(f"{made.at}?for_good=true")


def test_what_is_shown_is_of_today_or_says_that_it_is_not(window, page, world):
    """Every change, under some of the places."""
    places = random.Random(SEED).sample(PLACES, min(OPEN, len(PLACES)))
    tabs = [page, *(window.new_page() for _ in places[1:])]
    opened(world, tabs, places)
    wrong = {
        f"{change} × {place or 'first page'}": said
        for change in CHANGES
        for place, said in tried(world, change, tabs, places).items()
    }
    assert wrong == {}, "\n\n".join(f"{pair}: {said}" for pair, said in wrong.items())
