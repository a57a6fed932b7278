"""Comparisons within strata against published tables, and the sheet that reads them."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.systems import system

from zerotilt.core.groups import given as sheet
from zerotilt.core.groups.given_result import GivenSettings
from zerotilt.core.meaning import Role, Task, Wording
from zerotilt.core.refusal import Refused
from zerotilt.core.stats.strata import mantel_haenszel, pooled_means
from zerotilt.core.work import Work

# Bickel, Hammel & O'Connell 1975: admitted and refused in six departments
BICKEL = np.array([[512, 313, 89, 19], [353, 207, 17, 8], [120, 205, 202, 391], [138, 279, 131, 244], [53, 138, 94, 299], [22, 351, 24, 317]])  # fmt: skip
# Charig et al. 1986 (Julious & Mullee 1994): two treatments by size, successes and failures
CHARIG = np.array([[81, 6, 234, 36], [192, 71, 55, 25]])


def counts(table):
    a, b, c, d = table.T
    return a, a + b, c, c + d


def test_a_published_odds_ratio_and_its_interval():
    found = mantel_haenszel(*counts(BICKEL))
    assert tuple(map(float, found.odds_ratio)) == pytest.approx((0.9046968, 0.7719074, 1.0603298), abs=1e-6)
    assert found.p == pytest.approx(0.2169, abs=2e-4)
    assert found.p_alike < 0.01  # one department goes another way


def test_rate_ratio_and_difference_by_hand():
    a, m1, c, m2 = (v.astype(float) for v in counts(CHARIG))
    n = m1 + m2
    found = mantel_haenszel(a, m1, c, m2)
    assert float(found.ratio.value) == pytest.approx((a * m2 / n).sum() / (c * m1 / n).sum())
    weight = m1 * m2 / n
    assert float(found.difference.value) == pytest.approx((weight * (a / m1 - c / m2)).sum() / weight.sum())
    assert float(found.ratio.value) > 1 > (a.sum() / m1.sum()) / (c.sum() / m2.sum())


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(*[st.integers(0, 30)] * 4), min_size=1, max_size=6))
def test_pooling_one_stratum_is_the_plain_ratio_and_order_changes_nothing(rows):
    table = np.array(rows)
    whole = mantel_haenszel(*counts(table))
    turned = mantel_haenszel(*counts(table[::-1]))
    assert np.allclose([*whole.ratio, *whole.odds_ratio], [*turned.ratio, *turned.odds_ratio], equal_nan=True)
    a, m1, c, m2 = counts(table[:1])
    one = mantel_haenszel(a, m1, c, m2)
    if (a > 0).all() and (c > 0).all():
        assert float(one.ratio.value) == pytest.approx(float((a / m1 / (c / m2))[0]))


def test_strata_with_one_side_only_say_nothing():
    both = mantel_haenszel([5], [20], [9], [30])
    more = mantel_haenszel([5, 4, 0], [20, 10, 0], [9, 0, 3], [30, 0, 5])
    assert tuple(map(float, both.ratio)) == pytest.approx(tuple(map(float, more.ratio)))
    assert np.isnan(mantel_haenszel([1], [5], [0], [0]).p)


def test_pooled_intervals_cover():
    rng = np.random.default_rng(7)
    n1, n2 = np.array([40, 60, 200]), np.array([150, 60, 40])
    base, ratio, held = np.array([0.2, 0.4, 0.6]), 0.8, 0
    for _ in range(600):
        found = mantel_haenszel(rng.binomial(n1, base * ratio), n1, rng.binomial(n2, base), n2)
        held += float(found.ratio.low) <= ratio <= float(found.ratio.high)
    assert 0.93 <= held / 600 <= 0.97


def test_means_are_pooled_with_their_weights():
    gap, p = pooled_means(
        np.array([3.0, 1.0]), np.array([0.1, 0.2]), np.array([10, 10]), np.array([1.0, 1.0]), np.array([0.1, 0.2]),
        np.array([10, 30]), 0.95,
    )  # fmt: skip
    assert float(gap.value) == pytest.approx((5 * 2 + 7.5 * 0) / 12.5)
    assert p < 0.001


def rows_of(table, names):
    flat = [(g, s, y) for s, cells in zip(names, table, strict=True) for (g, y), n in zip([("m", 1), ("m", 0), ("f", 1), ("f", 0)], cells, strict=True) for _ in range(n)]  # fmt: skip
    return {
        "g": [g for g, _, _ in flat],
        "dept": [s for _, s, _ in flat],
        "y": [y for _, _, y in flat],
        "d": [y for _, _, y in flat],
    }


ROLES = {"g": Role.group, "d": Role.decision}


def test_the_sheet_names_the_column_that_takes_the_gap_away():
    rng = np.random.default_rng(0)
    columns = rows_of(BICKEL, "ABCDEF")
    columns["noise"] = rng.choice(["p", "q"], len(columns["y"]))
    subject = system(columns, roles=ROLES)
    asked = GivenSettings(attribute="g", group="f", reference="m")
    result = sheet.compare_given(subject, asked, 1, Work())
    assert result.columns == ("dept",) and result.candidates[0].column == "dept"
    assert result.verdict == "vanishes" and result.shrinks > 0.9
    assert 1 / float(result.pooled.odds_ratio.value) == pytest.approx(0.9046968, abs=1e-6)
    assert {one.stratum for one in result.strata} == set("ABCDEF")
    text = sheet.say(result, Wording(rows="people"), asked).text
    assert text.startswith("Given dept, the gap between f and m can no longer be told from none")


def test_a_reversal_is_told():
    table = CHARIG * 4  # with more rows both comparisons are beyond chance
    subject = system(rows_of(table, ["small", "large"]), roles=ROLES)
    asked = GivenSettings(attribute="g", group="m", reference="f", columns=("dept",))
    result = sheet.compare_given(subject, asked, 1, Work())
    assert result.plain.ratio.value < 1 < result.pooled.ratio.value
    assert result.verdict == "reversed"
    assert sheet.say(result, Wording(), asked).headline[1].flagged


def test_numbers_are_compared_within_strata_by_their_means():
    rng = np.random.default_rng(2)
    place = rng.choice(["n", "s"], 2_000)
    group = np.where(rng.random(2_000) < np.where(place == "n", 0.8, 0.2), "a", "b")
    value = 5 + 2.0 * (place == "n") + rng.normal(0, 1, 2_000)
    subject = system(
        {"g": group, "place": place, "s": value, "y": value},
        roles={"g": Role.group, "s": Role.score},
        task=Task.regression,
    )
    result = sheet.compare_given(subject, GivenSettings(attribute="g", group="a", reference="b"), 1, Work())
    assert (result.by, result.columns, result.verdict) == ("difference", ("place",), "vanishes")
    assert abs(result.pooled.difference.value) < 0.2 < abs(result.plain.difference.value)


@pytest.mark.parametrize(
    ("asked", "message"),
    [
        ({"columns": ("g",)}, "makes the groups themselves"),
        ({"columns": ("nowhere",)}, "no column"),
        ({"metric": "auc"}, "not a share or a mean"),
        ({"group": "x"}, "has no rows here"),
        ({"group": "f", "reference": "f"}, "its own reference"),
    ],
)
def test_what_cannot_be_compared_is_refused(asked, message):
    subject = system(rows_of(CHARIG, ["small", "large"]), roles=ROLES)
    with pytest.raises(Refused, match=message):
        sheet.compare_given(subject, GivenSettings(attribute="g", **asked), 1, Work())
