"""Findings gathered into facts by the stated rules, and how severe each is."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zerotilt.core.findings import GATHERED, SEVERE, Fact, Finding, Gap, gathered, weigh

LIMITS = (0.8, 1.25)


def gap(value: float, low: float, high: float) -> Gap:
    return Gap(scale="ratio", value=value, low=low, high=high, within=LIMITS)


def finding(group: str, metric: str, found: Gap | None, columns: tuple[str, ...] = ("area",), **more) -> Finding:
    attribute = " · ".join(columns)
    given_ = {"rows": 1_000, "concerned": 200} | more
    return Finding(
        name=f"{attribute}: {group} · {metric}",
        kind="disparity",
        statement=f"{group} {metric}.",
        columns=columns,
        group=group,
        metric=metric,
        about=f"{attribute}: {group}",
        called=metric,
        size="0.7 times",
        gap=found,
        **given_,
    )


OUTER = finding("outer", "selection", gap(0.6, 0.5, 0.7))
OUTER_TPR = finding("outer", "tpr", gap(0.7, 0.6, 0.79))
UPLAND = finding("upland", "selection", gap(1.5, 1.3, 1.7))


def names(facts: tuple[Fact, ...]) -> dict[str, list[str]]:
    return {fact.name: [part.name for part in fact.parts] for fact in facts}


def test_what_several_metrics_say_of_a_group_is_one_fact():
    facts = gathered([OUTER, UPLAND, OUTER_TPR])
    assert names(facts) == {"area: outer": [OUTER.name, OUTER_TPR.name], "area: upland": [UPLAND.name]}
    assert facts[0].statement == "outer selection. Also flagged: tpr (0.7 times)."
    assert facts[1].statement == "upland selection."


def crossing(value: float, low: float, high: float, metric: str = "selection", group: str = "outer · old") -> Finding:
    return finding(group, metric, gap(value, low, high), ("area", "age"))


@pytest.mark.parametrize(
    ("found", "explained"),
    [
        (crossing(0.55, 0.45, 0.65), True),
        (crossing(0.3, 0.2, 0.4), False),  # further off than the larger group is
        (crossing(0.55, 0.45, 0.65, "fpr"), False),  # the larger group is not off on this
        (crossing(0.55, 0.45, 0.65, group="harbour · old"), False),  # none of its larger groups is off
        (crossing(1.6, 0.5, 2.0), False),  # to the other side
    ],
)
def test_a_crossing_that_its_larger_group_explains_is_part_of_that_fact(found, explained):
    facts = names(gathered([found, OUTER]))
    assert (found.name in facts["area: outer"]) == explained
    assert len(facts) == (1 if explained else 2)
    # and the larger group's own sentence leads, wherever the crossing stood; the crossing is named
    assert ("Also flagged: selection of outer · old (0.7 times)." in gathered([found, OUTER])[0].statement) == explained
    assert facts["area: outer"][0] == OUTER.name


def test_what_was_taken_out_by_hand_stands_alone_and_explains_nothing():
    small = crossing(0.55, 0.45, 0.65)
    apart = names(gathered([OUTER, OUTER_TPR, small], {OUTER_TPR.name}))
    assert apart == {"area: outer": [OUTER.name, small.name], OUTER_TPR.name: [OUTER_TPR.name]}
    alone = names(gathered([OUTER, OUTER_TPR, small], {OUTER.name}))
    assert alone == {OUTER.name: [OUTER.name], "area: outer": [OUTER_TPR.name], small.about: [small.name]}


def test_a_contradiction_is_a_fact_of_its_own():
    one = Finding(name="expected rises: scans", kind="contradiction", statement="It falls.", columns=("scans",))
    (fact,) = gathered([one])
    assert (fact.name, fact.statement, fact.severity) == (one.name, "It falls.", "medium")
    assert fact.why == "no tolerance says how far off it is"


@pytest.mark.parametrize(
    ("found", "concerned", "severity"),
    [
        (gap(0.6, 0.5, 0.7), 200, "high"),
        (gap(0.6, 0.5, 0.7), 49, "medium"),  # under a twentieth of 1,000
        (gap(0.75, 0.7, 0.79), 200, "medium"),  # not twice the tolerance
        (gap(0.6, 0.4, 0.85), 200, "medium"),  # the interval reaches what is within
        (gap(0.75, 0.6, 0.9), 200, "low"),
        (gap(0.0, 0.0, 0.1), 200, "high"),
        (gap(1.6, 1.4, 1.8), 50, "high"),
    ],
)
def test_severity_is_of_size_sureness_and_people(found, concerned, severity):
    told, why = weigh([finding("outer", "selection", found, concerned=concerned)])
    assert told == severity
    assert f"{concerned} rows" in why


def test_the_part_that_weighs_most_says_how_severe_a_fact_is():
    mild = finding("outer", "accuracy", gap(0.79, 0.7, 0.9))
    assert gathered([mild, OUTER])[0].severity == "high"


def test_a_gap_is_measured_in_tolerances():
    assert gap(0.8, 0, 0).off == pytest.approx(-1) and gap(1.25, 0, 0).off == pytest.approx(1)
    assert gap(0.64, 0, 0).off == pytest.approx(-2) and gap(0, 0, 0).off == -math.inf
    days = Gap(scale="difference", value=-3.0, low=-4.0, high=-2.0, within=(-1.5, 1.5))
    assert days.off == pytest.approx(-2) and days.sure
    assert Gap(scale="difference", value=1.0, low=None, high=None, within=(0.0, 0.0)).off == math.inf


@given(st.data())
def test_every_finding_is_in_one_fact_and_none_is_lost(data):
    rng = np.random.default_rng(data.draw(st.integers(0, 10_000)))
    found = []
    for group in data.draw(st.lists(st.sampled_from(["a", "b", "a · x", "b · y", "x"]), unique=True)):
        columns = ("area", "age") if " · " in group else ("age",) if group == "x" else ("area",)
        for metric in data.draw(st.lists(st.sampled_from(["selection", "tpr", "fpr"]), unique=True)):
            value = float(np.exp(rng.normal(0, 0.8)))
            found.append(finding(group, metric, gap(value, value * 0.8, value * 1.2), columns))
    taken = {one.name for one in found if data.draw(st.booleans())}
    facts = gathered(found, taken)
    assert sorted(part.name for fact in facts for part in fact.parts) == sorted(one.name for one in found)
    assert len({fact.name for fact in facts}) == len(facts)
    assert taken <= {fact.name for fact in facts}


def test_the_documents_state_the_rules_that_screen_and_report_state():
    text = (Path(__file__).parents[2] / "docs/methods.md").read_text()
    assert GATHERED in text and SEVERE in text
