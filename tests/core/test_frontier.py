"""Price against gap: who is outdone, by force; and recipes held against each other line by line."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.test_candidates import candidate

from zerotilt.core.candidates.compared import table_of
from zerotilt.core.candidates.lines import facts_of, lines_of
from zerotilt.core.candidates.recipe import Dealing, Recipe
from zerotilt.core.candidates.said import say, say_frontier
from zerotilt.core.candidates.standing import stand
from zerotilt.core.meaning import ColumnSpec, Kind, Role, Spec, Wording
from zerotilt.core.predictors.made import Made
from zerotilt.core.refusal import Refused
from zerotilt.core.steps.reductions import Constraint

GAP = ("selection_rate", "home", "isles", "north")
SPEC = Spec(
    columns=(
        ColumnSpec(name="x", kind=Kind.numeric, role=Role.feature),
        ColumnSpec(name="home", kind=Kind.categorical, role=Role.feature, grouped=True),
        ColumnSpec(name="y", kind=Kind.categorical, role=Role.outcome),
    ),
    event="yes",
)


@given(st.integers(0, 10_000))
@settings(max_examples=60, deadline=None)
def test_who_is_outdone_is_outdone_by_one_that_is_as_good_in_both(seed):
    rng = np.random.default_rng(seed)
    many = int(rng.integers(1, 9))
    worth = [
        (f"c{i}", candidate(rng.choice([0.4, 0.5, 0.6]) + np.zeros(5), gap=float(rng.choice([-0.3, -0.1, 0.1]))))
        for i in range(many)
    ]
    table = table_of(worth, "log_loss", GAP, 0.95, 0.05)
    at = {one.name: (one.validation.value, abs(one.gap.value)) for one in table.standings}
    for one in table.standings:
        here = at[one.name]
        above = [name for name, (loss, gap) in at.items() if loss <= here[0] and gap <= here[1] and (loss, gap) != here]
        assert (one.dominated in above) if above else one.dominated is None
    assert any(one.dominated is None for one in table.standings)


def test_what_stands_on_the_frontier_is_said_with_intervals():
    table = table_of(
        [("dear", candidate(np.full(5, 0.6), gap=-0.05)), ("good", candidate(np.array([0.49, 0.5, 0.51, 0.5, 0.5]), gap=-0.4))],
        "log_loss", GAP, 0.95, 0.05,
    )  # fmt: skip
    first, *rest = say_frontier(table, GAP, Wording())
    assert first.startswith(
        "Good has the best log loss, 0.500 (95% interval 0.487 to 0.513), with a gap of home isles to north in the selection rate of −38.0 points ("
    )
    assert "; the smallest gap has dear, −3.0 points (" in first and rest == [
        "None is outdone in both by another, by their means."
    ]
    worse = table_of(
        [("good", candidate(np.full(5, 0.5), gap=-0.05)), ("bad", candidate(np.full(5, 0.6), gap=-0.4))],
        "log_loss", GAP, 0.95, 0.05, minimum_rows=10_000,
    )  # fmt: skip
    told = say_frontier(worse, GAP, Wording())
    assert told[0].endswith("; no other has a smaller one.") and "too few rows" in told[1]
    assert told[2] == "1 candidate of 2 is outdone in both by another, by their means."
    assert all(one.few for one in worse.standings)
    assert "nothing stands against their price" in say_frontier(table, None, Wording())[0]
    unknown = ("auc", *GAP[1:])
    bare = table_of([("good", candidate(np.full(5, 0.5)))], "log_loss", unknown, 0.95, 0.05)
    assert "nothing stands against their price" in say_frontier(bare, unknown, Wording())[0]


def test_what_was_found_among_many_says_so():
    one = candidate(np.full(5, 0.5)).model_copy(update={"found_among": 27})
    said = " ".join(say(table_of([("best", one)], "log_loss", None, 0.95, 0.05), Wording()))
    assert "It was found among 27 recipes that were tried on these folds, so what it has there flatters it." in said


def test_a_gap_that_is_not_named_is_chosen():
    told = [("a", Recipe(estimator="linear"), candidate(np.full(5, 0.5)))]
    assert stand(SPEC, told, gap="selection_rate").gap in (GAP, ("selection_rate", "home", "north", "isles"))
    assert stand(SPEC, told).gap is None and stand(SPEC, []).table is None and stand(SPEC, []).reading == ()
    named = SPEC.model_copy(
        update={
            "columns": tuple(
                one.model_copy(update={"reference": "isles"} if one.name == "home" else {}) for one in SPEC.columns
            )
        }
    )
    assert stand(named, told, gap="selection_rate").gap == ("selection_rate", "home", "north", "isles")
    with pytest.raises(Refused, match="“rmse” is not measured of these candidates"):
        stand(SPEC, told, metric="rmse")


def test_recipes_are_told_line_by_line_what_differs_first():
    made = Made(
        estimator="scikit-learn Ridge",
        libraries={"scikit-learn": "1.9"},
        parameters={"alpha": "1.0"},
        commit="abc",
        changed=True,
    )
    first = Recipe(
        estimator="forest", depth=4, constrain=Constraint(by="home_area"), dealing=Dealing(together="sender_kind")
    )
    second = first.model_copy(update={"depth": None, "balanced": True})
    here, there = facts_of(first, None, "d" * 64, ["b", "a_c"]), facts_of(second, made, "e" * 64, ["b"])
    lines = {one.what: one for one in lines_of(here, there)}
    assert (lines["depth at most"].here, lines["depth at most"].there) == ("4", "its own")
    assert (lines["classes weigh alike"].here, lines["classes weigh alike"].there) == ("no", "yes")
    assert lines["takes"].here == "a c and b" and lines["kept together by"].here == "sender kind"
    assert lines["remedy 1"].same and lines["remedy 1"].here.startswith(
        "trained so that the selection rate of no home area"
    )
    assert (
        lines["library scikit-learn"].here == ""
        and lines["git commit"].there == "abc and changes that were not committed"
    )
    order = [one.same for one in lines_of(here, there)]
    assert order == sorted(order) and not order[0]
    elsewhere = facts_of(None, made, "", ["x"])
    assert (
        elsewhere["estimator"] == "scikit-learn Ridge"
        and elsewhere["setting alpha"] == "1.0"
        and "folds" not in elsewhere
    )
