"""Groups compared: hand-computed rates, statuses, references, missing and tiny groups."""

from itertools import product

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.systems import system

from zerotilt.core.groups import metrics, tilt
from zerotilt.core.groups.metrics import Estimate
from zerotilt.core.groups.tilt import TiltSettings
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import FlagPolicy, Role, Wording
from zerotilt.core.work import Work

ROLES = {"g": Role.group, "d": Role.decision}


def rows_of(cells: dict[tuple[str, int, int], int]) -> dict[str, list]:
    """Columns g, y, d from counts of (group, outcome, decision)."""
    flat = [key for key, times in cells.items() for _ in range(times)]
    return {"g": [g for g, _, _ in flat], "y": [y for _, y, _ in flat], "d": [d for _, _, d in flat]}


TWO_GROUPS = {
    ("a", 1, 1): 80, ("a", 1, 0): 20, ("a", 0, 1): 30, ("a", 0, 0): 70,
    ("b", 1, 1): 30, ("b", 1, 0): 30, ("b", 0, 1): 10, ("b", 0, 0): 50,
}  # fmt: skip


def compared(columns, roles=ROLES, **more):
    return tilt.compare_groups(system(columns, roles=roles, **more), TiltSettings(), 1, Work())


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
    text = tilt.sentence(result, found, Wording(row="claim", rows="claims", favourable="settled at once"))
    assert text.startswith("B claims (g): settled at once 0.61 times as often as a claims (95% interval ")
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
    text = tilt.sentence(result, found, Wording())
    assert text.startswith("G 1 rows: accuracy 0.89 times that of g 0 rows (95%")


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
    assert tilt.status(enough, estimate, p, FlagPolicy()) == expected


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


def test_a_chosen_reference_that_has_no_rows_is_refused():
    subject = system(rows_of(TWO_GROUPS), roles=ROLES)
    columns = tuple(c.model_copy(update={"reference": "z"}) if c.name == "g" else c for c in subject.spec.columns)
    chosen = system(rows_of(TWO_GROUPS), roles=ROLES)
    object.__setattr__(chosen, "spec", chosen.spec.model_copy(update={"columns": columns}))
    with pytest.raises(Refused, match=r"z.*has no rows"):
        tilt.compare_groups(chosen, TiltSettings(), 1, Work())


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


def test_no_group_column_is_said():
    with pytest.raises(Refused, match="No column is marked as a group"):
        compared({"y": [0, 1], "d": [0, 1]}, roles={"d": Role.decision})
