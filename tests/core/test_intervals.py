"""Intervals and tests against SciPy, published cases, hand-computed values and simulation."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from zerotilt.core.stats import intervals

COUNTS = [(0, 10), (1, 10), (5, 10), (10, 10), (14, 263), (2431, 3600)]


@pytest.mark.parametrize(("x", "n"), COUNTS)
@pytest.mark.parametrize("confidence", [0.9, 0.95, 0.99])
def test_wilson_equals_scipy(x, n, confidence):
    expected = stats.binomtest(x, n).proportion_ci(confidence, method="wilson")
    found = intervals.wilson(x, n, confidence)
    assert found.value == pytest.approx(x / n)
    assert (found.low, found.high) == pytest.approx((expected.low, expected.high), abs=1e-12)


def test_wilson_of_no_rows_is_not_defined():
    assert np.isnan(intervals.wilson(0, 0)).all()


@pytest.mark.parametrize(
    ("x1", "n1", "x2", "n2", "low", "high"),
    [  # Newcombe 1998, Table II, method 10
        (56, 70, 48, 80, 0.0524, 0.3339),
        (9, 10, 3, 10, 0.1705, 0.8090),
        (6, 7, 2, 7, 0.0582, 0.8062),
        (5, 56, 0, 29, -0.0381, 0.1926),
        (10, 10, 0, 20, 0.6791, 1.0),
    ],
)
def test_two_wilson_intervals_make_newcombes_published_differences(x1, n1, x2, n2, low, high):
    found = intervals.between(intervals.wilson(x1, n1), intervals.wilson(x2, n2))
    assert (found.low, found.high) == pytest.approx((low, high), abs=5e-5)


@pytest.mark.parametrize(("a", "n1", "b", "n2"), [(7, 20, 11, 30), (104, 11037, 189, 11034), (1, 9, 30, 40)])
def test_katz_equals_scipy_where_no_cell_is_zero(a, n1, b, n2):
    expected = stats.contingency.relative_risk(a, n1, b, n2)
    interval = expected.confidence_interval(0.95)
    found = intervals.katz(a, n1, b, n2)
    assert found.value == pytest.approx(expected.relative_risk)
    assert (found.low, found.high) == pytest.approx((interval.low, interval.high), rel=1e-10)
    assert not found.corrected


def test_katz_adds_a_half_to_all_four_cells_when_one_is_zero():
    found = intervals.katz(0, 40, 20, 40)
    ratio = (0.5 / 41) / (20.5 / 41)
    spread = np.sqrt(1 / 0.5 - 1 / 41 + 1 / 20.5 - 1 / 41)
    step = np.exp(stats.norm.ppf(0.975) * spread)
    assert found.corrected
    assert tuple(map(float, found[:3])) == pytest.approx((ratio, ratio / step, ratio * step))


@settings(deadline=None)
@given(*(st.integers(0, 60) for _ in range(4)))
def test_every_interval_holds_its_estimate_and_is_finite(x1, rest1, x2, rest2):
    n1, n2 = x1 + rest1, x2 + rest2
    if not n1 or not n2:
        return
    counts = (x1, n1, x2, n2)
    for found in (intervals.mee(*counts), intervals.katz(*counts)[:3], intervals.koopman(*counts)[:3]):
        value, low, high = map(float, found)
        assert np.isfinite([value, low, high]).all()
        assert low - 1e-12 <= value <= high + 1e-12


@pytest.mark.parametrize(("x1", "n1", "x2", "n2"), [(30, 100, 45, 100), (5, 50, 9, 60), (300, 1000, 310, 1000)])
def test_score_test_equals_the_chi_square_test(x1, n1, x2, n2):
    expected = stats.chi2_contingency([[x1, n1 - x1], [x2, n2 - x2]], correction=False).pvalue
    assert float(intervals.score_test(x1, n1, x2, n2)) == pytest.approx(expected)


def test_score_test_of_two_certain_rates_finds_nothing():
    assert intervals.score_test(10, 10, 7, 7) == 1
    assert intervals.score_test(0, 10, 0, 7) == 1


def test_adjustment_by_hand():
    # Benjamini & Hochberg 1995: p(i) · m / i, made monotone from the largest down
    found = intervals.adjust([0.01, np.nan, 0.04, 0.03, 0.5])
    assert found[[0, 2, 3, 4]] == pytest.approx([0.04, 0.16 / 3, 0.16 / 3, 0.5])
    assert np.isnan(found[1])


def _auc_by_pairs(scores, outcome):
    pairs = scores[outcome][:, None] - scores[~outcome][None, :]
    return (pairs > 0) + 0.5 * (pairs == 0)


def test_auc_and_its_variance_equal_the_pairwise_definition():
    rng = np.random.default_rng(1)
    scores, outcome = rng.integers(0, 12, 80) / 12, rng.random(80) < 0.4  # with ties
    wins = _auc_by_pairs(scores, outcome)
    value, variance = intervals.auc(scores, outcome)
    assert value == pytest.approx(wins.mean())
    expected = wins.mean(axis=1).var(ddof=1) / len(wins) + wins.mean(axis=0).var(ddof=1) / wins.shape[1]
    assert variance == pytest.approx(expected)
    u = stats.mannwhitneyu(scores[outcome], scores[~outcome]).statistic
    assert value == pytest.approx(u / wins.size)


def test_auc_of_one_class_is_not_defined():
    assert np.isnan(intervals.auc(np.array([0.1, 0.9]), np.array([True, True]))).all()


def test_weights_of_two_equal_doubled_rows_in_the_auc():
    rng = np.random.default_rng(2)
    scores, outcome, weights = rng.random(50), rng.random(50) < 0.5, rng.integers(1, 4, 50)
    repeated = np.repeat(np.arange(50), weights)
    assert intervals.auc(scores, outcome, weights.astype(float))[0] == pytest.approx(
        intervals.auc(scores[repeated], outcome[repeated])[0]
    )


@pytest.mark.parametrize(
    ("x1", "n1", "x2", "n2", "low", "high"),
    [  # Newcombe 1998, Table II, method 4 (Mee)
        (56, 70, 48, 80, 0.0533, 0.3377),
        (9, 10, 3, 10, 0.1821, 0.8370),
        (5, 56, 0, 29, -0.0313, 0.1926),
        (10, 10, 0, 20, 0.7225, 1.0),
    ],
)
def test_the_score_interval_reproduces_published_differences(x1, n1, x2, n2, low, high):
    found = intervals.mee(x1, n1, x2, n2)
    assert (float(found.low), float(found.high)) == pytest.approx((low, high), abs=2e-3)


@pytest.mark.parametrize(
    ("x1", "n1", "x2", "n2", "low", "high"),
    [  # Koopman 1984, section 4: 36 of 40 against 16 of 80
        (36, 40, 16, 80, 2.94, 7.15),
    ],
)
def test_the_score_interval_reproduces_a_published_ratio(x1, n1, x2, n2, low, high):
    found = intervals.koopman(x1, n1, x2, n2)
    assert (float(found.low), float(found.high)) == pytest.approx((low, high), abs=0.01)


@settings(deadline=None)
@given(*(st.integers(1, 40) for _ in range(4)))
def test_an_interval_leaves_parity_out_exactly_where_the_test_rejects(x1, rest1, x2, rest2):
    counts = (x1, x1 + rest1, x2, x2 + rest2)
    rejected = float(intervals.score_test(*counts)) < 0.05
    ratio, gap = intervals.koopman(*counts), intervals.mee(*counts)
    assert (not ratio.low <= 1 <= ratio.high) == rejected
    assert (not gap.low <= 0 <= gap.high) == rejected


def test_a_reference_in_which_nothing_counts_has_a_ratio_with_two_limits():
    found = intervals.koopman([5, 0, 0], [50, 50, 0], [0, 0, 3], [40, 40, 10])
    assert np.isfinite([found.value[:2], found.low[:2], found.high[:2]]).all()
    assert found.corrected.tolist() == [True, True, False]
    assert np.isnan(found.value[2])


@pytest.mark.parametrize("how", ["Holm", "Bonferroni", "none", "false discovery rate"])
def test_adjustments_by_hand(how):
    p = np.array([0.01, 0.04, np.nan, 0.03])
    expected = {
        "Holm": [0.03, 0.06, np.nan, 0.06],
        "Bonferroni": [0.03, 0.12, np.nan, 0.09],
        "none": p,
        "false discovery rate": [0.03, 0.04, np.nan, 0.04],
    }[how]
    assert intervals.adjust(p, how) == pytest.approx(np.array(expected), nan_ok=True)


def test_a_mean_without_skew_has_students_interval():
    values = np.array([1.0, 2, 3, 4, 5, 6])
    error = values.std(ddof=1) / np.sqrt(6)
    expected = stats.t.interval(0.95, 5, 3.5, error)
    assert tuple(map(float, intervals.mean(3.5, error, 0.0, 6)[1:])) == pytest.approx(expected)


def test_a_perfect_ranking_of_few_rows_still_has_a_width():
    found = intervals.area(1.0, 0.0, 12, 9)
    assert 0.7 < float(found.low) < 0.95
    assert float(found.high) == 1.0


def test_sides_make_a_difference_and_a_ratio():
    first, second = intervals.Interval(2.0, 1.5, 2.6), intervals.Interval(1.0, 0.8, 1.3)
    gap, ratio = intervals.between(first, second), intervals.over(first, second)
    assert (gap.low, gap.high) == pytest.approx((1 - np.hypot(0.5, 0.3), 1 + np.hypot(0.6, 0.2)))
    assert float(ratio.low) < 2 < float(ratio.high)
    assert np.isnan(intervals.over(first, intervals.Interval(0.1, -0.1, 0.3)).value)
    assert float(intervals.tested(gap, 0.95)) < 0.05
