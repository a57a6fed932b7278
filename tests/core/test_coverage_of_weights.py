"""Intervals and tests of weighted rows hold what they promise, also where weights go with outcome or score."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.stats
from tests.core.systems import told

from zerotilt.core.groups.tally import Ranked, areas
from zerotilt.core.groups.whole import OF_SETS, Set
from zerotilt.core.meaning import Task
from zerotilt.core.stats import intervals, strata

TABLES = 6_000
TIED = [-1.5, -0.7, 0.0, 0.7, 1.5]
"""How the logarithm of a row's weight goes with what is counted."""


def drawn(rng, n: int, p: float, tied: float, tables: int = TABLES):
    """Rows counted with chance p, their weights, and the weighted rate of all rows there could be."""
    x = rng.random((tables, n)) < p
    w = np.exp(0.5 * rng.normal(size=(tables, n)) + tied * x)
    return x, w, p * np.exp(tied) / (p * np.exp(tied) + 1 - p)


def counts(x, w, confidence=0.95):
    sums = (w * x).sum(axis=1), (w**2 * x).sum(axis=1), w.sum(axis=1), (w**2).sum(axis=1)
    return intervals.effective_counts(*sums, x.shape[1], confidence)


@pytest.mark.parametrize("tied", TIED)
@pytest.mark.parametrize(("n", "p"), [(60, 0.2), (60, 0.5), (200, 0.1), (200, 0.5), (1_000, 0.05), (1_000, 0.3)])
def test_a_weighted_rate_is_held_by_its_interval(n, p, tied):
    x, w, truth = drawn(np.random.default_rng([n, int(100 * p)]), n, p, tied)
    found = intervals.wilson(*counts(x, w))
    held = ((found.low <= truth) & (truth <= found.high)).mean()
    # ten counted rows or so are few for a variance: there it holds 93 to 96
    assert 0.93 <= held <= 0.97, held


@pytest.mark.parametrize("confidence", [0.8, 0.9, 0.99])
def test_a_weighted_rate_of_few_rows_is_held_at_every_level(confidence):
    x, w, truth = drawn(np.random.default_rng(5), 14, 0.5, 0.3, 20_000)
    found = intervals.wilson(*counts(x, w, confidence), confidence)
    held = ((found.low <= truth) & (truth <= found.high)).mean()
    assert abs(held - confidence) < max(0.02, 0.6 * (1 - confidence)), held
    # the variance was estimated from fourteen rows: Student's quantile of the level that is asked for
    x, w = np.array([[1, 0] * 7]), np.array([[1.0, 2.0] * 7])
    n = counts(x, w, confidence)[1][0]
    p, v = 1 / 3, (7 * (2 / 3) ** 2 + 7 * 4 * (1 / 3) ** 2) / 21**2
    end = 0.5 + confidence / 2
    assert n == pytest.approx(p * (1 - p) / v * (scipy.stats.norm.ppf(end) / scipy.stats.t.ppf(end, 13)) ** 2)


@pytest.mark.parametrize("tied", TIED)
@pytest.mark.parametrize(("n1", "n2"), [(100, 100), (100, 1_000), (400, 400)])
def test_weighted_differences_and_ratios_are_held_and_tests_keep_their_level(n1, n2, tied):
    rng = np.random.default_rng([n1, n2])
    tables = 4_000
    x1, w1, first = drawn(rng, n1, 0.35, tied, tables)
    x2, w2, second = drawn(rng, n2, 0.25, -tied / 2, tables)
    sides = (*counts(x1, w1), *counts(x2, w2))
    gap, ratio = intervals.mee(*sides), intervals.koopman(*sides)
    held = [
        ((gap.low <= first - second) & (first - second <= gap.high)).mean(),
        ((ratio.low <= first / second) & (first / second <= ratio.high)).mean(),
    ]
    assert all(0.93 <= share <= 0.97 for share in held), held
    # where both sides are alike, at most one in twenty is told apart
    x2, w2, _ = drawn(rng, n2, 0.35, tied, tables)
    level = (intervals.score_test(*counts(x1, w1), *counts(x2, w2)) <= 0.05).mean()
    assert 0.03 <= level <= 0.07, level


def test_weights_that_go_with_what_is_counted_do_not_take_the_power_away():
    """Rows counted are sampled more and weigh less: a gap that plain counting of effective rows misses is found."""
    rng = np.random.default_rng(1)
    x1, w1, _ = drawn(rng, 300, 0.2, -1.5, 2_000)
    x2, w2, _ = drawn(rng, 300, 0.35, -1.5, 2_000)
    found = (intervals.score_test(*counts(x1, w1), *counts(x2, w2)) <= 0.05).mean()

    def kish(x, w):
        n = w.sum(axis=1) ** 2 / (w**2).sum(axis=1)
        return n * (w * x).sum(axis=1) / w.sum(axis=1), n

    before = (intervals.score_test(*kish(x1, w1), *kish(x2, w2)) <= 0.05).mean()
    assert found > 0.85 > before + 0.2


@pytest.mark.parametrize("tied", [-1.0, 0.0, 1.0])
@pytest.mark.parametrize("n", [100, 400])
def test_weighted_areas_and_means_are_held(n, tied):
    rng = np.random.default_rng([n, int(10 * tied) + 20])

    def rows(size):
        y = rng.random(size) < 0.4
        s = rng.normal(size=size) + y
        return y, s, np.exp(0.5 * rng.normal(size=size) + tied * (s > 1))

    y, s, w = rows(300_000)
    truth, mean = intervals.auc(s, y, w)[0], np.average(s**2, weights=w)
    tables = 3_000
    y, s, w = rows(tables * n)  # every table is a group of its own
    own = areas(Ranked.of(s, y, w), np.repeat(np.arange(tables), n), tables)
    found = intervals.area(own.value, own.variance, own.with_event, own.without)
    held = ((found.low <= truth) & (truth <= found.high)).mean()
    assert 0.925 <= held <= 0.975, held
    held, tables = 0, 600
    for own in np.arange(tables * n).reshape(tables, n):
        rms = told(Task.regression, np.zeros(n), s[own], w[own])["rmse"]
        held += rms.low <= np.sqrt(mean) <= rms.high
    assert 0.90 <= held / tables <= 0.975, (
        held
    )  # squares of a hundred weighted rows are skewed further than is corrected


@pytest.mark.parametrize("tied", [-1.0, 0.0, 1.0])
def test_weighted_strata_are_held(tied):
    rng = np.random.default_rng(int(10 * tied) + 30)
    tables, n = 1_000, 600

    def rows(size):
        stratum = rng.integers(0, 4, size)
        inside = rng.random(size) < 0.3 + 0.1 * stratum
        y = rng.random(size) < 0.2 + 0.1 * stratum + 0.1 * inside
        return stratum, inside, y, np.exp(0.4 * rng.normal(size=size) + tied * y)

    truth = strata.weighted(*_given(rows(800_000)))
    held = np.zeros(3)
    for _ in range(tables):
        found = strata.weighted(*_given(rows(n)))
        held += [
            float(one.low) <= float(true.value) <= float(one.high)
            for one, true in zip(found[:3] if isinstance(found, tuple) else (found.odds_ratio, found.ratio, found.difference),
                                 (truth.odds_ratio, truth.ratio, truth.difference), strict=True)
        ]  # fmt: skip
    assert all(0.93 <= share <= 0.97 for share in held / tables), held / tables


def _given(drawn_rows):
    stratum, inside, y, w = drawn_rows
    return stratum, 4, inside, y, w


def test_strata_of_equal_weights_are_mantel_and_haenszels():
    rng = np.random.default_rng(2)
    stratum, inside = rng.integers(0, 3, 400), rng.random(400) < 0.5
    y = rng.random(400) < 0.3 + 0.1 * stratum
    found = strata.weighted(stratum, 3, inside, y, np.full(400, 2.0))
    cells = [np.bincount(stratum[side], y[side], 3) for side in (inside, ~inside)]
    rows = [np.bincount(stratum[side], minlength=3) for side in (inside, ~inside)]
    plain = strata.mantel_haenszel(cells[0], rows[0], cells[1], rows[1])
    for own, other in (
        (found.odds_ratio, plain.odds_ratio),
        (found.ratio, plain.ratio),
        (found.difference, plain.difference),
    ):
        assert float(own.value) == pytest.approx(float(other.value))
        assert float(own.low) == pytest.approx(float(other.low), rel=0.05, abs=0.01)


@pytest.mark.parametrize("n", [60, 300])
@pytest.mark.parametrize("good", [0.8, 3.0])
def test_measures_of_performance_are_held_by_their_intervals(n, good):
    """F1, balanced accuracy and average precision of an event; also where the ranking is nearly perfect."""
    rng = np.random.default_rng([n, int(10 * good)])

    def rows(size):
        y = rng.random(size) < 0.35
        s = 1 / (1 + np.exp(-(good * (2 * y - 1) + rng.normal(size=size))))
        return y, s

    def found(size):
        y, s = rows(size)
        whole = Set(y, s >= 0.5, s, np.ones(size), 2, 0.95, 1)
        return {name: OF_SETS[name](whole)[0] for name in ("f1", "balanced_accuracy", "average_precision")}

    truth = {name: one.value for name, one in found(400_000).items()}
    held = dict.fromkeys(truth, 0)
    tables = 1_000
    for _ in range(tables):
        for name, one in found(n).items():
            held[name] += one.low <= truth[name] <= one.high
            assert one.low < 1.0  # never "100.0% to 100.0%"
    assert all(count / tables >= 0.92 for count in held.values()), held


def test_measures_of_numbers_are_held_by_their_intervals():
    rng = np.random.default_rng(4)

    def rows(size):
        y = rng.gamma(2.0, size=size)
        return y, 0.7 * y + 0.5 + rng.normal(size=size) * 0.6

    truth = {name: one.value for name, one in told(Task.regression, *rows(400_000)).items()}
    held, tables = dict.fromkeys(truth, 0), 1_000
    for _ in range(tables):
        for name, one in told(Task.regression, *rows(120)).items():
            held[name] += one.low <= truth[name] <= one.high
    assert all(0.92 <= count / tables <= 0.98 for count in held.values()), held


@pytest.mark.parametrize("n", [22, 40])
def test_the_mean_of_few_skewed_scores_is_held_and_its_interval_does_not_run_away(n):
    rng = np.random.default_rng(n)
    tables, values = 4_000, rng.beta(0.5, 3, (4_000, n))
    middle, spread = values.mean(axis=1), values.std(axis=1)
    skew = ((values - middle[:, None]) ** 3).mean(axis=1) / spread**3
    found = intervals.mean(middle, spread / np.sqrt(n - 1), skew, n)
    held = ((found.low <= 1 / 7) & (found.high >= 1 / 7)).sum() / tables
    assert 0.93 <= held <= 0.97
    assert ((found.high - middle) / (spread / np.sqrt(n - 1))).max() < 5
