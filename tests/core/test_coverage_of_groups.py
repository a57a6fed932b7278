"""Do 95% intervals of groups hold the truth in 95% of tables? Seeded draws over sizes and rates, small ones included."""

import numpy as np
import pytest

from zerotilt.core.groups import influence, tally
from zerotilt.core.groups.metrics import METRICS
from zerotilt.core.groups.readout import Lens, Readout
from zerotilt.core.stats import calibration, intervals

LOW, HIGH = 0.93, 0.97
SIZES = [(30, 30), (30, 300), (100, 100), (50, 2_000)]
RATES = [(0.05, 0.15), (0.1, 0.3), (0.3, 0.7), (0.7, 0.9), (0.85, 0.95)]
TABLES = 8_000


@pytest.mark.parametrize(("n1", "n2"), SIZES)
@pytest.mark.parametrize(("low", "high"), RATES)
def test_rates_differences_and_ratios(n1, n2, low, high):
    """The rates differ from table to table, so that no single lucky or unlucky one decides."""
    rng = np.random.default_rng([n1, n2, int(100 * low)])
    p1, p2 = rng.uniform(low, high, (2, TABLES))
    x1, x2 = rng.binomial(n1, p1), rng.binomial(n2, p2)
    found = {
        "rate": (intervals.wilson(x1, n1), p1),
        "difference": (intervals.mee(x1, n1, x2, n2), p1 - p2),
        "ratio": (intervals.koopman(x1, n1, x2, n2), p1 / p2),
    }
    held = {name: ((one.low <= truth) & (truth <= one.high)).mean() for name, (one, truth) in found.items()}
    assert {name: LOW <= share <= HIGH for name, share in held.items()} == dict.fromkeys(held, True), held


@pytest.mark.parametrize("n", [30, 100, 400])
def test_means_of_skewed_losses_and_their_comparison(n):
    rng = np.random.default_rng(n)
    tables = 3_000

    def losses(rows):
        s = rng.beta(2, 1.2, (tables, rows))
        y = rng.random((tables, rows)) < s
        return -np.log(np.where(y, s, 1 - s))

    def interval(values):
        middle, spread = values.mean(axis=1), values.std(axis=1)
        skew = ((values - middle[:, None]) ** 3).mean(axis=1) / spread**3
        return intervals.mean(middle, spread / np.sqrt(n - 1), skew, n)

    first, second = interval(losses(n)), interval(losses(n))
    truth = losses(400).mean()
    gap, ratio = intervals.between(first, second), intervals.over(first, second)
    held = [((one.low <= value) & (value <= one.high)).mean() for one, value in ((first, truth), (gap, 0), (ratio, 1))]
    assert all(LOW <= share <= HIGH for share in held), held


@pytest.mark.parametrize(("true", "rows"), [(0.6, (30, 30)), (0.75, (30, 100)), (0.9, (30, 30)), (0.9, (100, 100))])
def test_areas_and_their_comparison(true, rows):
    from scipy import stats

    rng = np.random.default_rng(rows[1])
    tables, apart = 2_000, stats.norm.ppf(true) * np.sqrt(2)
    happened = np.tile(np.r_[np.ones(rows[0], bool), np.zeros(rows[1], bool)], tables)
    codes = np.repeat(np.arange(tables), sum(rows))
    sides = []
    for _ in range(2):
        scores = rng.normal(0, 1, len(codes)) + apart * happened
        found = tally.areas(tally.Ranked.of(scores, happened, None), codes, tables)
        sides.append(intervals.area(found.value, found.variance, found.with_event, found.without))
    gap = intervals.between(*sides)
    held = [((one.low <= value) & (value <= one.high)).mean() for one, value in ((sides[0], true), (gap, 0))]
    assert all(LOW <= share <= HIGH for share in held), held


@pytest.mark.parametrize(("n", "shift"), [(300, 0.0), (300, 0.2), (1_000, 0.0), (1_000, 0.4)])
def test_calibration_errors(n, shift):
    """The truth: distances of the same bins in a very large sample."""
    rng = np.random.default_rng([n, int(10 * shift)])
    many = rng.beta(2, 1.5, 300_000)
    chance = many - shift * (many - 0.2)
    bins = np.searchsorted(np.quantile(many, np.arange(1, 15) / 15), many)
    truth = np.mean([abs((many - chance)[bins == b].mean()) for b in range(15)])
    held, tables = 0, 250
    for seed in range(tables):
        s = rng.beta(2, 1.5, n)
        found = calibration.with_interval(rng.random(n) < s - shift * (s - 0.2), s, None, seed)
        held += float(found.low) <= truth <= float(found.high)
    # so few tables: two standard errors are nearly three points
    assert 0.915 <= held / tables <= 0.99, held / tables


def readouts(y, first, second):
    return [
        Readout((Lens(y, d, d, {"true_positive_rate": METRICS["true_positive_rate"]}),), {}, None)
        for d in (first, second)
    ]


@pytest.mark.parametrize("shared", [True, False])
def test_changes_of_a_ratio_between_two_readings(shared):
    rng = np.random.default_rng(4)
    held, tables, n = 0, 1_000, 600
    for _ in range(tables):
        group, y = rng.random(n) < 0.4, rng.random(n) < 0.6
        u, other = rng.random(n), rng.random(n)
        # the same rows are decided much alike in both readings
        first, second = u < np.where(group, 0.5, 0.7), (u if shared else other) < np.where(group, 0.4, 0.7)
        before, after = readouts(y, first, second)
        key = "true_positive_rate"
        pairs = [influence.influence(one, key, mask) for one in (before, after) for mask in (group, ~group)]
        change, _ = influence.log_change(pairs, shared, 0.95)
        held += float(change.low) <= (0.4 / 0.7) / (0.5 / 0.7) <= float(change.high)
    assert LOW <= held / tables <= HIGH, held / tables
