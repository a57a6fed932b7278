"""Rules that are stated in words, at the place where they turn: a step further and another word would have to be said."""

from types import SimpleNamespace

import numpy as np
import pytest
from tests.core.systems import spec_of, system

from zerotilt.core.candidates.dealing import Dealing, deal
from zerotilt.core.counterfactuals.nearest import _groups_apart
from zerotilt.core.data import foretold
from zerotilt.core.drivers.side_by_side import _partings
from zerotilt.core.groups.given import _verdict
from zerotilt.core.groups.given_result import Pooled
from zerotilt.core.meaning import Role
from zerotilt.core.players.columns import Columns
from zerotilt.core.predictors import Frame
from zerotilt.core.response.curves import direction
from zerotilt.core.rows import held_out
from zerotilt.core.segmenting.compared import LESS_IS_BETTER, MORE_IS_BETTER, _mark
from zerotilt.core.stats.apart import binned
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.table import from_arrays


@pytest.mark.parametrize("difference", [0.1, -0.1])
def test_more_is_better_of_what_is_right_and_less_of_what_is_wrong(difference):
    def said(metric: str, p: float = 0.01) -> str:
        change = Estimate(value=difference, low=difference - 0.05, high=difference + 0.05)
        return _mark({"metric": metric, "difference": change, "p_adjusted": p}, 0.05)

    up, down = ("better", "worse") if difference > 0 else ("worse", "better")
    assert {said(metric) for metric in MORE_IS_BETTER} == {up}
    assert {said(metric) for metric in LESS_IS_BETTER} == {down}
    assert said("selection_rate") == ("higher" if difference > 0 else "lower")
    assert said("accuracy", 0.05) == up and said("accuracy", 0.0501) == "not told apart"


def pooled(value: float, half: float) -> Pooled:
    one = Estimate(value=value, low=value - half, high=value + half)
    return Pooled.model_construct(ratio=one, difference=one, p_value=None)


@pytest.mark.parametrize(
    ("after", "half", "shrinks", "said"),
    [
        (0.01, 0.05, 0.95, "vanishes"),
        (0.02, 0.01, 0.9, "shrinks"),  # small, and significant all the same
        (0.19, 0.30, 0.05, "stays"),
        (-0.10, 0.05, 1.5, "reversed"),
        (-0.10, 0.20, 1.5, "vanishes"),
        (0.30, 0.05, -0.5, "grows"),
    ],
)
def test_a_gap_vanishes_only_where_nothing_beyond_chance_is_left(after, half, shrinks, said):
    assert _verdict(pooled(0.2, 0.05), pooled(after, half), shrinks, "difference", True) == said


def test_two_rows_differ_in_the_groups_in_which_they_differ():
    columns = {
        "x": np.arange(4.0),
        "y": np.array([0, 1, 0, 1]),
        "g": np.array(["a", "b", "a", "b"]),
        "h": np.array(["s", "s", "t", "t"]),
    }
    subject = system(
        columns, lambda frame: np.full(len(frame["x"]), 0.5), ["x"], roles={"g": Role.group, "h": Role.group}
    )
    assert [_groups_apart(subject, 0, other) for other in range(4)] == [(), ("g",), ("h",), ("g", "h")]


def test_a_tenth_of_the_range_back_does_not_bend_a_curve_and_more_does():
    up = np.array([0.0, 0.5, 0.5 - 0.0999, 1.0])
    assert direction(up, True, 1.0) == "rises" and direction(-up, True, 1.0) == "falls"
    bent = np.array([0.0, 0.5, 0.5 - 0.1001, 1.0])
    assert direction(bent, True, 1.0) == direction(-bent, True, 1.0) == "bends"
    assert direction(up, False, 1.0) == "by level" and direction(0.0199 * up, True, 1.0) == "flat"


def test_what_ties_with_a_border_lies_above_it_in_both_samples():
    here, there = binned(np.arange(11.0), np.array([3.0, 3.0, 2.999, np.nan, 11.0, -1.0]))  # borders are 1 to 9
    assert here.tolist() == [1] * 9 + [2, 0]
    assert there.tolist() == [1, 0, 1, 2, 0, 0, 0, 0, 0, 1, 1]


def test_a_score_from_one_column_is_a_rate_of_the_other_half_less_that_halfs_own():
    rng = np.random.default_rng(4)
    kinds, happened, half = rng.integers(0, 4, 300), rng.random(300) < 0.3, foretold.halves(300, 1)
    found = foretold.by_one(kinds, happened, half)
    for row in range(0, 300, 7):
        there = half != half[row]
        base = happened[there].mean()
        own = happened[there & (kinds == kinds[row])]
        assert found[row] == pytest.approx((own.sum() + base) / (len(own) + 1) - base, abs=1e-12)


def test_stretches_in_time_are_equal_and_the_last_are_put_aside():
    time = np.repeat(np.arange(100), 3)
    order = np.random.default_rng(0).permutation(300)
    dealt = deal(np.zeros(300), False, Dealing(folds=4, test_share=0.2), None, time[order])
    for moment in range(100):
        assert len(set(dealt.fold[time[order] == moment])) == 1
    by_moment = np.array([dealt.fold[time[order] == moment][0] for moment in range(100)])
    assert by_moment.tolist() == [moment // 16 for moment in range(80)] + [-1] * 20
    assert np.array_equal(dealt.test, dealt.fold < 0) and dealt.folds == [1, 2, 3, 4]


@pytest.mark.parametrize(("half", "told"), [(0.01, 1), (5.0, 0)])
def test_two_measures_part_only_where_their_ranks_do_beyond_their_errors(half, told):
    features = [f"x{place}" for place in range(8)]
    down = np.arange(8.0, 0.0, -1.0)
    moved = np.append(down[1:], 9.0)  # the last by shuffling is the first by contributions
    found = {
        "shuffled": [(value, value - half, value + half) for value in down],
        "moved": [(value, value - half, value + half) for value in moved],
    }
    ranks = {
        name: {"shuffled": place + 1, "moved": 1 if place == 7 else place + 2} for place, name in enumerate(features)
    }
    ranked = SimpleNamespace(drivers=[SimpleNamespace(feature=name, loss_depends=True) for name in features], linked=())
    parted = _partings(features, found, {"shuffled": down, "moved": moved}, ranks, ranked)
    assert [(one.feature, one.first, one.first_rank, one.second_rank) for one in parted] == [("x7", "moved", 1, 8)][
        :told
    ]


class Told:
    """An output of raw rows, of a model that is no sum."""

    def __call__(self, frame: Frame) -> np.ndarray:
        return 3.0 * np.asarray(frame["x"]) + 10.0 * (frame["g"] == "isles") + 100.0 * (frame["h"] == "b")


def test_a_walk_exchanges_one_feature_after_the_other_also_where_levels_are_texts():
    rng = np.random.default_rng(2)

    def rows(n: int) -> Frame:
        return Frame(
            {"x": rng.normal(size=n), "g": rng.choice(["isles", "town"], n), "h": rng.choice(["a", "b", "c"], n)}
        )

    cases, others = rows(5), rows(7)
    players = Columns(Told(), cases, others)
    case, other = rng.integers(0, 5, 40), rng.integers(0, 7, 40)
    orders = np.array([rng.permutation(3) for _ in range(40)])
    found = players.walks(case, other, orders)
    for walk in range(40):
        row = {name: others[name][other[walk]] for name in others.names}
        for step in range(4):
            assert found[walk, step] == pytest.approx(
                Told()(Frame({name: np.array([one]) for name, one in row.items()}))[0]
            )
            if step < 3:
                name = cases.names[orders[walk, step]]
                row[name] = cases[name][case[walk]]


@pytest.mark.parametrize(("rows", "held"), [(7, 2), (8, 2), (9, 3), (11, 3), (12, 4)])
def test_three_in_ten_are_held_out_to_the_nearest_row(rows, held):
    table = from_arrays({"x": np.arange(float(rows)), "y": np.arange(rows) % 2})
    spec = spec_of(table, {"y": Role.outcome}, holdout_share=0.3)
    mask = held_out(spec, table, "hold-out")
    assert mask.sum() == held and np.array_equal(~mask, held_out(spec, table, "training"))
