"""Each remedy against its definition: what is drawn, what is moved, what is penalised, and what keeps to a limit."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import check_grad
from scipy.special import expit
from scipy.stats import ks_2samp
from sklearn.linear_model import LogisticRegression
from sklearn.neural_network import MLPClassifier

from zerotilt.core.steps.penalty import WIDTH, Penalty, logistic, network
from zerotilt.core.steps.reductions import Limits, reduce
from zerotilt.core.steps.repair import LEAST, fitted
from zerotilt.core.steps.resampling import resampled


@given(st.integers(0, 10_000), st.sampled_from(["over", "under"]))
@settings(max_examples=60, deadline=None)
def test_outcomes_are_balanced_where_they_are_asked_to_be_and_nowhere_else(seed, how):
    rng = np.random.default_rng(seed)
    n = int(rng.integers(10, 200))
    y, part = rng.choice(["yes", "no", "never"], n, p=[0.3, 0.6, 0.1]), rng.choice(["a", "b", "alone"], n)
    y[part == "alone"] = "yes"
    balanced = part != "b"
    drawn = resampled(y, part, balanced, how, rng)
    times = np.bincount(drawn, minlength=n)
    assert (times[part == "b"] == 1).all() and (times[part == "alone"] == 1).all()
    here = part == "a"
    sizes = {one: int(times[here & (y == one)].sum()) for one in set(y[here])}
    before = [int((here & (y == one)).sum()) for one in sizes]
    if len(sizes) > 1:
        assert set(sizes.values()) == {max(before) if how == "over" else min(before)}
    for one in sizes:  # rows of one kind are drawn alike often
        own = times[here & (y == one)]
        assert own.max() - own.min() <= 1 and (own.min() >= 1 if how == "over" else own.max() <= 1)


def groups(seed: int, n: int = 600):
    rng = np.random.default_rng(seed)
    group = rng.choice(["north", "isles", "uplands"], n, p=[0.5, 0.3, 0.2])
    x = rng.gamma(2, 1, n) * np.where(group == "isles", 3, 1) + np.where(group == "uplands", 5, 0)
    return x, group, rng


@pytest.mark.parametrize("scale", [1.0, 1e8, 1e-6])
def test_a_full_repair_leaves_no_distance_and_no_repair_leaves_everything(scale):
    x, group, _ = groups(1)
    x = (x * scale).astype(np.float32)
    moved = fitted(x, group, 1.0).moved(x, group)
    for one in ("isles", "uplands"):
        before = ks_2samp(x[group == one], x[group == "north"]).statistic
        after = ks_2samp(moved[group == one], moved[group == "north"]).statistic
        smallest = min((group == one).sum(), (group == "north").sum())
        assert before > 0.3 and after <= 1.5 / smallest  # a step of the smaller group, that is: none
    assert np.array_equal(fitted(x, group, 0.0).moved(x, group), x)


@given(st.integers(0, 10_000), st.sampled_from([0.0, 0.3, 0.7, 1.0]))
@settings(max_examples=80, deadline=None)
def test_ranks_within_groups_are_kept_for_values_that_were_never_seen_too(seed, level):
    x, group, rng = groups(seed, seed % 900 + 40)
    x = np.where(rng.random(len(x)) < 0.3, np.round(x), x) * rng.choice([1e-5, 1, 1e8])
    repair = fitted(x, group, level)
    for one in set(group):
        seen = np.sort(np.concatenate([x[group == one], rng.normal(x.mean(), x.std() * 3, 500)]).astype(np.float32))
        seen = np.unique(np.concatenate([seen, np.nextafter(seen, np.float32(-np.inf))]))
        moved = repair.moved(seen, np.full(len(seen), one))
        assert (np.diff(moved) >= 0).all()


def test_the_median_of_the_groups_at_the_same_rank_is_where_values_go():
    """By hand: three groups of eleven values each, so that every value stands at the same share in all."""
    base = np.arange(11.0)
    x, group = np.concatenate([base, base * 10, base + 100]), np.repeat(["a", "b", "c"], 11)
    order = np.random.default_rng(0).permutation(33)
    moved = fitted(x[order], group[order], 1.0).moved(x, group)
    wanted = np.median([base, base * 10, base + 100], axis=0)
    assert moved == pytest.approx(np.tile(wanted, 3))
    half = fitted(x, group, 0.5).moved(x, group)
    assert half == pytest.approx((x + np.tile(wanted, 3)) / 2)


def test_what_is_missing_unknown_or_of_few_rows_is_left_as_it_is():
    x, group, _ = groups(3)
    x[:50] = np.nan
    group[50 : 50 + LEAST - 1] = "skerries"
    repair = fitted(x, group, 1.0)
    moved = repair.moved(x, group)
    assert np.isnan(moved[:50]).all() and "skerries" not in repair.groups
    few = group == "skerries"
    assert moved[few] == pytest.approx(x[few].astype(np.float32))
    assert repair.moved(np.array([4.0]), np.array(["unheard of"])) == 4.0
    assert np.array_equal(
        fitted(np.full(30, 7.0), np.repeat(["a", "b"], 15), 1.0).moved([7.0, 8.0], ["a", "b"]), [7, 8]
    )
    nothing = fitted(np.full(30, np.nan), np.repeat(["a", "b"], 15), 1.0)
    assert nothing.groups == () and nothing.moved([1.0], ["a"]) == 1.0


def by_definition(p, group, among, mass, distance):
    """Differences of means, or the kernel's double sums, in plain loops over groups."""
    rows = np.flatnonzero(among & (mass > 0))
    found = []
    for one in np.unique(group[rows]):
        here = np.where(group == one, mass, 0.0) * among
        a, b = here / here.sum(), mass * among / (mass * among).sum()
        if distance == "mean":
            found.append(((a - b) @ p) ** 2)
        else:
            kernel = np.exp(-((p[:, None] - p[None]) ** 2) / (2 * WIDTH**2))
            found.append((a - b) @ kernel @ (a - b))
    return np.mean(found)


@pytest.mark.parametrize("distance", ["mean", "kernel"])
def test_the_penalty_is_its_definition_and_its_slope_is_its_slope(distance):
    rng = np.random.default_rng(2)
    n = 80
    p, group, mass = rng.random(n), rng.choice(list("abc"), n), rng.choice([0.0, 1.0, 2.0], n)
    among = rng.random(n) < 0.7
    penalty = Penalty.of(group, among, mass, distance)
    assert penalty(p)[0] == pytest.approx(by_definition(p, group, among, mass, distance), abs=1e-9)
    assert check_grad(lambda q: penalty(q)[0], lambda q: penalty(q)[1], p) < 1e-6
    alone = Penalty.of(np.full(n, "a"), among, mass, distance)
    assert alone(p)[0] == 0 and not alone(p)[1].any()


def learning(seed: int = 3, n: int = 900):
    rng = np.random.default_rng(seed)
    group = rng.choice(["north", "isles"], n, p=[0.7, 0.3])
    x = rng.normal(size=(n, 3)) + np.where(group == "isles", -0.8, 0)[:, None] * [1, 0, 0]
    event = x[:, 0] + x[:, 1] + rng.normal(0, 1, n) > 0.3
    return x, event, group, rng.choice([1.0, 2.0], n)


def test_without_weight_the_plain_logistic_model_comes_back():
    x, event, group, mass = learning()
    penalty = Penalty.of(group, np.ones(len(x), bool), mass, "mean")
    found, cut = logistic(x, event, mass, penalty, 0.0, ridge=2.0)
    plain = LogisticRegression(C=0.5, tol=1e-10, max_iter=5_000).fit(x, event, sample_weight=mass)
    assert found == pytest.approx(plain.coef_[0], abs=1e-4) and cut == pytest.approx(plain.intercept_[0], abs=1e-4)


def test_without_weight_the_plain_network_comes_back():
    x, event, group, _ = learning(n=300)
    ones = np.ones(len(x))
    weights, cuts = network(x, event, ones, Penalty.of(group, ones > 0, ones, "mean"), 0.0, 1.0, units=5, seed=4)
    plain = MLPClassifier((5,), alpha=1.0, solver="lbfgs", max_iter=300, random_state=4).fit(x, event)
    chance = expit(np.maximum(x @ weights[0] + cuts[0], 0) @ weights[1] + cuts[1])[:, 0]
    assert chance == pytest.approx(plain.predict_proba(x)[:, 1], abs=1e-2)  # it stops a little earlier


@pytest.mark.parametrize("distance", ["mean", "kernel"])
@pytest.mark.parametrize("rows", ["all", "event"])
def test_the_more_the_gap_weighs_the_smaller_it_is(distance, rows):
    x, event, group, mass = learning(n=900 if distance == "mean" else 300)
    among = event if rows == "event" else np.ones(len(x), bool)
    penalty = Penalty.of(group, among, mass, distance)
    gaps = []
    for weight in (0.0, 3.0, 1_000.0):
        found, cut = logistic(x, event, mass, penalty, weight, ridge=1.0)
        gaps.append(penalty(expit(x @ found + cut))[0])
    assert gaps == sorted(gaps, reverse=True) and gaps[-1] < gaps[0] / 50
    weights, cuts = network(x, event, mass, penalty, 300.0, 1.0, units=4, seed=1)
    mended = penalty(expit(np.maximum(x @ weights[0] + cuts[0], 0) @ weights[1] + cuts[1])[:, 0])[0]
    assert mended < gaps[0] / 10


def test_limits_are_differences_of_rates():
    rng = np.random.default_rng(5)
    event, group, mass, decided = rng.random(60) < 0.5, rng.choice(list("ab"), 60), rng.random(60), rng.random(60) < 0.4
    limits = Limits.of(("selection rate", "true positive rate", "false positive rate"), event, group, mass)
    for (rate, name), found in zip(limits.names, limits.rows @ decided, strict=True):
        among = {"selection rate": event | True, "true positive rate": event, "false positive rate": ~event}[rate]
        own = among & (group == name)
        wanted = np.average(decided[own], weights=mass[own]) - np.average(decided[among], weights=mass[among])
        assert found == pytest.approx(wanted)


@pytest.mark.parametrize(
    "rates", [("selection rate",), ("true positive rate",), ("true positive rate", "false positive rate")]
)
@pytest.mark.parametrize("threshold", [0.5, 0.35])
def test_what_is_trained_under_limits_meets_them_on_its_training_rows(rates, threshold):
    for seed in range(3):
        x, event, group, mass = learning(seed)
        given = np.column_stack([x, group == "isles"])
        models = []

        def train(label, weight, given=given, models=models):
            models.append(LogisticRegression().fit(given, label, sample_weight=weight).predict_proba(given)[:, 1])
            return models[-1]

        limits = Limits.of(rates, event, group, mass)
        found = reduce(train, event, mass, limits, 0.02, threshold, rounds=12)
        decided = np.array(found.shares) @ np.array(models)[list(found.kept)] >= threshold
        plain = models[0] >= threshold
        assert limits.largest(plain) > 0.03
        assert limits.largest(decided) == pytest.approx(found.largest) and found.largest <= 0.02
        assert found.by_lot_largest <= 0.02 + 1e-9
        cost = np.average(np.where(event, (1 - threshold) * ~decided, threshold * decided), weights=mass)
        assert cost == pytest.approx(found.error) and sum(found.shares) == pytest.approx(1)
        assert found.error <= found.by_lot_error * 1.1


def test_where_limits_bind_nothing_the_plain_model_comes_back():
    x, event, group, mass = learning()
    trained = []

    def train(label, weight):
        trained.append((label, weight))
        return LogisticRegression().fit(x, label, sample_weight=weight).predict_proba(x)[:, 1]

    found = reduce(train, event, mass, Limits.of(("selection rate",), event, group, mass), 1.0, 0.3, rounds=12)
    assert found.kept == (0,) and found.trained == 1
    label, weight = trained[0]
    assert np.array_equal(label, event) and weight == pytest.approx(mass / mass.mean())
