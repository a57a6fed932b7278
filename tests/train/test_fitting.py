"""Every estimator is trained, written as it predicts, and trained again to the same predictions."""

from __future__ import annotations

import datetime as dt
import subprocess
import sys

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from zerotilt.core.candidates.recipe import CALLED, Dealing, Recipe
from zerotilt.core.meaning import ColumnSpec, Kind, Role, Spec
from zerotilt.core.predictors.modelfile import inspect
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.stats.calibration import calibration_error
from zerotilt.core.table import Table, from_arrays
from zerotilt.core.work import Work
from zerotilt.train.fitting import fit, train
from zerotilt.train.learning import learn
from zerotilt.train.prepared import prepared

KINDS = {"event": {"event": "yes"}, "classes": {"task": "several classes"}, "number": {"task": "regression"}}


def claims(kind: str, seed: int = 1, n: int = 500) -> tuple[Spec, Table]:
    """Numbers with gaps and one huge, levels of which some are in one row, missing ones, and a column that is empty."""
    rng = np.random.default_rng(seed)
    x, z = rng.normal(size=n), rng.normal(size=n) * 1e6
    way = rng.choice(["boat", "cart", "foot"], n).astype(object)
    way[:20] = [f"once {i}" for i in range(20)]
    way[20:40] = None
    worth = x + (way == "boat") + rng.normal(0, 0.7, n)
    holes = np.where(rng.random(n) < 0.1, np.nan, x)
    z[3] = 1e8
    y = {
        "event": np.where(worth > 0.3, "yes", "no"),
        "classes": np.array(["low", "middle", "high"])[np.digitize(worth, [-0.4, 0.9])],
        "number": worth,
    }[kind]
    split = np.where(np.arange(n) % 5 == 4, "test", "training")
    table = from_arrays({"x": holes, "z": z, "way": way, "empty": np.full(n, np.nan), "split": split, "y": y})
    roles = {"split": Role.split, "y": Role.outcome}
    columns = tuple(
        ColumnSpec(
            name=name,
            kind=Kind.numeric if table.is_number(name) else Kind.categorical,
            role=roles.get(name, Role.feature),
        )
        for name in table.names
    )
    told = {"holdout_values": ("test",), "training_values": ("training",)} | KINDS[kind]
    return Spec(columns=columns, **told), table


def quick(name: str, **more) -> Recipe:
    return Recipe(estimator=name, **{"trees": 12, "neighbours": 15, "dealing": Dealing(folds=3)} | more)


@pytest.mark.parametrize("wrong", [np.inf, -np.inf, 1e39])
def test_numbers_that_no_model_takes_are_refused_by_their_column(wrong):
    spec, table = claims("event")
    x = table.numbers("x").copy()
    x[[4, 5, 6]] = wrong  # of which one is held out
    changed = from_arrays({name: x if name == "x" else table.column(name) for name in table.names})
    for name in ("linear", "boosted trees"):
        with pytest.raises(Refused, match="“x” holds numbers that no model here can learn from in 2 rows"):
            fit(spec, changed, quick(name), Work())
    fit(spec, changed, quick("linear", left_out=("x",)), Work())


def test_what_stands_in_rows_put_aside_alone_is_not_known_to_the_model():
    spec, table = claims("event")
    recipe = quick("linear", rare=1, dealing=Dealing(folds=3, test_share=0.2))
    aside = prepared(spec, table, recipe).dealt.test
    training = np.flatnonzero(np.array(table.texts("split")) == "training")
    way, empty = np.array(table.texts("way"), dtype=object), np.full(table.rows, np.nan)
    way[training[aside][:3]] = "aside alone"
    empty[training[aside]] = 1.0
    held = {"way": way, "empty": empty}
    changed = from_arrays({name: held.get(name, table.column(name)) for name in table.names})
    found = prepared(spec, changed, recipe)
    assert (found.dealt.test == aside).all()
    assert "aside alone" not in found.levels["way"] and "empty" not in found.numbers


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("name", CALLED)
def test_what_is_written_predicts_what_was_trained(name, kind):
    spec, table = claims(kind)
    if kind == "number" and name == "naive Bayes":
        with pytest.raises(Refused, match="tells classes, and a number is predicted"):
            fit(spec, table, quick(name), Work())
        return
    made = fit(spec, table, quick(name), Work())
    predictor = OnnxPredictor(made.data, table, spec)
    # rows that no training row is like: levels that were never seen, and missing ones
    found = predictor.outputs(predictor.frame(table, np.arange(table.rows)))
    x = np.column_stack([predictor.frame(table, np.arange(table.rows))[one].astype(object) for one in predictor.inputs])
    assert set(predictor.inputs) == {"x", "z", "way"}  # what is empty is not taken
    if kind == "number":
        assert found[:, 0] == pytest.approx(made.model.pipeline.predict(x), abs=1e-4)
    else:
        chances = made.model.pipeline.predict_proba(x)
        classes = list(made.model.pipeline.classes_)
        wanted = (
            chances[:, [classes.index("yes")]]
            if kind == "event"
            else chances[:, [classes.index(one) for one in ("high", "low", "middle")]]
        )
        assert found == pytest.approx(wanted, abs=1e-5)


def test_a_candidate_is_validated_on_what_it_was_not_trained_on():
    spec, table = claims("event", n=700)
    done: list[str] = []
    work = Work(lambda one, whole, what: done.append(what))
    made = train(spec, table, quick("forest", leaf=1, depth=None), work, "0" * 64)
    whole = made.validated
    training = (np.arange(700) % 5 != 4).sum()
    assert whole.rows + whole.test.rows == training and whole.test.rows == pytest.approx(training / 10, abs=2)
    assert sum(one.rows for one in whole.folds) == whole.rows and len(whole.folds) == 3
    for one in whole.folds:
        assert one.training["accuracy"] > one.validation["accuracy"]  # leaves of one row know theirs by heart
    assert made.largest_difference < 1e-5 and "folds trained" in done
    told = inspect(made.data).made
    assert told.estimator == "scikit-learn RandomForestClassifier" and "scikit-learn" in told.libraries
    assert '"trees":12' in told.script and "0" * 64 in told.script


def test_the_script_trains_it_again_to_the_same_predictions(tmp_path):
    spec, table = claims("event")
    made = train(spec, table, quick("boosted trees", columns=("x", "way")), Work())
    (tmp_path / "train.py").write_text(inspect(made.data).made.script)
    pq.write_table(table.whole(), tmp_path / "claims.parquet")
    command = [sys.executable, "train.py", "claims.parquet", "again.onnx"]
    done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, env={"PYTHONPATH": ":".join(sys.path)})
    assert done.returncode == 0, done.stderr
    outputs = []
    for data in (made.data, (tmp_path / "again.onnx").read_bytes()):
        predictor = OnnxPredictor(data, table, spec)
        outputs.append(predictor.outputs(predictor.frame(table, np.arange(table.rows))))
    assert np.array_equal(*outputs)


def test_settings_do_what_they_say():
    spec, table = claims("event")
    plain, balanced = (
        fit(spec, table, quick("linear", balanced=one), Work()).outputs[:, 0].mean() for one in (False, True)
    )
    share = (table.texts("y") == "yes").mean()
    assert abs(balanced - 0.5) < abs(plain - 0.5) or abs(share - 0.5) < 0.02
    apart = fit(spec, table, quick("one tree", missing="apart"), Work())
    assert apart.largest_difference < 1e-6
    with pytest.raises(Refused, match="cannot stand below all others"):
        fit(spec, table, quick("linear", missing="apart"), Work())
    few = fit(spec, table, quick("linear", rare=1), Work())
    many = fit(spec, table, quick("linear", rare=100), Work())
    assert sum(map(len, few.held.levels.values())) > sum(map(len, many.held.levels.values()))


def weighed(n: int = 400) -> tuple[Spec, Table]:
    spec, table = claims("event", n=n)
    w = np.where(np.arange(n) % 2, 0.0, 1.0)
    table = from_arrays(
        {name: table.numbers(name) if table.is_number(name) else table.texts(name) for name in table.names} | {"w": w}
    )
    return spec.model_copy(
        update={"columns": (*spec.columns, ColumnSpec(name="w", kind=Kind.numeric, role=Role.weight))}
    ), table


def test_rows_that_weigh_nothing_teach_nothing():
    spec, table = weighed()
    made = fit(spec, table, quick("one tree", leaf=1), Work())
    heavy = made.held.weights > 0
    places = np.flatnonzero(heavy & ~made.held.dealt.test)
    alone = learn(made.held, heavy & ~made.held.dealt.test)
    assert alone.outputs(made.held)[places] == pytest.approx(made.outputs[places])


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"columns": ("nowhere",)}, "the table has no column “nowhere”"),
        ({"columns": ("y",)}, "is what is to be predicted"),
        ({"columns": ("empty",)}, "No column that was chosen tells rows apart"),
        ({"dealing": Dealing(folds=3, together="split")}, "together: the column has 1 value"),
        ({"dealing": Dealing(folds=3, in_time="nowhere")}, "in time: the table has no column “nowhere”"),
        ({"dealing": Dealing(folds=20), "n": 40}, "20 folds need 40 rows of the class"),
    ],
)
def test_what_cannot_be_trained_is_refused_in_words(change, message):
    spec, table = claims("event", n=change.pop("n", 300))
    with pytest.raises(Refused, match=message):
        train(spec, table, quick("one tree", **change), Work())


def test_an_outcome_that_is_always_the_same_is_refused():
    spec, table = claims("event")
    same = {name: table.numbers(name) if table.is_number(name) else table.texts(name) for name in table.names}
    same["y"] = np.where(np.arange(table.rows) % 5 == 4, table.texts("y"), "yes")
    with pytest.raises(Refused, match="The outcome has one class only"):
        train(spec, from_arrays(same), quick("linear"), Work())


def tilted(n: int = 3_000) -> tuple[Spec, Table]:
    """Labels of one area that were refused more often than they deserved."""
    rng = np.random.default_rng(4)
    x, home = rng.normal(size=n), rng.choice(["north", "isles"], n, p=[0.7, 0.3])
    y = (x + rng.normal(0, 0.5, n) > np.where(home == "isles", 0.8, 0.0)).astype(int)
    table = from_arrays({"x": x, "home": home, "y": np.where(y == 1, "yes", "no")})
    columns = (
        ColumnSpec(name="x", kind=Kind.numeric, role=Role.feature),
        ColumnSpec(name="home", kind=Kind.categorical, role=Role.feature, grouped=True),
        ColumnSpec(name="y", kind=Kind.categorical, role=Role.outcome),
    )
    return Spec(columns=columns, event="yes"), table


def test_rows_weighed_to_be_independent_lessen_the_gap_that_was_learnt():
    spec, table = tilted()
    gaps = []
    for reweigh in ("", "home"):
        folds = train(spec, table, quick("linear", reweigh=reweigh), Work()).validated.folds
        rates = [{one.group: one.values["selection_rate"] for one in fold.groups} for fold in folds]
        gaps.append(np.mean([one["isles"] - one["north"] for one in rates]))
    assert gaps[0] < gaps[1] - 0.05 and gaps[0] < -0.2


@pytest.mark.parametrize(
    ("kind", "change", "message"),
    [
        (
            "event",
            {"estimator": "nearest neighbours", "reweigh": "split"},
            "rows have no weights in nearest neighbours",
        ),
        ("number", {"estimator": "linear", "reweigh": "split"}, "and a number is predicted"),
        ("event", {"estimator": "linear", "reweigh": "nowhere"}, "reweigh: the table has no column “nowhere”"),
        ("event", {"estimator": "linear", "reweigh": "way"}, "no weight makes them independent"),
    ],
)
def test_weights_that_cannot_be_are_refused(kind, change, message):
    spec, table = claims(kind)
    with pytest.raises(Refused, match=message):
        fit(spec, table, quick(change.pop("estimator"), **change), Work())


@pytest.mark.parametrize("name", ["linear", "one tree", "boosted trees"])
def test_strange_names_levels_days_and_truths_are_taken_as_they_are(name):
    rng = np.random.default_rng(1)
    n = 300
    days = [dt.date(2026, 1, 1) + dt.timedelta(int(one)) for one in rng.integers(0, 300, n)]
    x = rng.normal(size=n)
    table = Table(
        pa.table(
            {
                "a b": x,
                "a_b": rng.normal(size=n),
                "=cmd|'/c'": rng.normal(size=n) * 1e8,
                "select": rng.choice(["<b>", "", None, "ü", "😀"], n),
                "day": pa.array(days),
                "flag": rng.random(n) > 0.5,
                "outcome": np.where(x + rng.normal(0, 0.5, n) > 0, "yes", "no"),
            }
        )
    )
    kinds = {"select": Kind.categorical, "day": Kind.date, "flag": Kind.boolean, "outcome": Kind.categorical}
    columns = tuple(
        ColumnSpec(
            name=one,
            kind=kinds.get(one, Kind.numeric),
            role=Role.outcome if one == "outcome" else Role.feature,
        )
        for one in table.names
    )
    made = train(Spec(columns=columns, event="yes"), table, quick(name), Work())
    assert made.largest_difference < 1e-4 and made.validated.folds[0].validation["auc"] > 0.7
    assert {one.name for one in inspect(made.data).inputs} == set(table.names) - {"outcome"}


def test_folds_and_groups_are_told_how_far_their_chances_are_off():
    spec, table = tilted(900)
    made = fit(spec, table, quick("linear"), Work())
    held, fold = made.held, made.held.dealt.folds[0]
    outputs = learn(held, held.dealt.trained(fold)).outputs(held)
    rows = held.dealt.validated(fold)
    found = held.read.fold(outputs, rows, held.dealt.trained(fold))
    y = held.y == "yes"
    wanted = calibration_error(y[rows], outputs[rows, 0], held.weights[rows])
    assert found.validation["calibration_error"] == pytest.approx(wanted)
    isles = rows & (np.array(held.table.texts("home")) == "isles")
    told = next(one.values for one in found.groups if one.group == "isles")
    assert told["calibration_error"] == pytest.approx(
        calibration_error(y[isles], outputs[isles, 0], held.weights[isles])
    )


def test_columns_of_one_value_and_of_a_thousand_levels_do_no_harm():
    rng = np.random.default_rng(8)
    n = 2_000
    x = rng.normal(size=n)
    y = np.where(x + rng.normal(0, 0.5, n) > 0, "yes", "no")
    columns = {
        "x": x,
        "one": np.full(n, 7.0),
        "same": np.full(n, "a"),
        "many": rng.integers(0, 1_000, n).astype(str),
        "y": y,
    }
    table = from_arrays(columns)
    roles = {"y": Role.outcome}
    told = tuple(
        ColumnSpec(
            name=name,
            kind=Kind.numeric if table.is_number(name) else Kind.categorical,
            role=roles.get(name, Role.feature),
        )
        for name in table.names
    )
    for name in ("linear", "boosted trees", "small network"):
        made = train(Spec(columns=told, event="yes"), table, quick(name), Work())
        assert made.largest_difference < 1e-4 and made.validated.folds[0].validation["auc"] > 0.8


def test_how_many_columns_a_split_is_looked_for_in_is_what_is_said():
    spec, table = claims("event")
    for name in ("one tree", "forest", "extra trees", "boosted trees"):
        assert fit(spec, table, quick(name, split=0.25), Work()).model.last.max_features == 0.25
        usual = fit(spec, table, quick(name), Work()).model.last.max_features
        assert usual == {"one tree": None, "boosted trees": 0.5}.get(name, "sqrt")
