"""Intervals and tests against SciPy, published cases, hand-computed values and simulation."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from zerotilt.core.groups import intervals

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
def test_newcombe_reproduces_the_published_examples(x1, n1, x2, n2, low, high):
    found = intervals.newcombe(x1, n1, x2, n2)
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


@given(*(st.integers(0, 60) for _ in range(4)))
def test_every_interval_holds_its_estimate_and_is_finite(x1, rest1, x2, rest2):
    n1, n2 = x1 + rest1, x2 + rest2
    if not n1 or not n2:
        return
    for found in (intervals.newcombe(x1, n1, x2, n2), intervals.katz(x1, n1, x2, n2)[:3]):
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


@pytest.mark.parametrize(("n1", "n2", "p1", "p2"), [(40, 300, 0.5, 0.6), (150, 150, 0.15, 0.3), (500, 80, 0.8, 0.7)])
def test_coverage_of_the_intervals_is_near_what_they_say(n1, n2, p1, p2):
    rng = np.random.default_rng(n1)
    x1, x2 = rng.binomial(n1, p1, 20_000), rng.binomial(n2, p2, 20_000)
    truths = ((intervals.wilson(x1, n1), p1), (intervals.newcombe(x1, n1, x2, n2), p1 - p2))
    truths += ((intervals.katz(x1, n1, x2, n2), p1 / p2),)
    for found, truth in truths:
        covered = ((found.low <= truth) & (truth <= found.high)).mean()
        assert 0.93 <= covered <= 0.97


def test_joined_rows_bootstrap_like_single_ones(monkeypatch):
    rng = np.random.default_rng(6)
    distance = rng.random(12_000) ** 3
    values, weights = np.column_stack([distance**2, -np.log1p(-distance)]), rng.integers(1, 4, 12_000).astype(float)
    joined = intervals.bootstrap_means(values, weights, seed=1)
    monkeypatch.setattr(intervals, "BINNED_FROM", 10**9)
    single = intervals.bootstrap_means(values, weights, seed=2)
    assert joined.mean(axis=0) == pytest.approx(single.mean(axis=0), rel=2e-3)
    assert joined.std(axis=0) == pytest.approx(single.std(axis=0), rel=0.06)


def test_bootstrap_is_seeded_and_as_wide_as_the_standard_error():
    rng = np.random.default_rng(3)
    values = rng.random((400, 2))
    draws = intervals.bootstrap_means(values, None, seed=5)
    assert draws.shape == (2_000, 2)
    assert draws.std(axis=0) == pytest.approx(values.std(axis=0) / np.sqrt(400), rel=0.08)
    low, high = intervals.percentile(draws[:, 0], 0.95)
    assert low < values[:, 0].mean() < high
