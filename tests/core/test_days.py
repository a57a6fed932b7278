"""Days as a feature: labels, regions, bins and effects are written as dates."""

from __future__ import annotations

import numpy as np
import pytest
from tests.core.systems import system

from zerotilt.core.drivers import spread
from zerotilt.core.drivers.spread import SpreadSettings
from zerotilt.core.meaning import Wording
from zerotilt.core.refusal import Refused
from zerotilt.core.response import accumulated, partial, surface
from zerotilt.core.response.accumulated import AleSettings
from zerotilt.core.response.response_result import ResponseSettings
from zerotilt.core.response.surface import SurfaceSettings
from zerotilt.core.work import Work

FIRST = 20_454
"""2026-01-01, counted from 1970."""


@pytest.fixture(scope="module")
def subject():
    rng = np.random.default_rng(0)
    days = np.datetime64("2026-01-01") + rng.integers(0, 200, 400).astype("timedelta64[D]")
    return system(
        {"sent": days, "size": rng.normal(size=400), "y": rng.integers(0, 2, 400)},
        lambda f: 1 / (1 + np.exp(-((f["sent"] - FIRST - 100) / 60 + 0.2 * f["size"]))),
        ["sent", "size"],
    )


def test_a_region_is_given_in_days_and_read_as_dates(subject):
    settings = ResponseSettings(feature="sent", low=FIRST + 31, high=FIRST + 58)
    result = partial.respond(subject, settings, 1, Work())
    assert result.date and all(point.label.startswith("2026-02-") for point in result.points)
    said = partial.say(result, Wording(), settings).text
    assert said.startswith("As sent goes from 2026-02-0") and "rises" in said
    with pytest.raises(Refused, match="between 2026-09-01 and 2026-09-30; the rows reach from 2026-01-0"):
        partial.respond(subject, ResponseSettings(feature="sent", low=FIRST + 243, high=FIRST + 272), 1, Work())


def test_effects_and_contributions_name_their_days(subject):
    ale = accumulated.accumulate(subject, AleSettings(feature="sent"), 1, Work())
    assert ale.date and ale.points[0].label == "2026-01-01"
    assert "lowest at 2026-01-0" in accumulated.say(ale, Wording(), AleSettings()).text
    along = spread.spread_out(subject, SpreadSettings(feature="sent", sampled=400), 1, Work())
    assert along.date and along.stretches[0].label.startswith("2026-01-01 to 2026-01-")
    lanes = [one for one in along.lanes if one.feature == "sent"]
    assert len(lanes) == 5 and lanes[-1].label.startswith("2026-06-")


def test_a_held_day_is_typed_as_a_date(subject):
    settings = SurfaceSettings(first="size", second="sent", points=5, case=0, edits={"sent": "2026-03-01"})
    result = surface.survey(subject, settings, 1, Work())
    held = {one.feature: one for one in result.held_values}
    assert held["sent"].text == "2026-03-01" and held["sent"].edited
    assert result.marker[1] == FIRST + 59
    assert all(label.startswith("2026-") for label in result.second.labels)
    with pytest.raises(Refused, match="“spring” was given for “sent”; it takes a date as 2026-01-31"):
        surface.survey(subject, settings.model_copy(update={"edits": {"sent": "spring"}}), 1, Work())
