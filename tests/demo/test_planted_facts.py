"""The tool finds what was planted in the demo: in drivers, in tilt, in the report."""

import numpy as np
import pytest

from zerotilt.core.drivers.ranking_result import DriversSettings
from zerotilt.core.evidence import Digests
from zerotilt.core.methods import METHODS
from zerotilt.core.response.response_result import ResponseSettings
from zerotilt.core.work import Work
from zerotilt.demo import generator, planted
from zerotilt.report.compose import gather
from zerotilt.report.render import Cover, render


@pytest.fixture(scope="module")
def bundle(demo_subject):
    digests = Digests(table="t" * 64, spec=demo_subject.spec.digest(), model="m" * 64)
    return gather(demo_subject, digests, Work(), explained=60)


@pytest.fixture(scope="module")
def report(bundle, demo_subject):
    cover = Cover("Skerry Post claims", 1, "claims.parquet", "t" * 64, demo_subject.table.rows, "gradient trees v3")
    return render(bundle, demo_subject, cover).html


def disparity(bundle, attribute, group, metric):
    for found in bundle.evidence_of("tilt").typed.disparities:
        if (found.attribute, found.group, found.metric) == (attribute, group, metric):
            return found
    raise AssertionError(f"{attribute} {group} {metric} was not compared")


def test_missed_scans_lower_the_score(bundle, demo_subject, report):
    """Planted fact 1."""
    assert DriversSettings().repeats == 10
    top = bundle.evidence_of("drivers").typed.drivers[0]
    assert top.feature == planted.LOWERING_FEATURE
    assert top.direction == "falls"
    response = METHODS["response"].compute(demo_subject, ResponseSettings(feature=top.feature), 1, Work())
    assert response.points[0].mean - response.points[-1].mean > 0.15
    assert "As missed scans goes from 0 to" in report


def test_missed_scans_come_from_ferry_transfers(demo):
    claims = demo[0]
    missed, ferry = (claims.column(name).to_numpy() for name in ("missed_scans", "ferry_legs"))
    area = claims.column("home_area").to_numpy(zero_copy_only=False)
    assert missed[ferry == 0].mean() < 0.5 < 1.4 < missed[ferry >= 2].mean()
    assert ferry[area == planted.TILTED_AREA].min() >= 1


def test_labels_are_tilted_in_the_outer_isles_and_decisions_more_so(bundle, report):
    """Planted fact 2."""
    labels = disparity(bundle, "home_area", planted.TILTED_AREA, "base_rate")
    decisions = disparity(bundle, "home_area", planted.TILTED_AREA, "selection_rate")
    assert labels.status == decisions.status == "flagged"
    assert decisions.reference == planted.REFERENCE_AREA
    assert decisions.ratio.high < labels.ratio.low < 1
    times = f"settled at once {decisions.ratio.value:.2f} times as often as harbour town claims"
    assert f"Outer isles claims (home area): {times}" in report


def test_the_pocket_of_errors_is_flagged(bundle, report):
    """Planted fact 5."""
    found = disparity(bundle, "channel · parcel_weight", planted.POCKET_GROUP, "accuracy")
    assert found.status == "flagged"
    assert found.ratio.value < 0.85
    assert "Telephone · parcel weight over 10 claims" in report


def test_other_facts_are_in_the_data(demo):
    claims = demo[0]

    def column(name):
        return claims.column(name).to_numpy(zero_copy_only=False)

    absent = np.isnan(column("account_age").astype(float))
    assert absent[column("age_band") == "70 and over"].mean() > 3 * absent[column("age_band") != "70 and over"].mean()
    valid = column("claim_valid") == "yes"
    leak = column(planted.LEAK)
    assert leak[valid].mean() - leak[~valid].mean() > 0.3
    area, language = column("home_area"), column("preferred_language")
    overall = valid[language == "Tarnish"].mean() - valid[language == "Brae"].mean()
    within = [
        valid[(area == place) & (language == "Tarnish")].mean() - valid[(area == place) & (language == "Brae")].mean()
        for place in generator.AREAS
    ]
    assert overall > 0.05
    assert abs(np.mean(within)) < overall / 3


def test_the_demo_is_the_same_every_time(demo):
    assert generator.claims().equals(demo[0])
