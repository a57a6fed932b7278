"""Rows dealt to folds, means over folds, and candidates told apart, against plain definitions and simulation."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zerotilt.core.candidates.compared import better, metrics_of, table_of
from zerotilt.core.candidates.dealing import deal
from zerotilt.core.candidates.recipe import Dealing, Recipe
from zerotilt.core.candidates.said import say
from zerotilt.core.candidates.validated import (
    FoldMeasured,
    GroupOfFold,
    UsedRows,
    Validated,
    by_group,
    groupings_of,
    measured,
)
from zerotilt.core.meaning import ColumnSpec, Kind, Role, Spec, Task, Wording
from zerotilt.core.refusal import Refused
from zerotilt.core.stats.folds import over_folds, told_apart
from zerotilt.core.table import Table, from_arrays


@given(st.integers(0, 10_000), st.integers(2, 8), st.sampled_from([0.0, 0.1, 0.3]))
@settings(max_examples=40, deadline=None)
def test_every_class_is_dealt_alike_to_all_folds(seed, k, share):
    rng = np.random.default_rng(seed)
    y = rng.choice([0, 1, 2], 400, p=[0.6, 0.3, 0.1])
    dealt = deal(y, True, Dealing(folds=k, test_share=share, seed=seed % 97), None, None)
    assert dealt.folds == list(range(k)) and not (dealt.test & (dealt.fold >= 0)).any()
    assert (dealt.test | (dealt.fold >= 0)).all()
    for value in (0, 1, 2):
        sizes = np.bincount(dealt.fold[(y == value) & ~dealt.test], minlength=k)
        assert np.ptp(sizes) <= 1
        assert abs((dealt.test & (y == value)).sum() - share * (y == value).sum()) <= 0.5
    for fold in dealt.folds:
        assert not (dealt.trained(fold) & (dealt.validated(fold) | dealt.test)).any()
        assert (dealt.trained(fold) | dealt.validated(fold) | dealt.test).all()


@given(st.integers(0, 10_000))
@settings(max_examples=30, deadline=None)
def test_what_is_kept_together_is_never_on_both_sides(seed):
    rng = np.random.default_rng(seed)
    person = rng.integers(0, 60, 500).astype(str)
    dealt = deal(rng.normal(size=500), False, Dealing(folds=4, test_share=0.2), person, None)
    for one in set(person):
        assert (
            len({(int(f), bool(t)) for f, t in zip(dealt.fold[person == one], dealt.test[person == one], strict=True)})
            == 1
        )
    assert 0.1 <= dealt.test.mean() <= 0.35
    sizes = np.bincount(dealt.fold[~dealt.test])
    assert len(sizes) == 4 and sizes.max() <= 2 * sizes.min()


def test_in_the_order_of_time_a_fold_comes_after_what_it_is_trained_on():
    day = np.random.default_rng(1).permutation(np.repeat(np.arange(120), 5))
    dealt = deal(np.zeros(600), False, Dealing(folds=5, test_share=0.2), None, day)
    assert dealt.folds == [1, 2, 3, 4, 5]
    assert day[dealt.test].min() > day[~dealt.test].max() and dealt.test.mean() == pytest.approx(0.2, abs=0.02)
    for fold in dealt.folds:
        assert day[dealt.trained(fold)].max() < day[dealt.validated(fold)].min()
    assert dealt.validated(0).any()  # the earliest are trained on, and never validated


@pytest.mark.parametrize(
    ("how", "message"),
    [
        ("three of a class", "5 folds need 10 rows of the class “1” or more; there are 3"),
        ("one value", "the column has 1 value in these rows; 5 folds and rows put aside need one each"),
        ("one moment", "the column has 1 moment in these rows, too few for 5 folds"),
    ],
)
def test_what_cannot_be_dealt_is_refused_in_words(how, message):
    y = np.zeros(200, int)
    y[:3] = 1
    same = np.array(["a"] * 200)
    with pytest.raises(Refused, match=message):
        if how == "three of a class":
            deal(y, True, Dealing(), None, None)
        elif how == "one value":
            deal(np.arange(200) % 2, True, Dealing(), same, None)
        else:
            deal(np.arange(200) % 2, True, Dealing(), None, np.ones(200))


def test_the_interval_over_folds_is_nadeau_and_bengios():
    values, sizes = np.array([0.71, 0.74, 0.69, 0.77, 0.72]), np.full(5, 100.0)
    span = over_folds(values, sizes)
    error = values.std(ddof=1) * np.sqrt(1 / 5 + 1 / 4)
    assert float(span.value) == pytest.approx(values.mean())
    assert float(span.high - span.value) == pytest.approx(2.7764451 * error, rel=1e-6)  # Student's, four degrees
    assert np.isnan(over_folds(values[:1], sizes[:1]).low) and np.isnan(over_folds(np.full(5, np.nan), sizes).value)
    gap, p = told_apart(values - 0.7, sizes)
    assert p == pytest.approx(2 * 0.1337, abs=0.01) and float(gap.low) < 0
    assert told_apart(np.zeros(5), sizes)[1] is None
    # folds that all say the same say nothing of how far they vary: no width of none, and the p of their sign alone
    for k in (4, 5, 8):
        same, p = told_apart(0.3 + np.linspace(0, 1e-15, k), np.full(k, 50.0))
        assert p == 2.0 ** (1 - k) and np.isnan([same.low, same.high]).all() and float(same.value) == pytest.approx(0.3)
    assert np.isnan(over_folds(np.full(5, 0.9), sizes).low)
    for few in (1, 2, 3):  # so few tell apart what is alike in one of ten
        span, p = told_apart(np.array([0.1, 0.12, 0.11])[:few], sizes[:few])
        assert p is None and np.isnan(span.low)


def test_two_models_that_learn_alike_are_told_apart_no_more_often_than_promised():
    """Nearest means with one of two columns that say as much: no difference in truth, and folds that share their rows."""
    claimed, plain, many = 0, 0, 300
    for seed in range(many):
        rng = np.random.default_rng(seed)
        y = rng.integers(0, 2, 200)
        x = y[:, None] + rng.normal(0, 1.2, (200, 2))
        dealt = deal(y, True, Dealing(folds=5, test_share=0, seed=seed), None, None)
        gaps = []
        for fold in dealt.folds:
            seen, held = dealt.trained(fold), dealt.validated(fold)
            right = []
            for j in range(2):
                cut = (x[seen & (y == 1), j].mean() + x[seen & (y == 0), j].mean()) / 2
                right.append(((x[held, j] > cut) == y[held]).mean())
            gaps.append(right[0] - right[1])
        gaps = np.array(gaps)
        claimed += (told_apart(gaps, np.full(5, 40.0))[1] or 1.0) <= 0.05
        plain += abs(gaps.mean()) / (gaps.std(ddof=1) / np.sqrt(5) + 1e-12) > 2.776
    assert claimed / many <= 0.06 and claimed < plain


def fold(value: float, training: float, gap: float, rows: int = 100) -> FoldMeasured:
    groups = tuple(
        GroupOfFold(attribute="home", group=name, rows=rows // 2, values={"selection_rate": rate})
        for name, rate in (("north", 0.5), ("isles", 0.5 + gap))
    )
    return FoldMeasured(rows=rows, validation={"log_loss": value}, training={"log_loss": training}, groups=groups)


def candidate(values, training=0.4, gap=-0.2) -> Validated:
    return Validated(
        folds=tuple(fold(one, training, gap + i / 100) for i, one in enumerate(values)), test=None, rows=500
    )


def test_the_leader_is_the_best_mean_and_others_are_told_apart_on_the_same_folds():
    base = np.array([0.50, 0.55, 0.52, 0.58, 0.53])
    every = [
        ("worse", candidate(base + 0.1 + np.array([0, 0.01, 0, 0.01, 0]))),
        ("first", candidate(base)),
        ("like it", candidate(base + np.array([0.01, -0.01, 0.02, -0.01, 0.01]))),
    ]
    table = table_of(every, "log_loss", ("selection_rate", "home", "isles", "north"), 0.95, 0.05)
    assert [one.name for one in table.standings] == ["first", "like it", "worse"] and table.leader == "first"
    first, like, worse = table.standings
    assert first.behind is None and not like.apart and worse.apart and worse.p < 0.01
    assert worse.behind.value == pytest.approx(0.104) and first.validation.value == pytest.approx(base.mean())
    assert first.gap.value == pytest.approx(-0.2 + 0.02) and first.folds == tuple(base)
    told = " ".join(say(table, Wording(row="claim", rows="claims")))
    assert told.startswith("Of 3 candidates, first has the smallest log loss: 0.536 (95% interval")
    assert "over 5 folds of 500 claims. Like it is not told apart from it. 1 candidate is worse beyond chance." in told
    assert "On the rows that it was trained on it is 0.400: a part of that is learnt by heart." in told


def test_one_candidate_and_none_are_said_as_they_are():
    alone = table_of([("only", candidate([0.5, 0.6]))], "log_loss", None, 0.95, 0.05)
    assert say(alone, Wording())[0].startswith("Only has a log loss: 0.550") and alone.standings[0].gap is None
    nothing = table_of([("only", candidate([0.5, 0.6]))], "auc", None, 0.95, 0.05)
    assert nothing.leader is None and say(nothing, Wording()) == ()
    assert table_of([], "auc", None, 0.95, 0.05).standings == ()


def test_smaller_or_nearer_to_nought_is_better_where_it_is():
    assert better("log_loss", 0.4) > better("log_loss", 0.5) and better("auc", 0.9) > better("auc", 0.8)
    assert better("mean_error", -0.1) > better("mean_error", 0.2)
    assert metrics_of(Task.binary, [candidate([0.5])]) == ["log_loss"]


def rows(seed: int, n: int = 300) -> tuple[Spec, Table, np.ndarray]:
    rng = np.random.default_rng(seed)
    y, home = rng.integers(0, 2, n), rng.choice(["north", "isles"], n)
    table = from_arrays({"y": y, "home": home, "x": rng.normal(size=n)})
    spec = Spec(
        columns=(
            ColumnSpec(name="y", kind=Kind.numeric, role=Role.outcome),
            ColumnSpec(name="home", kind=Kind.categorical, role=Role.group),
            ColumnSpec(name="x", kind=Kind.numeric, role=Role.feature),
        ),
        event="1",
    )
    return spec, table, np.clip(0.5 + 0.3 * (y - 0.5) + rng.normal(0, 0.2, n), 0.01, 0.99)


def test_metrics_of_a_fold_are_the_plain_ones():
    spec, table, score = rows(3)
    y, home = table.numbers("y"), table.texts("home")
    found = measured(spec, table, score[:, None], ())
    assert found["log_loss"] == pytest.approx(-np.log(np.where(y == 1, score, 1 - score)).mean())
    assert found["accuracy"] == pytest.approx(((score >= 0.5) == y).mean())
    pairs = score[y == 1][:, None] - score[y == 0][None, :]
    assert found["auc"] == pytest.approx((pairs > 0).mean() + (pairs == 0).mean() / 2)
    assert found["balanced_accuracy"] == pytest.approx(
        ((score >= 0.5)[y == 1].mean() + (score < 0.5)[y == 0].mean()) / 2
    )
    groups = {
        one.group: one for one in by_group(spec, table, score[:, None], (), groupings_of(spec, table, np.arange(300)))
    }
    assert set(groups) == {"north", "isles"}
    for name, one in groups.items():
        mine = home == name
        assert one.rows == mine.sum() and one.values["selection_rate"] == pytest.approx((score >= 0.5)[mine].mean())


def test_groups_are_the_same_in_every_fold_though_they_are_bins_of_a_number():
    rng = np.random.default_rng(2)
    n = 400
    weight = np.sort(rng.exponential(10, n))
    table = from_arrays({"y": rng.integers(0, 2, n), "weight": weight, "x": rng.normal(size=n)})
    spec = Spec(
        columns=(
            ColumnSpec(name="y", kind=Kind.numeric, role=Role.outcome),
            ColumnSpec(name="weight", kind=Kind.numeric, role=Role.group),
            ColumnSpec(name="x", kind=Kind.numeric, role=Role.feature),
        ),
        event="1",
    )
    used = np.arange(0, n, 2)
    whole = UsedRows(spec, table.among(used), (), groupings_of(spec, table, used))
    score = rng.random((200, 1))
    low, high = np.arange(200) < 150, np.arange(200) >= 50  # light and heavy ones: bins of their own would differ
    labels = [{one.group for one in whole.groups(score, rows)} for rows in (low, high)]
    known = set(whole.groupings[0].labels)
    assert labels[0] <= known and labels[1] <= known and labels[0] & labels[1] and len(known) > 2
    for rows in (low, high):
        for one in whole.groups(score, rows):
            mine = whole.groupings[0].mask(whole.groupings[0].labels.index(one.group)) & rows
            assert one.rows == mine.sum()
            assert one.values["selection_rate"] == pytest.approx((score[mine, 0] >= 0.5).mean())


def test_a_recipe_says_its_estimator_and_refuses_what_is_no_setting():
    assert Recipe(estimator="forest").called == "random forest"
    for wrong in ({"estimator": "oracle"}, {"estimator": "forest", "trees": 0}, {"estimator": "forest", "hue": 1}):
        with pytest.raises(ValueError, match=r"estimator|trees|hue"):
            Recipe(**wrong)
