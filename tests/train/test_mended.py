"""Candidates with remedies: what is written predicts as what was trained, and the gap that was asked about gives way."""

from __future__ import annotations

import numpy as np
import pytest
from tests.train.test_fitting import claims, quick, tilted

from zerotilt.core.meaning import ColumnSpec, Condition, Kind, Segment
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.steps.penalty import GapPenalty
from zerotilt.core.steps.reductions import Constraint
from zerotilt.core.steps.repair import Repairing
from zerotilt.core.steps.resampling import Resampling
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays
from zerotilt.core.work import Work
from zerotilt.train.again import trainable
from zerotilt.train.fitting import fit, train
from zerotilt.train.learning import moved

REMEDIES = {
    "over": {"resample": Resampling(how="over", within="home")},
    "under": {"resample": Resampling(how="under")},
    "repair": {"repair": Repairing(by="home")},
    "repair in part": {"repair": Repairing(by="home", level=0.4)},
    "left out": {"left_out": ("home",)},
    "limits": {"constrain": Constraint(by="home", tolerance=0.03)},
    "together": {
        "reweigh": "home",
        "repair": Repairing(by="home", level=0.5),
        "resample": Resampling(how="over"),
        "left_out": ("home",),
    },
}


def skewed():
    """As :func:`tilted`, and x is lower in the isles."""
    spec, table = tilted()
    home = table.texts("home")
    x = table.numbers("x") - np.where(home == "isles", 0.7, 0.0)
    x[:30] = np.nan
    return spec, from_arrays({"x": x, "home": home, "y": table.texts("y")})


@pytest.mark.parametrize("remedy", REMEDIES)
@pytest.mark.parametrize("name", ["linear", "boosted trees", "forest"])
def test_what_is_written_predicts_what_was_mended(name, remedy):
    spec, table = skewed()
    made = fit(spec, table, quick(name, **REMEDIES[remedy]), Work())
    strange = from_arrays(
        {
            "x": np.array([1.0, 1e30, np.nan]),
            "home": np.array(["never seen", None, "isles"], object),
            "y": ["yes", "no", "no"],
        }
    )
    predictor = OnnxPredictor(made.data, table, spec)
    for rows in (table, strange):
        given = predictor.frame(rows, np.arange(rows.rows))
        found = predictor.outputs(given)[:, 0]
        repairs = made.model.repairs
        x = {one: np.asarray(given[one]) for one in predictor.inputs}
        if repairs:
            x["x"] = repairs["x"].moved(x["x"].astype(np.float32), x["home"])
        order = made.held.x.column_names
        wanted = made.model.pipeline.predict_proba(np.column_stack([x[one].astype(object) for one in order]))
        assert found == pytest.approx(wanted[:, list(made.model.pipeline.classes_).index("yes")], abs=1e-5)


@pytest.mark.parametrize("name", ["linear", "small network"])
@pytest.mark.parametrize("event", ["yes", "no"])
def test_a_penalty_lessens_the_gap_whichever_outcome_is_the_event(name, event):
    spec, table = skewed()
    spec = spec.model_copy(update={"event": event})
    gaps = []
    for weight in (0.0, 20.0):
        made = fit(spec, table, quick(name, penalise=GapPenalty(by="home", weight=weight)), Work())
        isles = made.held.table.texts("home") == "isles"
        gaps.append(abs(made.outputs[isles].mean() - made.outputs[~isles].mean()))
        assert made.largest_difference < 1e-5
    assert gaps[1] < gaps[0] / 3 and gaps[0] > 0.15


def test_limits_hold_in_the_file_and_are_told_with_what_lots_would_have_reached():
    spec, table = skewed()
    made = train(spec, table, quick("linear", constrain=Constraint(by="home", tolerance=0.02)), Work())
    told = made.validated.limited
    predictor = OnnxPredictor(made.data, table, spec)
    held = fit(spec, table, quick("linear", constrain=Constraint(by="home", tolerance=0.02)), Work()).held
    rows = ~held.dealt.test
    decided = predictor.outputs(predictor.frame(held.table, np.arange(held.table.rows)))[rows, 0] >= 0.5
    home = held.table.texts("home")[rows]
    farthest = max(abs(decided[home == one].mean() - decided.mean()) for one in ("isles", "north"))
    assert farthest == pytest.approx(told.largest, abs=1e-3) and told.largest <= 0.02
    assert told.models >= 1 and told.trained == 12 and told.by_lot_largest <= 0.02 + 1e-9


def test_what_was_learnt_from_is_told_by_group_as_recorded_and_as_drawn():
    spec, table = skewed()
    plain, weighed, over = (
        train(spec, table, quick("linear", **change), Work()).validated.learnt
        for change in ({}, {"reweigh": "home"}, {"resample": Resampling(how="over", within="home")})
    )
    for one in plain:
        assert one.drawn == pytest.approx(one.rows) and one.drawn_events == pytest.approx(one.events)
    whole, *groups = weighed
    shares = [one.drawn_events / one.drawn for one in groups]
    assert shares == pytest.approx([whole.events / whole.rows] * 2)
    assert [one.drawn_events / one.drawn for one in over] == pytest.approx([0.5] * 3)
    assert sum(one.drawn for one in over[1:]) == pytest.approx(whole.rows)  # on the scale of all rows


def test_a_segment_alone_is_balanced():
    spec, table = skewed()
    isles = Segment(name="the isles", conditions=(Condition(column="home", levels=("isles",)),))
    spec = spec.model_copy(update={"segments": (isles,)})
    made = train(spec, table, quick("one tree", resample=Resampling(how="under", segment="the isles")), Work())
    told = {one.group: one.drawn_events / one.drawn for one in made.validated.learnt if one.attribute == "home"}
    assert told["isles"] == pytest.approx(0.5) and told["north"] == pytest.approx(
        next(one.events / one.rows for one in made.validated.learnt if one.group == "north")
    )
    assert "the isles" in {one.group for one in made.validated.learnt}


def test_repaired_numbers_are_alike_and_the_rest_is_untouched():
    spec, table = skewed()
    held = (made := fit(spec, table, quick("linear", repair=Repairing(by="home")), Work())).held
    x = moved(held.x, made.model.repairs, held.groups["repair"]).column("x").to_numpy()
    isles = held.groups["repair"] == "isles"
    before = held.x.column("x").to_numpy()
    assert abs(np.nanmedian(before[isles]) - np.nanmedian(before[~isles])) > 0.5
    assert abs(np.nanmedian(x[isles]) - np.nanmedian(x[~isles])) < 0.05
    assert np.isnan(x).sum() == np.isnan(before).sum() > 0


@pytest.mark.parametrize(
    ("kind", "change", "message"),
    [
        (
            "event",
            {"estimator": "forest", "penalise": GapPenalty(by="way")},
            "can be used with a linear model or a small network, not with random forest",
        ),
        (
            "event",
            {"estimator": "small network", "constrain": Constraint(by="way")},
            "rows have no weights in small network",
        ),
        ("classes", {"estimator": "linear", "penalise": GapPenalty(by="way")}, "and something else is predicted"),
        ("number", {"estimator": "linear", "resample": Resampling(how="over")}, "and a number is predicted"),
        ("event", {"estimator": "linear", "repair": Repairing(by="x")}, "is a number, and values are moved between"),
        ("event", {"estimator": "linear", "repair": Repairing(by="way", columns=("way",))}, "“way” is no number"),
        (
            "event",
            {"estimator": "linear", "resample": Resampling(how="over", within="way", only="tram")},
            "is of “tram”",
        ),
        ("event", {"estimator": "linear", "resample": Resampling(how="over", segment="none")}, "has no segment “none”"),
        ("event", {"estimator": "linear", "left_out": ("x", "z", "way", "empty")}, "No column is left to learn from"),
        ("event", {"estimator": "linear", "left_out": ("nowhere",)}, "has no column “nowhere”"),
        (
            "event",
            {"estimator": "linear", "penalise": GapPenalty(by="way"), "constrain": Constraint(by="way")},
            "cannot both be trained with",
        ),
    ],
)
def test_remedies_that_cannot_be_are_refused_in_words(kind, change, message):
    spec, table = claims(kind)
    with pytest.raises(Refused, match=message):
        fit(spec, table, quick(change.pop("estimator"), **change), Work())


def test_groups_of_numbers_are_cut_as_every_sheet_cuts_them():
    spec, table = claims("event")
    spec = spec.model_copy(
        update={"columns": tuple(one.model_copy(update={"grouped": one.name == "x"}) for one in spec.columns)}
    )
    made = fit(spec, table, quick("linear", penalise=GapPenalty(by="x", weight=5.0)), Work())
    assert 2 <= len(set(made.held.groups["penalise"])) <= 6


def test_columns_of_several_kinds_are_moved_in_classes_and_numbers_too():
    for kind in ("classes", "number"):
        spec, table = claims(kind)
        columns = tuple(
            one.model_copy(update={"kind": Kind.categorical}) if one.name == "way" else one for one in spec.columns
        )
        made = fit(
            spec.model_copy(update={"columns": columns}), table, quick("linear", repair=Repairing(by="way")), Work()
        )
        assert isinstance(columns[0], ColumnSpec) and made.largest_difference < 1e-4


def test_a_file_says_from_which_recipe_it_was_made_and_is_trained_again_without_a_column():
    spec, table = skewed()
    made = train(spec, table, quick("linear", reweigh="home"), Work())
    subject = trainable(Subject(spec, table, OnnxPredictor(made.data, table, spec)))
    assert subject.again((), Work()) == made.validated.folds
    alone = subject.again(("x",), Work())
    assert (
        np.mean([one.validation["auc"] for one in alone])
        < np.mean([one.validation["auc"] for one in made.validated.folds]) - 0.1
    )
    elsewhere = Subject(spec, table, FunctionPredictor(("x",), lambda rows: np.full((rows.rows, 1), 0.5), spec.task))
    assert trainable(elsewhere).again is None
