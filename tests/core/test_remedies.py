"""Remedies against their definitions: weights that make group and outcome independent, and what that did to a gap."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.test_candidates import fold

from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.remedied import remedies_of, say
from zerotilt.core.candidates.validated import Validated
from zerotilt.core.remedies.reweighing import never_together, reweighed


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
        ((-0.20, -0.21, -0.19, -0.20, -0.21), "smaller", "It is smaller: its size changes by −20.0 points"),
        ((-0.60, -0.61, -0.59, -0.60, -0.60), "larger", "It is larger: its size changes by +19.8 points"),
        ((0.10, 0.11, 0.09, 0.10, 0.10), "turned round", "It has turned round"),
        ((-0.10, -0.70, -0.39, -0.40, -0.41), "not told apart", "That is not told apart from no change"),
    ],
)
def test_what_a_remedy_did_is_read_on_the_same_folds(gaps, verdict, told):
    plain = worth(LOSSES, (-0.40, -0.41, -0.39, -0.40, -0.41))
    dearer = worth([one + 0.01 for one in LOSSES], gaps)
    found = remedies_of([("linear 1", PLAIN, plain), ("linear 2", REWEIGHED, dearer)], "log_loss", GAP, 0.95, 0.05)
    (one,) = found
    assert (one.name, one.without, one.verdict) == ("linear 2", "linear 1", verdict)
    assert one.change.value == pytest.approx(np.abs(gaps).mean() - 0.402) and one.price.value == pytest.approx(0.01)
    (sentence,) = say(found, "log_loss", GAP)
    assert sentence.startswith(
        "Linear 2, rows weighed so that home and the outcome are independent: the gap of home isles to north"
    )
    assert told in sentence and "and the log loss by +0.010 (+0.010 to +0.010)." in sentence


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
