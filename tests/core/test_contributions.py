"""Contributions against brute force, the axioms, and each other."""

from itertools import permutations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.systems import frame, matrix, system

from zerotilt.core.contributions import ladder
from zerotilt.core.contributions.enumeration import enumerate_coalitions, from_worths
from zerotilt.core.contributions.explain import explain
from zerotilt.core.contributions.game import background as against
from zerotilt.core.contributions.ladder import LadderSettings
from zerotilt.core.contributions.sampled import sample_permutations
from zerotilt.core.meaning import Context, Wording
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work

games = st.integers(2, 5).flatmap(
    lambda p: st.lists(st.floats(-5, 5), min_size=2**p, max_size=2**p).map(lambda worth: np.array(worth))
)


def shapley_by_orders(worth: np.ndarray) -> np.ndarray:
    """The definition: mean marginal worth over all orders of players."""
    p = int(np.log2(len(worth)))
    out = np.zeros(p)
    orders = list(permutations(range(p)))
    for order in orders:
        known = 0
        for player in order:
            out[player] += worth[known | (1 << player)] - worth[known]
            known |= 1 << player
    return out / len(orders)


@given(games)
def test_values_equal_the_mean_over_all_orders(worth):
    assert from_worths(worth) == pytest.approx(shapley_by_orders(worth), abs=1e-9)


@given(games)
def test_efficiency(worth):
    assert from_worths(worth).sum() == pytest.approx(worth[-1] - worth[0], abs=1e-9)


@given(games, st.floats(-3, 3))
def test_linearity(worth, factor):
    other = worth[::-1].copy()
    assert from_worths(worth + factor * other) == pytest.approx(
        from_worths(worth) + factor * from_worths(other), abs=1e-8
    )


@given(games)
def test_a_player_that_adds_nothing_gets_nothing(worth):
    dummy = np.concatenate([worth, worth])  # the new last player changes no coalition's worth
    found = from_worths(dummy)
    assert found[-1] == pytest.approx(0, abs=1e-9)
    assert found[:-1] == pytest.approx(from_worths(worth), abs=1e-9)


@given(games)
def test_symmetric_players_get_the_same(worth):
    p = int(np.log2(len(worth)))
    swap = np.array([(c & ~3) | ((c & 1) << 1) | ((c >> 1) & 1) for c in range(2**p)])
    symmetric = (worth + worth[swap]) / 2  # players 0 and 1 are exchangeable
    found = from_worths(symmetric)
    assert found[0] == pytest.approx(found[1], abs=1e-9)


def interacting(rows) -> np.ndarray:
    x = matrix(rows)
    return 1 / (1 + np.exp(-(x[:, 0] + x[:, 1] * x[:, 2] - 0.5 * np.abs(x[:, -1]))))


def drawn(n: int, p: int, seed: int):
    return frame(np.random.default_rng(seed).normal(size=(n, p)))


def test_enumeration_by_hand():
    # f = x0 + 2·x1·x2: the interaction is shared equally
    def output(rows):
        return rows["x0"] + 2 * rows["x1"] * rows["x2"]

    found = enumerate_coalitions(output, frame(np.array([[1.0, 1.0, 1.0]])), against(frame(np.zeros((1, 3)))))
    assert found[0] == pytest.approx([1.0, 1.0, 1.0])


def test_enumeration_refuses_more_than_twelve_features():
    with pytest.raises(Refused, match="up to 12 features; the model has 13"):
        enumerate_coalitions(interacting, drawn(1, 13, 0), against(drawn(2, 13, 1)))


def test_sampled_values_agree_with_enumeration_within_their_errors():
    cases, background = drawn(40, 6, 1), against(drawn(60, 6, 2))
    exact = enumerate_coalitions(interacting, cases, background)
    found = sample_permutations(interacting, cases, background, 0.004, 4_096, seed=3)
    off = np.abs(found.values - exact) / np.maximum(found.errors, 1e-12)
    assert (off <= 4).mean() >= 0.99
    assert (found.errors <= 0.004).all()


def test_sampled_values_add_up_exactly():
    cases, background = drawn(5, 7, 4), against(drawn(30, 7, 5))
    found = sample_permutations(interacting, cases, background, 0, 64, seed=1)
    gap = found.values.sum(axis=1) - (interacting(cases) - interacting(background.frame).mean())
    assert np.abs(gap).max() < 1e-12


def test_a_row_is_explained_the_same_alone_and_among_others():
    cases, background = drawn(9, 5, 6), against(drawn(20, 5, 7))
    together = sample_permutations(interacting, cases, background, 0, 96, seed=2)
    first = sample_permutations(interacting, cases.take(slice(0, 1)), background, 0, 96, seed=2)
    assert together.values[0] == pytest.approx(first.values[0], abs=1e-12)


def test_a_feature_the_model_ignores_gets_exactly_nothing():
    def output(rows):
        return rows["x0"] * rows["x1"]

    found = sample_permutations(output, drawn(6, 4, 8), against(drawn(25, 4, 9)), 0, 64, seed=0)
    assert np.abs(found.values[:, 2:]).max() < 1e-12


@settings(max_examples=10, deadline=None)
@given(st.randoms(use_true_random=False))
def test_the_order_of_background_rows_changes_no_exact_value(random):
    cases, background = drawn(3, 4, 10), drawn(12, 4, 11)
    order = list(range(12))
    random.shuffle(order)
    shuffled = against(background.take(np.array(order)))
    assert enumerate_coalitions(interacting, cases, shuffled) == pytest.approx(
        enumerate_coalitions(interacting, cases, against(background)), abs=1e-12
    )


def subject_of(p: int, output="probability"):
    rng = np.random.default_rng(20)
    columns = {f"x{j}": rng.normal(size=80) for j in range(p)} | {"y": rng.integers(0, 2, 80)}
    return system(columns, interacting, [f"x{j}" for j in range(p)], context=Context(rows="all", output=output))


def test_the_entry_chooses_enumeration_for_few_features_and_sampling_for_many():
    few = explain(subject_of(5), np.array([0]), 1, Work())
    many = explain(subject_of(14), np.array([0]), 1, Work(), most_pairs=32)
    assert (few.method, few.errors, few.background) == ("enumeration", None, 80)
    assert many.method == "sampled"
    assert "a function, not a model file" in many.why
    overruled = explain(subject_of(5), np.array([0]), 1, Work(), method="sampled")
    assert overruled.method == "sampled"
    assert overruled.values == pytest.approx(few.values, abs=5 * overruled.errors.max() + 1e-9)


def test_overruling_with_a_method_that_cannot_serve_is_refused():
    with pytest.raises(Refused, match="enumeration takes up to 12"):
        explain(subject_of(14), np.array([0]), 1, Work(), method="enumeration")


@pytest.mark.parametrize("output", ["probability", "log-odds"])
def test_a_ladder_climbs_from_baseline_to_prediction(output):
    subject = subject_of(5, output)
    found = ladder.ladder_of(subject, LadderSettings(row=7), 1, Work())
    assert found.baseline + sum(rung.contribution for rung in found.rungs) == pytest.approx(found.prediction, abs=1e-9)
    assert found.prediction == pytest.approx(subject.output(subject.frame)[7])
    assert [abs(rung.contribution) for rung in found.rungs] == sorted(
        (abs(rung.contribution) for rung in found.rungs), reverse=True
    )
    reading = ladder.say(found, Wording(row="claim", rows="claims"), LadderSettings(row=7))
    assert f"{found.probability * 100:.1f}%" in reading.text


def test_a_row_that_is_not_there_is_refused():
    with pytest.raises(Refused, match="the table has 80 rows"):
        ladder.ladder_of(subject_of(3), LadderSettings(row=80), 1, Work())
