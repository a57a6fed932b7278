"""Groups compared of numbers and classes, beside another version, under another reference."""

from dataclasses import replace

import numpy as np
import pytest
from scipy import stats
from tests.core.systems import system
from tests.core.two_groups import ROLES, TWO_GROUPS, compared, rows_of

from zerotilt.core.groups import tilt, tilt_said
from zerotilt.core.groups.disparity import TiltSettings
from zerotilt.core.meaning import (
    Context,
    GroupThreshold,
    Role,
    Rule,
    Task,
    Wording,
)
from zerotilt.core.work import Work


def with_columns(subject, **changes):
    """The same subject with columns changed by name."""
    columns = tuple(c.model_copy(update=changes.get(c.name, {})) for c in subject.spec.columns)
    return replace(subject, spec=subject.spec.model_copy(update={"columns": columns}))


@pytest.mark.parametrize(("reference", "expected"), [("largest", "a"), ("best-off", "c"), ("all others", "all others")])
def test_references(reference, expected):
    cells = TWO_GROUPS | {("c", 1, 1): 40, ("c", 0, 1): 2}
    subject = system(rows_of(cells), roles=ROLES)
    result = tilt.compare_groups(subject, TiltSettings(reference=reference), 1, Work())
    assert result.attributes[0].reference == expected
    assert len(result.disparities) == (3 if reference == "all others" else 2) * 9
    of_b = next(d for d in result.disparities if d.group == "b" and d.metric == "selection_rate")
    against = {"a": (110, 200), "c": (42, 42), "all others": (152, 242)}[expected]
    assert (of_b.against.count, of_b.against.of) == against


def test_numbers_are_compared_by_their_means():
    rng = np.random.default_rng(3)
    columns = {"g": ["a"] * 400 + ["b"] * 300, "s": rng.normal(5, 1, 700), "y": rng.normal(5, 1, 700)}
    columns["s"][400:] += 1
    result = compared(columns, roles={"g": Role.group, "s": Role.score}, task=Task.regression)
    by_metric = {d.metric: d for d in result.disparities}
    assert set(by_metric) == {"mean_prediction", "mean_outcome", "mean_error", "mae", "rmse"}
    gap = by_metric["mean_prediction"]
    assert (gap.judged, gap.status) == ("difference", "flagged")
    s = np.asarray(columns["s"])
    assert gap.difference.value == pytest.approx(s[400:].mean() - s[:400].mean())
    low, high = stats.ttest_ind(s[400:], s[:400], equal_var=False).confidence_interval()
    assert (gap.difference.low, gap.difference.high) == pytest.approx((low, high), abs=0.02)
    text = tilt_said.sentence(result, gap, Wording(rows="claims", unit="days"))
    assert "mean prediction" in text and "days more than that of claims whose g is a" in text


def test_classes_have_rates_of_each_and_a_favourable_one_of_several():
    y = ["low", "mid", "high"] * 200
    d = ["low", "high", "high"] * 100 + ["mid", "mid", "low"] * 100
    columns = {"g": ["a"] * 300 + ["b"] * 300, "y": y, "d": d}
    subject = with_columns(
        system(columns, roles=ROLES, task=Task.ordered, event="high", favourable_classes=("mid", "high")),
        y={"order": ("low", "mid", "high")},
    )
    result = tilt.compare_groups(subject, TiltSettings(), 1, Work())
    a, b = (group.metrics for group in result.groups)
    assert (a["selection_rate"].count, a["selection_rate"].of) == (200, 300)
    assert a["class_share · high"].value == pytest.approx(2 / 3)
    assert b["true_positive_rate · mid"].value == 1 and b["true_positive_rate · high"].value == 0
    assert a["accuracy"].value == pytest.approx(2 / 3)
    assert a["macro_true_positive_rate"].value == pytest.approx(2 / 3)
    assert a["mean_rank"].value == pytest.approx(1 + (0 + 2 + 2) / 3)
    assert b["mean_rank_error"].value == pytest.approx((1 + 0 - 2) / 3)


def test_a_second_version_beside_says_what_became_of_each_gap():
    rng = np.random.default_rng(5)
    g, y = rng.choice(["a", "b"], 3_000), rng.integers(0, 2, 3_000)
    s = np.clip(0.2 + 0.5 * y + rng.normal(0, 0.15, 3_000), 0, 1)
    tilted = np.clip(s - 0.25 * (g == "b"), 0, 1)
    roles = {"g": Role.group, "s": Role.score}
    before = system({"g": g, "s": s, "y": y}, roles=roles)
    after = replace(system({"g": g, "s": tilted, "y": y}, roles=roles), beside=before)
    result = tilt.compare_groups(after, TiltSettings(), 1, Work())
    found = next(d for d in result.disparities if d.metric == "true_positive_rate")
    assert found.change.verdict == "wider"
    assert found.change.ratio_change.value == pytest.approx(found.ratio.value / found.change.ratio)
    cost = next(one for one in result.beside.costs if one.metric == "accuracy")
    assert cost.change.value < 0 and cost.change.high < 0
    assert "gaps are wider" in tilt.say(result, Wording(), TiltSettings()).detail
    same = replace(before, beside=before)
    alike = tilt.compare_groups(same, TiltSettings(), 1, Work())
    assert {d.change.verdict for d in alike.disparities if d.change.verdict != "not defined"} == {"not told apart"}


def test_a_rule_by_group_is_followed_everywhere():
    columns = {"g": ["a", "b"] * 60, "s": [0.4, 0.4] * 60, "y": [1, 0] * 60}
    rule = Rule(threshold=0.5, columns=("g",), thresholds=(GroupThreshold(group="b", threshold=0.3),))
    context = Context(rows="all", rule=rule)
    result = compared(columns, roles={"g": Role.group, "s": Role.score}, context=context)
    rates = {group.group: group.metrics["selection_rate"].value for group in result.groups}
    assert rates == {"a": 0.0, "b": 1.0}
