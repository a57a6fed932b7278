"""Candidates from the command line and in a notebook: a file of recipes in, a folder out, the same numbers everywhere."""

from __future__ import annotations

import json

import pyarrow.csv as pacsv
import pytest
from tests.cli.shell import typed

from zerotilt import settings_file
from zerotilt.core.refusal import Refused
from zerotilt.notebook import Candidates, Recipe, Study, train
from zerotilt.settings_file import SettingsFile

HEAD = 'zerotilt = 1\ntable = "claims.csv"\noutcome = "claim_valid"\nevent = "yes"\ngroups = ["home_area"]\n'
TWO = """
[dealing]
folds = 3

[[candidate]]
estimator = "linear"
left_out = ["claim_number"]

[[candidate]]
name = "weighed / <b>"
estimator = "linear"
left_out = ["claim_number"]
reweigh = "home_area"
"""


@pytest.fixture(scope="module")
def folder(demo, tmp_path_factory):
    made = tmp_path_factory.mktemp("train")
    claims, spec, _ = demo
    pacsv.write_csv(claims.slice(0, 1_500), made / "claims.csv")
    (made / "recipe.toml").write_text(HEAD + TWO)
    told = settings_file.written(SettingsFile(spec=spec, table="claims.csv"))
    (made / "audit.toml").write_text(told)
    (made / "by_settings.toml").write_text(
        'zerotilt = 1\nsettings = "audit.toml"\n' + TWO.replace("claim_number", "photo_attached")
    )
    return made


@pytest.fixture(scope="module")
def trained(folder):
    run = typed("train", "recipe.toml", "--out", "made", folder=folder)
    assert run.returncode == 0, run.stderr
    return run.stdout


def test_a_file_of_recipes_is_trained_into_a_folder(folder, trained):
    assert trained.startswith("Of 2 candidates, ") and trained.strip().endswith("2 candidates in made.")
    assert {one.name for one in (folder / "made").iterdir()} == {
        "candidates.json",
        "linear-model-1.onnx",
        "weighed-b.onnx",
    }
    told = json.loads((folder / "made" / "candidates.json").read_text())
    assert [one["name"] for one in told["candidates"]] == ["linear model 1", "weighed / <b>"]
    assert all(one["recipe"]["dealing"]["folds"] == 3 for one in told["candidates"])


def test_they_are_compared_with_the_gap_beside_and_on_the_tables_own_rows(folder, trained):
    how = ("--gap", "selection_rate", "--group", "outer isles", "--reference", "harbour town")
    run = typed("compare", "made", *how, "--out", "made.csv", "--table", "claims.csv", folder=folder)
    assert run.returncode == 0, run.stderr
    assert (
        "Weighed / <b>, rows weighed so that home area and the outcome are independent: the gap of home area outer isles"
        in run.stdout
    )
    assert "has a log loss of" in run.stdout and "in labels" not in run.stdout
    table = pacsv.read_csv(folder / "made.csv").to_pylist()
    assert len(table) == 2 and {"name", "validation", "validation_low", "gap"} <= set(table[0])


def test_a_notebook_says_the_same(folder, trained, demo):
    frame = pacsv.read_csv(folder / "claims.csv")
    recipes = [
        {"estimator": "linear", "left_out": ["claim_number"]},
        {"name": "weighed / <b>", "estimator": "linear", "left_out": ["claim_number"], "reweigh": "home_area"},
    ]
    from zerotilt.core.candidates.recipe import Dealing

    found = train(frame, *recipes, outcome="claim_valid", event="yes", groups=["home_area"], dealing=Dealing(folds=3))
    opened = Candidates.open(folder / "made")
    assert found.reading() == opened.reading() and found.reading() in trained
    assert found.table().to_pylist() == opened.table().to_pylist()
    study = Study(frame, found.made["linear model 1"].model, "claim_valid", "yes", groups=["home_area"])
    beside = study.against(weighed=found.made["weighed / <b>"].model).versions()
    assert {one.version for one in beside.result.values} == {"this version", "weighed"}
    again = train(frame, Recipe.model_validate(recipes[0]), outcome="claim_valid", event="yes")
    assert again.made["linear model 1"].validated.folds != ()


def test_settings_say_what_the_columns_are(folder):
    run = typed("train", "by_settings.toml", "--out", "settled", folder=folder)
    assert run.returncode == 0, run.stderr
    told = json.loads((folder / "settled" / "candidates.json").read_text())
    assert told["spec"]["wording"]["rows"] == "claims" and "claims" in run.stdout


@pytest.mark.parametrize(
    ("body", "message"),
    [
        ("nonsense = [", "not written as TOML"),
        ("zerotilt = 1\n", "candidate"),
        (HEAD + '[[candidate]]\nestimator = "magic"\n', "candidate.1.estimator"),
        (HEAD + '[[candidate]]\nestimator = "linear"\ntress = 3\n', "candidate.1.tress"),
        (HEAD.replace("claims.csv", "nowhere.csv") + TWO, "The table “nowhere.csv” cannot be read"),
        ('zerotilt = 1\ntable = "claims.csv"\n' + TWO, "names neither settings nor an outcome"),
        (HEAD + TWO + '[[candidate]]\nname = "weighed / <b>"\nestimator = "linear"\n', "Two candidates are called"),
        (HEAD + TWO.replace("home_area", "nowhere"), "reweigh: the table has no column “nowhere”"),
    ],
)
def test_a_file_that_cannot_be_used_is_refused_where_it_is_wrong(folder, body, message):
    (folder / "wrong.toml").write_text(body)
    run = typed("train", "wrong.toml", "--out", "wrong", folder=folder)
    assert run.returncode == 2 and message in run.stderr and not (folder / "wrong").exists()


def test_a_folder_that_holds_no_candidates_is_refused(folder, tmp_path):
    assert "is no folder of candidates" in typed("compare", tmp_path, folder=folder).stderr
    (tmp_path / "candidates.json").write_text("{}")
    assert "is not what ./zt train writes" in typed("compare", tmp_path, folder=folder).stderr
    with pytest.raises(Refused, match="is none of the candidates"):
        from zerotilt.core.table import Table

        Candidates.open(folder / "made").against(Table(pacsv.read_csv(folder / "claims.csv")), "nobody")
