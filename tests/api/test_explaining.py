"""Every explanation method through the API: settings in, evidence out, refusals named."""

from __future__ import annotations

import pytest
from tests.api import talk

from zerotilt.core.methods import METHODS

SETTINGS = {
    "concerns": {"population": {"home_area=outer isles": 0.25}},
    "columns": {"by": "home_area"},
    "pairs": {"first": "parcel_weight", "second": "channel"},
    "segment": {"conditions": "channel=telephone and parcel_weight>10 or not account_age="},
    "cuts": {"column": "missed_scans", "how": "where the error changes"},
    "segments": {},
    "query": {"sql": "select channel, count(*) n, avg(error) e from rows group by all order by all"},
    "loss_shapley": {"rows": 64, "background": 16},
    "shapley_by_part": {"rows": 40},
    "side_by_side": {"rows": 300, "repeats": 2, "explained": 12, "walked": 32, "walks": 16},
    "spread": {"feature": "account_age", "colour": "sender_kind", "sampled": 40, "walks": 16},
    "expectations": {"expected": {"missed_scans": "falls", "ferry_legs": "none"}},
    "ale": {"feature": "parcel_weight"},
    "surface": {"first": "parcel_weight", "second": "packaging_grade", "points": 5, "rows": 20},
    "interactions": {"features": ["parcel_weight", "packaging_grade", "channel"], "rows": 10, "draws": 2},
    "expected": {"feature": "missed_scans", "expected": "falls"},
    "surrogate": {"row": 5, "samples": 200},
    "checks": {"row": 5, "orders": 2},
    "nearest": {"row": 5},
    "change": {"row": 5, "allowed": [{"feature": "photo_attached", "change": "none"}]},
    "person": {"row": 5, "shown": ["home_area"]},
    "flip": {"feature": "channel"},
    "values": {"row": 5},
    "tried": {"row": 5, "edits": {"missed_scans": "0", "channel": "app"}},
    "profiles": {"row": 5},
    "alike": {"row": 5},
    "odd": {"rows": 300},
    "difference": {"row": 5, "other": 6},
    "explained": {"walks": 8},
    "families": {"sampled": 40},
    "arrangement": {"colour": "home_area", "wide": "channel"},
    "mean_ladder": {"group": "home_area", "member": "outer isles", "sampled": 40},
    "own_parts": {},
    "lattice": {"columns": ["channel", "parcel_weight"], "metric": "accuracy"},
    "one_group": {"attribute": "home_area"},
    "score_gap": {"attribute": "home_area", "explained": 10, "walks": 16},
    "given": {"attribute": "preferred_language", "group": "Brae"},
    "pockets": {"error": "log_loss", "halvings": 4},
    "pocket": {"conditions": "channel=telephone and parcel_weight>10", "explained": 10},
    "error_grid": {"first": "channel", "second": "parcel_weight"},
    "versions": {},
    "changed": {},
    "leaning": {"amount": 1},
    "one_tree": {"depth": 2, "row": 5},
    "repaired": {"level": 0.5, "row": 7},
    "band": {"attribute": "home_area", "width": 0.05},
    "corrected": {"attribute": "home_area"},
    "sides": {"attributes": ["home_area"]},
    "thresholds": {"attribute": "home_area", "false_positive": 2},
}


def test_all_methods_beyond_the_sheets_are_tried_here():
    assert set(SETTINGS) == set(METHODS) - {"performance", "drivers", "response", "cases", "ladder", "tilt", "without"}


@pytest.mark.parametrize("name", SETTINGS)
def test_a_method_is_read_kept_and_read_again(client, audit, context, name):
    found = talk.read(client, audit["id"], name, context, SETTINGS[name])
    assert found["reading"]["headline"][0]["text"]
    assert METHODS[name].result.model_validate(found["result"])
    again = client.post(
        f"/api/audits/{audit['id']}/readings/{name}", json={"context": context, "settings": SETTINGS[name]}
    ).json()
    assert again["evidence"]["key"] == found["key"]


@pytest.mark.parametrize(
    ("name", "settings", "message"),
    [
        ("ale", {"feature": "nope"}, "“nope” is not a feature of the model"),
        ("surface", {"first": "channel", "second": "channel"}, "takes two different ones"),
        ("change", {"row": 5, "allowed": [{"feature": "nope"}]}, "“nope” is not a feature"),
        ("nearest", {"row": 99_999_999}, "the table has 12,000 rows"),
        ("flip", {"feature": "declared_value"}, "a flip is between levels"),
        ("given", {"attribute": "home_area", "group": "the moon"}, "“the moon” has no rows here"),
        ("thresholds", {"false_positive": 0, "false_negative": 0}, "Both costs are zero"),
        ("lattice", {"columns": ["nowhere"]}, "no column “nowhere”"),
        ("pockets", {"columns": ["nowhere"]}, "“nowhere” cannot be looked at"),
        ("pocket", {"conditions": "parcel_weight>1000"}, "None of these 3,600 rows meet the conditions"),
        ("pocket", {"conditions": "channel=app or channel=counter"}, "conditions that are met together"),
        ("error_grid", {"first": "channel", "second": "channel"}, "“channel” was chosen twice"),
        ("ladder", {"row": 5, "method": "trees"}, "on this scale the model is not a sum of trees"),
    ],
)
def test_what_a_method_refuses_is_said_with_the_setting(client, audit, context, name, settings, message):
    task = client.post(
        f"/api/audits/{audit['id']}/readings/{name}", json={"context": context, "settings": settings}
    ).json()["task"]
    ended = talk.wait(client, task)
    assert ended["state"] == "failed"
    assert message in ended["error"]["message"]


@pytest.mark.parametrize(
    ("name", "settings"), [("ale", {"points": 0}), ("checks", {}), ("surrogate", {"row": 1, "magic": 2})]
)
def test_settings_out_of_their_range_are_refused_at_the_door(client, audit, context, name, settings):
    answer = client.post(f"/api/audits/{audit['id']}/readings/{name}", json={"context": context, "settings": settings})
    assert answer.status_code == 422


def test_log_odds_of_boosted_trees_are_exact(client, audit, context):
    found = talk.read(client, audit["id"], "ladder", context | {"output": "log-odds"}, {"row": 5})["result"]
    assert found["method"] == "trees"
    assert found["background"] == 3_600
    total = found["baseline"] + sum(rung["contribution"] for rung in found["rungs"])
    assert total == pytest.approx(found["prediction"], abs=1e-9)
    assert all(rung["error"] is None for rung in found["rungs"])
