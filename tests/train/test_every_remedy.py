"""What every remedy keeps to, and what one file with a declaration brings: another one is trained, told, warned of and documented."""

from __future__ import annotations

import itertools
import json

import numpy as np
import pytest
from tests.cli.shell import typed
from tests.train import toy
from tests.train.test_fitting import claims, quick, tilted

from zerotilt.api import contract
from zerotilt.core.candidates.recipe import Dealing, Recipe
from zerotilt.core.candidates.remedied import sibling_of
from zerotilt.core.refusal import Refused
from zerotilt.core.steps.every import REMEDIES
from zerotilt.core.steps.penalty import GapPenalty
from zerotilt.core.steps.reductions import Constraint
from zerotilt.core.steps.repair import Repairing
from zerotilt.core.steps.resampling import Resampling
from zerotilt.core.table import from_arrays
from zerotilt.core.work import Work
from zerotilt.notebook import Candidates
from zerotilt.notebook import train as trained
from zerotilt.train.fitting import fit

ASKED = {
    "left_out": ("z",),
    "reweigh": "way",
    "resample": Resampling(how="over", within="way"),
    "repair": Repairing(by="way", level=0.7),
    "penalise": GapPenalty(by="way", weight=2.0),
    "constrain": Constraint(by="way", rounds=3),
    "fade": toy.Fading(by="way", part="boat", share=0.3),
}
NONE_AT_ALL = {
    "repair": Repairing(by="way", level=0.0),
    "penalise": GapPenalty(by="way", weight=0.0),
    "constrain": Constraint(by="way", tolerance=1.0),
    "fade": toy.Fading(by="way", part="boat", share=1.0),
}


@pytest.fixture(autouse=True)
def registered(monkeypatch):
    """The line in the list of remedies."""
    monkeypatch.setitem(REMEDIES, "fade", toy.REMEDY)


def whole(kind: str = "event", weighted: bool = False):
    """Every level in enough rows that a group has both outcomes; some numbers and levels are missing."""
    spec, table = claims(kind, n=420)
    way = np.array([one if one in ("boat", "cart", "foot") else None for one in table.texts("way")], object)
    columns = {name: table.column(name) for name in table.names} | {"way": way}
    if not weighted:
        return spec, from_arrays(columns)
    columns["w"] = np.where(np.arange(420) % 7 == 0, 0.0, 1.0 + np.arange(420) % 3)
    told = spec.columns[0].model_copy(update={"name": "w", "role": "weight", "kind": "numeric"})
    return spec.model_copy(
        update={"columns": (*spec.columns, type(told).model_validate(told.model_dump()))}
    ), from_arrays(columns)


def outputs(spec, table, recipe: Recipe) -> np.ndarray:
    made = fit(spec, table, recipe, Work())
    return made.model.outputs(made.held)


def recipe(name: str, asked, estimator: str = "linear", **more) -> Recipe:
    told = asked.model_dump() if hasattr(asked, "model_dump") else asked
    return Recipe.model_validate(quick(estimator, **more).model_dump() | {name: told})


def test_every_remedy_has_settings_to_be_tried_with():
    assert set(ASKED) == set(REMEDIES)


@pytest.mark.parametrize("name", NONE_AT_ALL)
def test_an_amount_of_nothing_gives_the_plain_model_back(name):
    spec, table = whole()
    plain, none = (outputs(spec, table, one) for one in (quick("linear"), recipe(name, NONE_AT_ALL[name])))
    # a penalty is trained by an optimiser of our own, which ends where the other one does as far as it looks
    np.testing.assert_allclose(none, plain, atol=2e-3 if name == "penalise" else 1e-9)
    assert not np.allclose(outputs(spec, table, recipe(name, ASKED[name])), plain, atol=5e-3), "and some changes it"


@pytest.mark.parametrize("name", ASKED)
def test_the_same_seed_gives_the_same_bits_and_missing_values_and_weights_of_nothing_are_borne(name):
    spec, table = whole(weighted=True)
    # none put aside, which would be other rows where other rows have the outcome
    asked = recipe(name, ASKED[name], seed=5, dealing=Dealing(folds=3, test_share=0))
    one, two = (outputs(spec, table, asked) for _ in range(2))
    assert one.tobytes() == two.tobytes() and np.isfinite(one).all()
    # rows that weigh nothing say nothing, whatever their outcome
    y = np.array(table.texts("y"), object)
    light = table.numbers("w") == 0
    y[light] = np.where(y[light] == "yes", "no", "yes")
    turned = from_arrays({column: y if column == "y" else table.column(column) for column in table.names})
    if name in ("reweigh", "repair", "left_out", "fade", "penalise"):
        np.testing.assert_allclose(outputs(spec, turned, asked), one, atol=1e-6)


@pytest.mark.parametrize(("name", "kind"), itertools.product(ASKED, ("classes", "number")))
def test_what_it_is_not_for_is_refused_and_the_rest_is_trained(name, kind):
    spec, table = whole(kind)
    fits = {"anything": True, "classes": kind == "classes", "event": False}[REMEDIES[name].of]
    if name == "fade" and kind == "number":
        fits = True
    if not fits:
        with pytest.raises(Refused, match=f"{name}: it is for"):
            outputs(spec, table, recipe(name, ASKED[name]))
        return
    assert np.isfinite(outputs(spec, table, recipe(name, ASKED[name]))).all()


@pytest.mark.parametrize("name", [name for name, one in REMEDIES.items() if one.weighs] + ["fade"])
def test_estimators_without_row_weights_are_refused(name):
    spec, table = whole()
    with pytest.raises(Refused, match="rows have no weights in nearest neighbours"):
        outputs(spec, table, recipe(name, ASKED[name], "nearest neighbours"))


def test_what_cannot_be_combined_names_each_other():
    for name, remedy in REMEDIES.items():
        for other in remedy.against:
            assert name in REMEDIES[other].against
            spec, table = whole()
            both = Recipe.model_validate(
                quick("linear").model_dump() | {one: ASKED[one].model_dump() for one in (name, other)}
            )
            with pytest.raises(Refused, match="cannot both be trained with"):
                outputs(spec, table, both)


@pytest.mark.parametrize("name", ASKED)
def test_it_is_said_warned_of_and_taken_away(name):
    remedy, asked = REMEDIES[name], recipe(name, ASKED[name])
    assert asked.remedies == (remedy.said(ASKED[name]),)
    assert asked.plain == quick("linear").plain and asked.plain.remedies == ()
    assert Recipe.model_validate_json(asked.model_dump_json()) == asked and hash(asked) == hash(asked.model_copy())
    assert sibling_of(asked, {quick("linear"): "plain", asked: "own"}) == "plain"
    for text in (remedy.does, remedy.assumes, remedy.hurts, remedy.law):
        assert text[:1].isupper() and text.endswith(".")
    first = next(iter(remedy.form), None)
    assert first is not None
    if remedy.model is not None:
        assert set(remedy.form) <= set(remedy.model.model_fields)
        # what the form does not ask for first has a value of its own, or is asked for
        assert {one for one, field in remedy.model.model_fields.items() if field.is_required()} <= set(remedy.form)


def test_another_remedy_is_trained_told_and_documented(tmp_path, demo):
    table, _, _ = demo
    how = {"outcome": "claim_valid", "event": "yes", "groups": ["home_area"]}
    fade = {"by": "home_area", "part": "uplands", "share": 0.1}
    plain = {"estimator": "linear", "left_out": ["claim_number"], "dealing": {"folds": 3}}
    found = trained(table.slice(0, 1_200), plain, plain | {"name": "faded", "fade": fade}, **how)
    assert found.made["faded"].recipe.more == {"fade": fade}
    told = found.reading(gap="selection_rate", column="home_area")
    assert "rows of home area uplands count 10% of what they did" in told
    assert "One group counts less: rows of one group count less. It takes for granted" in told
    found.save(tmp_path / "kept")
    assert Candidates.open(tmp_path / "kept").made["faded"].recipe == found.made["faded"].recipe

    documents = {path.name: text for path, text in contract.documents().items()}
    assert "| `fade = { by, part, share }` | Rows of one group count less. |" in documents["recipes.md"]
    form = json.loads(documents["remedies.json"])["fade"]
    assert (form["own"], form["usual"], [one["name"] for one in form["form"]]) == (
        False,
        {"share": 0.5},
        ["by", "part", "share"],
    )
    assert '"more"' in documents["openapi.json"]


def test_another_remedy_stands_in_a_file_of_recipes(tmp_path):
    _, table = tilted()
    rows = zip(*(table.texts(name) for name in ("x", "home", "y")), strict=True)
    lines = ["x,home,y", *(",".join(one or "" for one in row) for row in rows)]
    (tmp_path / "t.csv").write_text("\n".join(lines))
    head = 'zerotilt = 1\ntable = "t.csv"\noutcome = "y"\nevent = "yes"\ngroups = ["home"]\n[dealing]\nfolds = 2\n'
    one = '[[candidate]]\nestimator = "linear"\nfade = { by = "home", part = "%s" }\n'
    (tmp_path / "r.toml").write_text(head + one % "isles")
    run = typed("train", "r.toml", folder=tmp_path)
    assert run.returncode == 0, run.stderr
    (tmp_path / "r.toml").write_text(head + one % "nowhere")
    run = typed("train", "r.toml", folder=tmp_path)
    assert run.returncode == 2 and "fade: no training row is of “nowhere”" in run.stderr


@pytest.mark.parametrize("wrong", [{"nothing": {}}, {"reweigh": "way"}, {"fade": {"by": "way"}}])
def test_a_further_remedy_that_is_none_is_refused(wrong):
    with pytest.raises(ValueError):
        Recipe(estimator="linear", more=wrong)


def test_a_recipe_without_further_remedies_is_written_as_before():
    assert "more" not in quick("linear", reweigh="way").model_dump_json()
