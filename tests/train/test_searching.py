"""Settings searched within ranges: what is drawn, who goes on, when it ends, and what is left when time runs out."""

from __future__ import annotations

import numpy as np
import pytest
from pydantic import ValidationError
from tests.train.test_fitting import claims, quick

from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.searching import RANGES, Search, drawn, halved, say
from zerotilt.core.refusal import Refused
from zerotilt.core.steps.repair import Repairing
from zerotilt.core.work import Work
from zerotilt.train import searching
from zerotilt.train.searching import searched

BASE = Recipe(estimator="linear", repair=Repairing(by="way"), seed=3)


def test_recipes_are_drawn_within_their_ranges_and_keep_all_else():
    search, rng = Search(estimators=("boosted trees", "small network")), np.random.default_rng(1)
    every = [drawn(search, BASE, rng) for _ in range(300)]
    assert {one.estimator for one in every} == set(search.estimators)
    for name in RANGES:
        low, high = getattr(search, name)
        own = [
            getattr(one, name)
            for one in every
            if name in ("trees", "depth", "leaf", "rate") and one.estimator == "boosted trees"
        ]
        assert all(low <= value <= high for value in own)
    rates = np.log([one.rate for one in every if one.estimator == "boosted trees"])
    assert abs(rates.mean() - np.log([0.02, 0.3]).mean()) < 0.2  # as many under the middle of the scale as over it
    assert all((one.repair, one.seed) == (BASE.repair, 3) for one in every)


def test_the_best_third_goes_on_and_the_best_on_all_rows_is_found():
    """A penalty's worth is told by itself, the nearer to 1 the better, with noise that falls as rows grow."""
    rng = np.random.default_rng(2)
    asked: list[tuple[float, float]] = []

    def worth(recipe, share):
        asked.append((share, recipe.penalty))
        return abs(np.log(recipe.penalty)) + rng.normal(0, 0.05 * (1 - share)), 0.1

    found = halved(
        Search(estimators=("linear",)), BASE, "log_loss", worth, lambda one: -one, lambda n: "" if n < 27 else "enough"
    )
    shares = [share for share, _ in asked]
    assert shares[:13] == [1 / 9] * 9 + [pytest.approx(1 / 3)] * 3 + [1.0]
    first = sorted(asked[:9], key=lambda one: abs(np.log(one[1])))
    assert {penalty for _, penalty in asked[9:12]} <= {penalty for _, penalty in first[:5]}
    whole = [one for one in found.tries if one.share == 1]
    assert found.best == min(whole, key=lambda one: one.value).recipe and found.recipes == 27
    assert say(found).startswith(
        "27 recipes were tried, 3 of them on all rows; enough. The best of so many looks better"
    )


def test_a_search_that_has_nothing_more_to_draw_ends_by_itself():
    found = halved(
        Search(estimators=("naive Bayes",)),
        BASE,
        "auc",
        lambda recipe, share: (0.7, 0.0),
        lambda one: one,
        lambda n: "",
    )
    assert found.recipes == 1 and found.ended == "every recipe within the ranges was tried" and found.best is not None


def test_what_is_worth_nothing_is_not_the_best():
    found = halved(
        Search(most=3),
        BASE,
        "auc",
        lambda recipe, share: (np.nan, 0.0),
        lambda one: one,
        lambda n: "over" if n >= 3 else "",
    )
    assert found.best is None and "None was worth anything" in say(found)


def test_a_search_on_rows_finds_settings_that_are_no_worse_than_the_usual():
    spec, table = claims("event", n=700)
    found = searched(
        spec, table, quick("linear"), Search(estimators=("linear", "one tree"), most=9, seconds=60), Work()
    )
    assert found.ended == "as many were tried as were asked for" and found.best is not None
    assert found.metric == "log_loss" and {one.share for one in found.tries} <= {1 / 9, 1 / 3, 1.0}


def test_when_time_runs_out_the_best_so_far_is_left(monkeypatch):
    spec, table = claims("event", n=400)
    clock = iter(np.arange(0, 1_000, 0.7))
    monkeypatch.setattr(searching.time, "monotonic", lambda: float(next(clock)))
    found = searched(spec, table, quick("linear"), Search(estimators=("linear",), seconds=12), Work())
    assert found.ended == "the time was over" and found.best is not None and 1 <= found.recipes < 12


def test_ranges_and_estimators_that_cannot_be_are_refused():
    for wrong in ({"trees": (10, 5)}, {"rate": (0, 1)}, {"rate": (0.1, 3)}, {"depth": (1, 100)}, {"estimators": ()}):
        with pytest.raises(ValidationError):
            Search(**wrong)
    spec, table = claims("number")
    with pytest.raises(Refused, match="naive Bayes tells classes"):
        searched(spec, table, quick("linear"), Search(estimators=("naive Bayes",)), Work())
