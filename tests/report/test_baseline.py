"""A build holds an audit against an earlier one: what has grown beyond chance fails, and nothing else."""

import json
from xml.etree import ElementTree

import numpy as np
import pytest
from tests.core.systems import system

from zerotilt.core.groups.disparity import TiltSettings
from zerotilt.core.groups.tilt import compare_groups
from zerotilt.core.meaning import FlagPolicy, Role, Wording
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work
from zerotilt.report import junit
from zerotilt.report.baseline import held_against, read


def compared(rates, n=400, seed=0, group="b", policy=None):
    """Groups a and another, with recorded decisions at these rates of favour."""
    rng = np.random.default_rng(seed)
    g = np.repeat(["a", group], n)
    scores = np.where(rng.random(2 * n) < np.repeat(rates, n), 0.9, 0.1)
    columns = {"g": g, "s": scores, "y": rng.integers(0, 2, 2 * n)}
    subject = system(columns, roles={"g": Role.group, "s": Role.score})
    if policy is not None:
        subject = subject.__class__(
            subject.spec.model_copy(update={"policy": policy}), subject.table, None, subject.context
        )
    return compare_groups(subject, TiltSettings(), 0, Work())


ONLY_SELECTION = FlagPolicy(metrics=("selection_rate",), adjustment="none")


def test_the_same_audit_has_grown_nowhere():
    for seed in range(5):
        found = compared((0.6, 0.3), seed=seed)
        held = held_against(found.disparities, found)
        assert held.grown == () and held.compared == len(found.disparities) and held.only_before == 0


def test_a_gap_that_has_grown_fails_with_its_change_and_interval():
    before, now = compared((0.6, 0.55)), compared((0.6, 0.2))
    held = held_against(before.disparities, now)
    grown = [one for one in held.grown if one.metric == "selection_rate"]
    assert len(grown) == 1
    was, is_ = (
        next(d for d in found.disparities if d.metric == "selection_rate").ratio.value for found in (before, now)
    )
    assert f"the ratio was {was:.2f} and is {is_:.2f}, {is_ / was:.3f} times as large (interval" in grown[0].sentence
    assert held_against(now.disparities, before).grown == ()  # the other way it has shrunk


def test_a_set_amount_fails_whatever_the_interval_says():
    before, now = (
        compared((0.6, 0.52), n=60, policy=ONLY_SELECTION),
        compared((0.6, 0.4), n=60, seed=3, policy=ONLY_SELECTION),
    )
    assert held_against(before.disparities, now).grown == ()  # so few rows could not show it
    assert len(held_against(before.disparities, now, 0.1).grown) == 1
    assert held_against(before.disparities, now, 50).grown == ()


def test_how_often_chance_alone_fails_a_build():
    """Two tables of the same groups: gaps grow by chance alone, in about the share that the policy allows or fewer."""
    alarms = 0
    for seed in range(150):
        before, now = (compared((0.5, 0.4), n=150, seed=1_000 * k + seed, policy=ONLY_SELECTION) for k in (1, 2))
        alarms += bool(held_against(before.disparities, now).grown)
    assert alarms / 150 <= 0.025 + 3 * np.sqrt(0.025 * 0.975 / 150)  # half of what differs is smaller, not larger


def test_what_the_baseline_does_not_have_counts_where_it_is_flagged():
    before, now = compared((0.6, 0.5)), compared((0.6, 0.2), group="c")
    held = held_against(before.disparities, now)
    assert {one.sentence for one in held.grown} >= {
        "g: c against a, selection rate: it is flagged, and new since the baseline."
    }
    assert held.compared == 0 and held.only_before == len(before.disparities)
    # another reference is another comparison
    other = [one.model_copy(update={"reference": "z"}) for one in now.disparities]
    assert held_against(other, now).compared == 0


@pytest.mark.parametrize(
    "data", [b"", b"[]", b"{}", b'{"format": "x"}', b'{"format": "zerotilt-audit/2", "disparities": [{}]}']
)
def test_what_is_no_audit_is_refused(data):
    with pytest.raises(Refused, match=r"no audit\.json that is known here"):
        read(data, "base.json")


def test_an_audit_reads_back():
    found = compared((0.6, 0.3))
    told = {"format": "zerotilt-audit/2", "disparities": [one.model_dump(mode="json") for one in found.disparities]}
    assert read(json.dumps(told).encode(), "") == found.disparities


def test_one_case_for_each_rule_and_none_passes_that_nothing_tested():
    found = compared((0.6, 0.2), group="\x01<b>&")
    root = ElementTree.fromstring(
        junit.written(found, Wording(), "an \x1b audit", held_against(found.disparities, found))
    )
    cases = root.findall("./testsuite[@name='limits of the flag policy']/testcase")
    rules = {(one.attribute, one.metric) for one in found.disparities}
    assert len(cases) == len(rules) == len({(one.get("classname"), one.get("name")) for one in cases})
    failed = {one.get("name"): one.find("failure").text for one in cases if one.find("failure") is not None}
    flagged = {one.metric for one in found.disparities if one.status == "flagged"}
    assert len(failed) == len(flagged) and any("selection rate: ratio within 0.8 to 1.25" in name for name in failed)
    assert all("<b>&" in text for text in failed.values())
    assert root.get("failures") == str(len(failed)) and root.get("tests") == str(2 * len(rules))
    small = compared((0.6, 0.2), n=8)
    root = ElementTree.fromstring(junit.written(small, Wording(), "few rows"))
    assert root.get("skipped") == root.get("tests") and root.get("failures") == "0"
    empty = ElementTree.fromstring(junit.written(None, Wording(), "no groups"))
    assert empty.get("tests") == "0"
