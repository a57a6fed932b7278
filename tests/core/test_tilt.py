"""Groups compared: hand-computed rates, statuses, references, missing and tiny groups."""

from itertools import product

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.systems import system
from tests.core.test_tilt_elsewhere import with_columns
from tests.core.two_groups import ROLES, TWO_GROUPS, compared, rows_of

from zerotilt.core.groups import metrics, tilt, tilt_said
from zerotilt.core.groups.disparity import Reference, TiltSettings
from zerotilt.core.meaning import (
    Condition,
    FlagPolicy,
    Role,
    Segment,
    Tolerance,
    Wording,
)
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.work import Work


def test_rates_by_hand():
    result = compared(rows_of(TWO_GROUPS))
    by_group = {group.group: group for group in result.groups}
    assert by_group["a"].reference and not by_group["b"].reference
    expected = {
        "base_rate": (60, 120), "selection_rate": (40, 120), "accuracy": (80, 120), "true_positive_rate": (30, 60),
        "false_positive_rate": (10, 60), "true_negative_rate": (50, 60), "false_negative_rate": (30, 60),
        "positive_predictive_value": (30, 40), "negative_predictive_value": (50, 80),
    }  # fmt: skip
    for name, (count, of) in expected.items():
        found = by_group["b"].metrics[name]
        assert (found.count, found.of, found.value) == (count, of, pytest.approx(count / of))
    assert "auc" not in by_group["b"].metrics  # decisions alone have no score


def test_comparison_by_hand():
    result = compared(rows_of(TWO_GROUPS))
    found = next(d for d in result.disparities if d.metric == "selection_rate")
    assert found.ratio.value == pytest.approx((40 / 120) / (110 / 200))
    assert found.difference.value == pytest.approx(40 / 120 - 110 / 200)
    assert found.status == "flagged"
    text = tilt_said.sentence(result, found, Wording(row="claim", rows="claims", favourable="settled at once"))
    assert text.startswith(
        "Claims whose g is b: settled at once 0.61 times as often as claims whose g is a (95% interval "
    )
    assert text.endswith("; 120 and 200 claims).")


def test_the_favourable_decision_may_be_the_absence_of_the_event():
    event = compared(rows_of(TWO_GROUPS))
    other = compared(rows_of(TWO_GROUPS), favourable="other")

    def rate(result, name):
        return {g.group: g.metrics[name].value for g in result.groups}

    assert rate(other, "selection_rate")["b"] == pytest.approx(1 - rate(event, "selection_rate")["b"])
    assert rate(other, "true_positive_rate") == rate(event, "true_positive_rate")


def test_groups_called_by_a_number_are_named_with_their_column():
    columns = rows_of(TWO_GROUPS)
    columns["g"] = [{"a": "0", "b": "1"}[g] for g in columns["g"]]
    result = compared(columns)
    found = next(d for d in result.disparities if d.metric == "accuracy")
    text = tilt_said.sentence(result, found, Wording())
    assert text.startswith("Rows whose g is 1: accuracy 0.89 times that of rows whose g is 0 (95%")


@pytest.mark.parametrize(
    ("enough", "ratio", "p", "expected"),
    [
        (False, (0.5, 0.4, 0.6), 0.001, "too_few"),
        (True, (0.5, 0.4, 0.6), 0.001, "flagged"),
        (True, (0.5, 0.2, 1.1), 0.2, "uncertain"),
        (True, (0.9, 0.7, 1.1), 0.001, "uncertain"),
        (True, (0.9, 0.85, 0.95), 0.001, "within"),
        (True, (1.3, 1.2, 1.4), 0.05, "flagged"),
        (True, (0.8, 0.8, 1.25), 0.001, "within"),
    ],
)
def test_statuses_in_their_order(enough, ratio, p, expected):
    estimate = Estimate(value=ratio[0], low=ratio[1], high=ratio[2])
    assert tilt.status(enough, estimate, p, 0.05, (0.8, 1.25)) == expected


def test_a_large_gap_on_few_rows_is_not_tested():
    cells = TWO_GROUPS | {("c", 1, 0): 14}
    result = compared(rows_of(cells))
    of_c = [d for d in result.disparities if d.group == "c"]
    assert {d.status for d in of_c} == {"too_few"}
    assert all(d.p_value is None for d in of_c)
    assert result.tested == sum(d.p_value is not None for d in result.disparities)


def test_a_group_of_one_row_and_undefined_rates_have_no_number():
    result = compared(rows_of(TWO_GROUPS | {("alone", 0, 0): 1}))
    alone = next(group for group in result.groups if group.group == "alone")
    assert alone.rows == 1
    assert alone.metrics["true_positive_rate"].value is None
    assert "NaN" not in result.model_dump_json()


def test_missing_is_a_group_and_never_the_reference():
    columns = rows_of(TWO_GROUPS)
    columns["g"] = [None if g == "a" else g for g in columns["g"]]
    result = compared(columns)
    assert {g.group: g.reference for g in result.groups} == {"b": True, "(missing)": False}


def test_a_chosen_reference_that_has_no_rows_is_said_and_another_taken():
    subject = system(rows_of(TWO_GROUPS), roles=ROLES)
    columns = tuple(c.model_copy(update={"reference": "z"}) if c.name == "g" else c for c in subject.spec.columns)
    chosen = system(rows_of(TWO_GROUPS), roles=ROLES)
    object.__setattr__(chosen, "spec", chosen.spec.model_copy(update={"columns": columns}))
    result = tilt.compare_groups(chosen, TiltSettings(), 1, Work())
    assert result.attributes[0].reference == "a"
    assert "“z” has no rows here" in result.attributes[0].note
    assert "“z” has no rows here" in tilt.say(result, Wording(), TiltSettings()).detail


def test_numbers_become_bins_and_intersections_name_both_columns():
    rng = np.random.default_rng(0)
    columns = {"age": rng.uniform(0, 80, 400), "g": rng.choice(["a", "b"], 400), "y": rng.integers(0, 2, 400)}
    columns["d"] = columns["y"]
    result = compared(columns, roles=ROLES | {"age": Role.group}, intersections=(("g", "age"),))
    ages = [group for group in result.groups if group.attribute == "age"]
    assert len(ages) == 4
    assert sum(group.rows for group in ages) == 400
    crossed = [group for group in result.groups if group.attribute == "g · age"]
    assert len(crossed) == 8
    assert all(" · age " in group.group for group in crossed)


def test_groups_drawn_alike_are_rarely_flagged():
    rng = np.random.default_rng(4)
    flagged = compared_all = 0
    for _ in range(30):
        n = 900
        columns = {"g": rng.choice(list("abcd"), n), "y": rng.integers(0, 2, n), "d": rng.integers(0, 2, n)}
        found = compared(columns).disparities
        flagged += sum(d.status == "flagged" for d in found)
        compared_all += len(found)
    assert flagged <= 0.05 * compared_all


@settings(max_examples=25, deadline=None)
@given(st.randoms(use_true_random=False), st.sampled_from(["plain", "scored"]))
def test_the_order_of_rows_changes_nothing(random, kind):
    columns = rows_of(TWO_GROUPS)
    roles = ROLES
    if kind == "scored":
        columns["d"] = [0.2 + 0.5 * d + 0.1 * y for d, y in zip(columns["d"], columns["y"], strict=True)]
        roles = {"g": Role.group, "d": Role.score}
    order = list(range(len(columns["y"])))
    random.shuffle(order)
    shuffled = {name: [values[i] for i in order] for name, values in columns.items()}

    def rates(result):
        return {
            (g.group, name): m.model_dump()
            for g, name in product(result.groups, g_names(result))
            if (m := g.metrics.get(name)) and metrics.METRICS[name].kind == "rate"
        }

    def g_names(result):
        return result.groups[0].metrics

    before, after = compared(columns, roles=roles), compared(shuffled, roles=roles)
    assert rates(before) == rates(after)
    assert [d.ratio for d in before.disparities[:9]] == [d.ratio for d in after.disparities[:9]]


def test_weights_of_one_change_nothing_and_others_count():
    columns = rows_of(TWO_GROUPS)
    plain = compared(columns)
    ones = compared(columns | {"w": [1.0] * 320}, roles=ROLES | {"w": Role.weight})
    assert plain.disparities == ones.disparities
    doubled = compared(columns | {"w": [2.0 if y else 1.0 for y in columns["y"]]}, roles=ROLES | {"w": Role.weight})
    of_b = next(group for group in doubled.groups if group.group == "b")
    assert of_b.metrics["base_rate"].value == pytest.approx(120 / 180)
    assert of_b.metrics["base_rate"].of == 120


def test_a_reference_chosen_in_the_settings_comes_first():
    subject = system(rows_of(TWO_GROUPS), roles=ROLES)
    chosen = TiltSettings(references=(Reference(attribute="g", group="b"),))
    result = tilt.compare_groups(subject, chosen, 1, Work())
    assert [group.reference for group in result.groups] == [False, True]


def test_overlapping_memberships_are_compared_with_those_outside():
    columns = {
        "g": ["x;y", "x", "y", "", "x;y;z", "z"] * 40,
        "y": [1, 0, 1, 0, 1, 0] * 40,
        "d": [1, 0, 0, 1, 1, 1] * 40,
    }
    subject = with_columns(system(columns, roles=ROLES), g={"separator": ";"})
    result = tilt.compare_groups(subject, TiltSettings(), 1, Work())
    assert {group.group: group.rows for group in result.groups} == {"x": 120, "y": 120, "z": 80, "(missing)": 40}
    assert result.attributes[0].overlapping
    of_x = next(d for d in result.disparities if d.group == "x" and d.metric == "selection_rate")
    assert (of_x.against.count, of_x.against.of) == (80, 120)


def test_segments_are_groups_and_may_overlap():
    columns = rows_of(TWO_GROUPS) | {"age": list(range(320))}
    young = Segment(name="young", conditions=(Condition(column="age", up_to=99),))
    young_a = Segment(name="young a", conditions=(*young.conditions, Condition(column="g", levels=("a",))))
    result = compared(columns, roles={"d": Role.decision}, segments=(young, young_a))
    assert {group.group: group.rows for group in result.groups} == {"young": 100, "young a": 100}
    text = tilt_said.sentence(result, result.disparities[0], Wording())
    assert text.startswith("Young rows: base rate") and "all other rows" in text


def test_a_policy_of_its_own_is_followed_and_counted():
    policy = FlagPolicy(
        metrics=("selection_rate", "accuracy"),
        tolerances=(Tolerance(metric="accuracy", difference=0.01), Tolerance(metric="selection_rate", ratio_low=0.4)),
        adjustment="Bonferroni",
    )
    result = compared(rows_of(TWO_GROUPS), policy=policy)
    by_metric = {d.metric: d for d in result.disparities}
    assert set(by_metric) == {"selection_rate", "accuracy"} and result.tested == 2
    assert (by_metric["accuracy"].judged, by_metric["accuracy"].high) == ("difference", 0.01)
    assert by_metric["selection_rate"].status == "within"
    assert by_metric["selection_rate"].p_adjusted == pytest.approx(min(1, 2 * by_metric["selection_rate"].p_value))


@pytest.mark.parametrize("decided", [0, 1])
def test_all_selected_or_none_has_words_and_no_endless_ratio(decided):
    columns = rows_of(TWO_GROUPS)
    columns["d"] = [decided] * len(columns["y"])
    result = compared(columns)
    for found in result.disparities:
        for one in (found.ratio, found.difference):
            assert one.value is None or all(np.isfinite([one.value, one.low, one.high]))
        if found.ratio.value is None:
            assert found.note
    rate = next(d for d in result.disparities if d.metric == "selection_rate")
    assert rate.status in ("within", "uncertain")
    assert rate.corrected == (decided == 0)


def test_a_single_class_in_a_group_leaves_its_rates_undefined_with_words():
    cells = {key: n for key, n in TWO_GROUPS.items() if key[:2] != ("b", 1)}
    result = compared(rows_of(cells))
    found = next(d for d in result.disparities if d.metric == "true_positive_rate")
    assert (found.status, found.ratio.value) == ("too_few", None)
    assert found.note == "No row of the group can be counted for it."


def test_weights_of_zero_in_a_group_leave_it_undefined():
    columns = rows_of(TWO_GROUPS)
    columns["w"] = [0.0 if g == "b" else 1.0 for g in columns["g"]]
    result = compared(columns, roles=ROLES | {"w": Role.weight})
    assert {d.status for d in result.disparities} == {"too_few"}
    assert "NaN" not in result.model_dump_json()


def test_an_unknown_metric_and_one_of_another_task_are_refused():
    with pytest.raises(Refused, match="None of the metrics chosen is defined for binary"):
        compared(rows_of(TWO_GROUPS), policy=FlagPolicy(metrics=("mae",)))
    with pytest.raises(Refused, match="is unknown"):
        metrics.metric_named("charm")


def test_intervals_of_the_sheet_are_those_of_the_score_test():
    found = next(d for d in compared(rows_of(TWO_GROUPS)).disparities if d.metric == "selection_rate")
    expected = intervals.koopman(40, 120, 110, 200)
    assert (found.ratio.low, found.ratio.high) == pytest.approx((float(expected.low), float(expected.high)))


def test_equal_accuracy_that_hides_different_errors_is_said():
    cells = {
        ("a", 1, 1): 450, ("a", 1, 0): 50, ("a", 0, 1): 150, ("a", 0, 0): 350,
        ("b", 1, 1): 350, ("b", 1, 0): 150, ("b", 0, 1): 50, ("b", 0, 0): 450,
    }  # fmt: skip
    result = compared(rows_of(cells))
    assert next(d for d in result.disparities if d.metric == "accuracy").status == "within"
    detail = tilt.say(result, Wording(), TiltSettings()).detail
    assert "Accuracy is within the limits for g b, while error rates are flagged" in detail
    assert "Accuracy is within" not in tilt.say(compared(rows_of(TWO_GROUPS)), Wording(), TiltSettings()).detail


def test_no_group_column_is_said():
    with pytest.raises(Refused, match="No column is marked as a group"):
        compared({"y": [0, 1], "d": [0, 1]}, roles={"d": Role.decision})
