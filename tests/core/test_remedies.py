"""Remedies against their definitions: weights that make group and outcome independent, and what that did to a gap."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.test_candidates import fold

from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.remedied import remedies_of, say, sibling_of
from zerotilt.core.candidates.validated import LearntGroup, Validated
from zerotilt.core.steps.penalty import GapPenalty
from zerotilt.core.steps.reductions import Constraint
from zerotilt.core.steps.repair import Repairing
from zerotilt.core.steps.resampling import Resampling
from zerotilt.core.steps.reweighing import never_together, reweighed


@given(st.integers(0, 10_000))
@settings(max_examples=60, deadline=None)
def test_weights_make_group_and_outcome_independent_exactly(seed):
    rng = np.random.default_rng(seed)
    n = int(rng.integers(20, 400))
    group = rng.choice(["north", "isles", "uplands"], n, p=[0.7, 0.2, 0.1])
    y = (rng.random(n) < np.where(group == "isles", 0.2, 0.6)).astype(int)
    mass = rng.choice([0.0, 1.0, 2.5], n, p=[0.1, 0.6, 0.3])
    if never_together(group, y, mass) is not None:
        return
    w = reweighed(group, y, mass)
    assert w.sum() == pytest.approx(mass.sum()) and ((w == 0) == (mass == 0)).all()
    share = w[y == 1].sum() / w.sum()
    for one in set(group):
        mine = group == one
        assert w[mine].sum() == pytest.approx(mass[mine].sum())
        assert w[mine & (y == 1)].sum() / w[mine].sum() == pytest.approx(share)
    assert share == pytest.approx(mass[y == 1].sum() / mass.sum())


def test_the_published_example_is_reproduced():
    """Kamiran and Calders (2012), section 3.2: ten applicants, five of each sex; weights 0.75, 2, 1.5 and 0.67."""
    sex = np.array(["m", "m", "m", "m", "m", "f", "f", "f", "f", "f"])
    hired = np.array([1, 1, 1, 1, 0, 1, 0, 0, 1, 0])
    w = reweighed(sex, hired, np.ones(10))
    told = {(s, h): w[(sex == s) & (hired == h)][0] for s in "mf" for h in (0, 1)}
    assert told == {("m", 1): pytest.approx(0.75), ("m", 0): 2.0, ("f", 1): 1.5, ("f", 0): pytest.approx(2 / 3)}


def test_groups_that_are_independent_already_keep_their_weights():
    group, y = np.tile(["a", "b"], 6), np.repeat([0, 1, 1], 4)
    assert reweighed(group, y, np.ones(12)) == pytest.approx(np.ones(12))
    assert never_together(np.array(["a", "a", "b"]), np.array([0, 1, 1]), np.ones(3)) == ("b", "0")
    assert never_together(np.array(["a", "b"]), np.array([0, 0]), np.ones(2)) is None


GAP = ("selection_rate", "home", "isles", "north")
PLAIN, REWEIGHED = Recipe(estimator="linear"), Recipe(estimator="linear", reweigh="home")


def worth(values, gaps) -> Validated:
    return Validated(folds=tuple(fold(a, 0.4, b) for a, b in zip(values, gaps, strict=True)), test=None, rows=500)


LOSSES = (0.50, 0.52, 0.51, 0.53, 0.52)


@pytest.mark.parametrize(
    ("gaps", "verdict", "told"),
    [
        ((-0.21, -0.20, -0.19, -0.20, -0.21), "smaller", "It is smaller: its size changes by −20.0 points (−2"),
        ((-0.60, -0.61, -0.59, -0.60, -0.60), "larger", "It is larger: its size changes by +19.8 points (+1"),
        ((0.10, 0.11, 0.09, 0.10, 0.10), "turned round", "It has turned round: it moves by −50.2 points (−5"),
        ((0.01, -0.01, 0.00, 0.01, -0.01), "smaller", "It is smaller: its size changes by −40.2 points (−4"),
        ((-0.10, -0.70, -0.39, -0.40, -0.41), "not told apart", "That is not told apart from no change"),
    ],
)
def test_what_a_remedy_did_is_read_on_the_same_folds(gaps, verdict, told):
    plain = worth(LOSSES, (-0.40, -0.41, -0.39, -0.40, -0.41))
    dearer = worth([one + 0.01 + 0.001 * (place % 2 - 0.4) for place, one in enumerate(LOSSES)], gaps)
    found = remedies_of([("linear 1", PLAIN, plain), ("linear 2", REWEIGHED, dearer)], "log_loss", GAP, 0.95, 0.05)
    (one,) = found
    assert (one.name, one.without, one.verdict) == ("linear 2", "linear 1", verdict)
    assert one.change.value == pytest.approx(-np.mean(gaps) - 0.402) and one.price.value == pytest.approx(0.01)
    (sentence,) = say(found, "log_loss", GAP)
    assert sentence.startswith(
        "Linear 2, rows weighed so that home and the outcome are independent: the gap of home isles to north"
    )
    assert told in sentence and "and the log loss by +0.010 (+0.009 to +0.011)." in sentence


@pytest.mark.parametrize(("without", "with_it"), [(-0.15, 0.0), (0.15, 0.0), (-0.15, -0.1), (0.0, 0.0), (0.1, -0.1)])
def test_the_change_of_a_gap_holds_what_it_is_however_noisy_folds_are(without, with_it):
    """A mean of sizes says −5 points of a gap that goes from 15 to none: noise has a size, too."""
    rng = np.random.default_rng(11)
    held, told, many = 0, [], 400
    truth = (-1 if without < 0 else 1) * (with_it - without)
    for _ in range(many):
        here, there = rng.normal(with_it, 0.1, 5), rng.normal(without, 0.1, 5)
        every = [("plain", PLAIN, worth(LOSSES, there)), ("mended", REWEIGHED, worth(LOSSES, here))]
        (one,) = remedies_of(every, "log_loss", GAP, 0.95, 0.05)
        # the gap's own direction is that of the gap that is told; of none it may be either
        size = (with_it - without) * np.sign(one.change.value) * np.sign(here.mean() - there.mean())
        held += one.change.low <= size <= one.change.high
        told.append(one.change.value)
    assert held / many > 0.93
    if abs(without) > 0.1:
        assert np.mean(told) == pytest.approx(truth, abs=0.02)


def test_what_cannot_be_told_has_not_turned_round():
    plain = worth(LOSSES, (-0.4, np.nan, np.nan, np.nan, np.nan))
    other = worth(LOSSES, (0.4, np.nan, np.nan, np.nan, np.nan))
    (one,) = remedies_of([("a", PLAIN, plain), ("b", REWEIGHED, other)], "log_loss", GAP, 0.95, 0.05)
    assert one.verdict == "not told apart"
    assert "how far that is chance cannot be told" in say([one], "log_loss", GAP)[0]


def test_a_remedy_with_nothing_to_be_held_against_is_not_told():
    alone = worth(LOSSES, (-0.4,) * 5)
    other = Recipe(estimator="linear", reweigh="home", penalty=9)
    assert remedies_of([("a", PLAIN, alone), ("b", other, alone)], "log_loss", GAP, 0.95, 0.05) == ()
    assert remedies_of([("a", PLAIN, alone), ("b", REWEIGHED, alone)], "log_loss", None, 0.95, 0.05) == ()
    unknown = ("auc", "home", "isles", "north")
    (one,) = remedies_of([("a", PLAIN, alone), ("b", REWEIGHED, alone)], "log_loss", unknown, 0.95, 0.05)
    assert one.verdict == "not told apart" and "defined in too few folds" in say([one], "log_loss", unknown)[0]


def test_what_made_it_worse_stands_first():
    plain = worth(LOSSES, (-0.40, -0.41, -0.39, -0.40, -0.41))
    every = [
        ("plain", PLAIN, plain),
        ("plain trees", Recipe(estimator="forest"), plain),
        ("better", REWEIGHED, worth(LOSSES, (-0.1, -0.11, -0.1, -0.1, -0.11))),
        ("worse", Recipe(estimator="forest", reweigh="home"), worth(LOSSES, (-0.7, -0.71, -0.7, -0.7, -0.71))),
    ]
    assert [one.name for one in remedies_of(every, "log_loss", GAP, 0.95, 0.05)] == ["worse", "better"]


def told_worth(gaps, accuracies, selected, learnt=()) -> Validated:
    """Folds in which the isles' accuracy and both groups' selection rates are told."""
    folds = []
    for gap, accuracy in zip(gaps, accuracies, strict=True):
        one = fold(0.5, 0.4, gap)
        groups = tuple(
            group.model_copy(
                update={
                    "values": group.values
                    | {"accuracy": accuracy if group.group == "isles" else 0.9}
                    | {"selection_rate": selected[group.group] + (gap if group.group == "isles" else 0)}
                }
            )
            for group in one.groups
        )
        folds.append(one.model_copy(update={"groups": groups}))
    return Validated(folds=tuple(folds), test=None, rows=500, learnt=learnt)


def test_labels_and_decisions_are_told_before_and_after_and_who_paid():
    def learnt(isles: float):
        return tuple(
            LearntGroup(attribute="home", group=name, rows=100, events=events, drawn=100.0, drawn_events=drawn)
            for name, events, drawn in (("north", 50, 50.0), ("isles", 20, isles))
        )

    gaps = (-0.40, -0.41, -0.39, -0.40, -0.41)
    plain = told_worth(gaps, (0.9, 0.91, 0.9, 0.9, 0.91), {"north": 0.6, "isles": 0.6}, learnt(20.0))
    mended = told_worth(
        (-0.1, -0.11, -0.1, -0.1, -0.11), (0.71, 0.7, 0.7, 0.7, 0.71), {"north": 0.6, "isles": 0.6}, learnt(50.0)
    )
    every = [("linear 1", PLAIN, plain), ("linear 2", REWEIGHED, mended)]
    (one,) = remedies_of(every, "log_loss", GAP, 0.95, 0.05)
    isles = next(group for group in one.groups if group.group == "isles")
    assert (isles.recorded, isles.learnt) == (0.2, 0.5) and isles.selected > isles.selected_without
    assert [(paid.metric, paid.group) for paid in one.paid] == [("accuracy", "isles")]
    (sentence,) = say([one], "log_loss", GAP)
    assert "in the labels that it learnt from it rose from 0.40 to 1.00 and in decisions it rose from 0.33" in sentence
    assert "Worse beyond chance: the accuracy of home isles by −20.0 points (−2" in sentence
    (few,) = remedies_of(every, "log_loss", GAP, 0.95, 0.05, minimum_rows=10_000)
    assert (
        few.verdict == "too few" and not few.paid and "too few rows of isles or north" in say([few], "log_loss", GAP)[0]
    )


def test_a_sibling_of_another_seed_serves_where_there_is_none_of_the_same():
    plain = {PLAIN: "first", PLAIN.model_copy(update={"seed": 9}): "ninth"}
    assert sibling_of(REWEIGHED.model_copy(update={"seed": 9}), plain) == "ninth"
    assert sibling_of(REWEIGHED.model_copy(update={"seed": 3}), plain) == "first"
    assert sibling_of(REWEIGHED.model_copy(update={"penalty": 3}), plain) is None
    # with no plain one there, the one with the fewest of its remedies
    both = REWEIGHED.model_copy(update={"left_out": ("x",), "resample": Resampling(how="over")})
    fewer = {
        PLAIN.model_copy(update={"left_out": ("x",)}): "left out",
        both.model_copy(update={"resample": None}): "two",
    }
    assert sibling_of(both, fewer | {REWEIGHED.model_copy(update={"left_out": ("y",)}): "other"}) == "left out"
    assert sibling_of(both, {both: "itself"}) is None


def test_every_remedy_is_said_in_words():
    every = Recipe(
        estimator="linear",
        left_out=("home_area",),
        reweigh="home",
        resample=Resampling(how="under", within="home", only="isles"),
        repair=Repairing(by="home", level=0.5),
        penalise=GapPenalty(by="home", weight=3, rows="event"),
        constrain=Constraint(by="home", rates=("true positive rate", "false positive rate")),
    )
    assert every.remedies == (
        "trained without home area",
        "rows weighed so that home and the outcome are independent",
        "frequent outcomes drawn less often until they are balanced in home isles alone",
        "all numbers moved 50% of the way to being alike in every home",
        "a penalty of 3 on how far mean scores of home are apart, among rows with the event",
        "trained so that the true positive rate and false positive rate of no home is more than 2 points from that of all",
    )
    assert every.plain == Recipe(estimator="linear") and not every.plain.remedies
