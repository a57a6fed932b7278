"""Drivers other than shuffling: shares of the loss, parts apart, own parts, agreement, linked columns."""

from __future__ import annotations

import numpy as np
import pytest
from tests.core import zoo
from tests.core.systems import system
from tests.core.three_numbers import WORDING, numbers

from zerotilt.core import links
from zerotilt.core.contributions import ladder
from zerotilt.core.contributions.explain import explain
from zerotilt.core.counterfactuals import nearest
from zerotilt.core.drivers import agreement, by_part, loss_shapley, losses, own, ranking
from zerotilt.core.meaning import Task
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.refusal import Refused
from zerotilt.core.response import partial
from zerotilt.core.tasks import KINDS
from zerotilt.core.work import Work


def test_loss_shapley_values_add_up_to_the_reduction_and_split_a_line_by_its_variances():
    subject = numbers(lambda r: 3 * r["x0"] + r["x1"] + 0 * r["x2"], n=600)
    result = loss_shapley.share_out(subject, loss_shapley.LossShapleySettings(rows=600, background=300), 2, Work())
    values = {one.feature: one.value.value for one in result.features}
    assert sum(values.values()) == pytest.approx(result.with_none - result.with_all, abs=1e-9)
    # independent columns of variance one: 9 and 1 of the variance
    assert values["x0"] == pytest.approx(9, rel=0.15)
    assert values["x1"] == pytest.approx(1, rel=0.25)
    assert values["x2"] == 0
    assert result.features[0].value.low < 9.5 and result.features[0].value.high > 8.5


@pytest.mark.parametrize(("task", "loss"), [(task, loss) for task, kind in KINDS.items() for loss in kind.losses])
def test_every_loss_of_every_kind_of_outcome_is_its_own_mean(task, loss):
    rng = np.random.default_rng(2)
    n, k = 300, 3 if task in (Task.several, Task.ordered) else 1
    outputs = rng.dirichlet(np.ones(3), n) if k == 3 else rng.random((n, 1))
    outcome = rng.integers(0, 3, n) if k == 3 else rng.random(n) < 0.4 if task is Task.binary else rng.random(n)
    found = KINDS[task].lost(loss, outcome, outputs, 0.5, np.ones(len(outputs))).mean()
    if loss == "log_loss" and k == 3:
        assert found == pytest.approx(-np.log(outputs[np.arange(n), outcome]).mean())
    if loss == "brier_score" and k == 3:
        assert found == pytest.approx(((outputs - np.eye(3)[outcome]) ** 2).sum(axis=1).mean())
    if loss == "absolute_error" and k == 3:
        assert found == pytest.approx(np.abs(outputs @ [0, 1, 2] - outcome).mean())
    if loss == "squared_error":
        assert found == pytest.approx(((outputs[:, 0] - outcome) ** 2).mean())
    assert np.isfinite(found)


def test_a_loss_of_another_kind_of_outcome_is_refused():
    with pytest.raises(Refused, match="for regression outcomes there are squared error and absolute error"):
        losses.chosen("auc", KINDS[Task.regression])


def test_means_apart_are_those_of_each_groups_own_rows():
    task, model, columns = zoo.made("random forest")
    subject = zoo.subject_of(model, columns, task, grouped="channel")
    result = by_part.by_part(subject, by_part.ByPartSettings(), 1, Work())
    values = explain(subject, np.arange(subject.n), 1, Work())
    own = subject.frame["channel"] == "app"
    for mean in result.means:
        if mean.part == "app":
            mine = values.values[own, values.features.index(mean.feature)]
            assert (mean.size.value, mean.signed) == (pytest.approx(np.abs(mine).mean()), pytest.approx(mine.mean()))
            assert mean.rows == own.sum()
    assert set(result.parts) == {"app", "counter", "telephone"}
    assert (
        "Channel" in by_part.say(result, WORDING, by_part.ByPartSettings()).text
        or "every group" in by_part.say(result, WORDING, by_part.ByPartSettings()).text
    )


def test_means_apart_by_class_read_every_class():
    task, model, columns = zoo.made("random forest, three classes")
    result = by_part.by_part(
        zoo.subject_of(model, columns, task), by_part.ByPartSettings(by="class", rows=60), 1, Work()
    )
    assert result.parts == ("0", "1", "2")
    signed = {(mean.part, mean.feature): mean.signed for mean in result.means}
    for feature in {mean.feature for mean in result.means}:
        assert sum(signed[part, feature] for part in result.parts) == pytest.approx(0, abs=1e-6)
    task, model, columns = zoo.made("random forest")
    with pytest.raises(Refused, match="parts by class need several classes"):
        by_part.by_part(zoo.subject_of(model, columns, task), by_part.ByPartSettings(by="class"), 1, Work())


def test_an_edited_case_is_explained_as_the_row_it_would_be():
    task, model, columns = zoo.made("random forest")
    subject = zoo.subject_of(model, columns, task)
    edits = {"weight": "1.5", "grade": "D", "days": ""}
    found = ladder.ladder_of(subject, ladder.LadderSettings(row=4, edits=edits), 1, Work())
    row = (
        subject.frame.take(np.array([4]))
        .replace("weight", np.array([1.5]))
        .replace("grade", np.array(["D"], dtype=object))
    )
    row = row.replace("days", np.array([np.nan]))
    assert found.prediction == pytest.approx(subject.output(row)[0], abs=1e-6)
    values = {rung.feature: rung.value for rung in found.rungs}
    assert (values["weight"], values["grade"], values["days"]) == ("1.5", "D", "missing")
    assert found.name.endswith(", edited") and found.actual is None
    curve = partial.respond(subject, partial.ResponseSettings(feature="value", case=4, edits=edits), 1, Work())
    asked = subject.output(row.replace("value", np.array([curve.points[3].position])))[0]
    assert curve.case.values[3] == pytest.approx(asked, abs=1e-6)
    for bad, message in (
        ({"magic": "1"}, "“magic” is not a feature"),
        ({"weight": "heavy"}, "“heavy” was given for “weight”; it takes a number"),
    ):
        with pytest.raises(Refused, match=message):
            ladder.ladder_of(subject, ladder.LadderSettings(row=4, edits=bad), 1, Work())


def test_where_contributions_are_exact_and_cheap_all_rows_are_averaged():
    task, model, columns = zoo.made("logistic regression")
    exact = ranking.rank(
        zoo.subject_of(model, columns, task, "log-odds"), ranking.DriversSettings(explained=10), 1, Work()
    )
    assert exact.explained == 500
    steadied = ranking.rank(zoo.subject_of(model, columns, task), ranking.DriversSettings(explained=10), 1, Work())
    assert steadied.explained == 50
    task, model, columns = zoo.made("neural network")
    sampled = ranking.rank(zoo.subject_of(model, columns, task), ranking.DriversSettings(explained=10), 1, Work())
    assert sampled.explained == 10


def test_days_are_written_as_dates_wherever_a_value_is_named():
    days = np.arange("2026-01-01", "2026-04-11", dtype="datetime64[D]")
    subject = system(
        {"sent": days, "y": np.arange(100) % 2}, lambda r: 1 / (1 + np.exp(-(r["sent"] - 20_500) / 10)), ["sent"]
    )
    curve = partial.respond(subject, partial.ResponseSettings(points=5, case=3), 1, Work())
    assert curve.points[0].label.startswith("2026-0") and curve.case.label == "2026-01-04" and curve.date
    assert curve.direction == "rises"
    near = nearest.find_nearest(subject, nearest.NearestSettings(row=3), 1, Work())
    assert near.neighbours[0].differences[0].there.startswith("2026-")


def test_split_reduction_is_the_variance_a_tree_explains():
    task, model, columns = zoo.made("decision tree of a number")
    subject = zoo.subject_of(model, columns, task)
    result = own.own_parts(subject, own.OwnSettings(), 1, Work())
    assert result.kind == "split reduction"
    # a tree's leaves are the means of the rows it was grown on: what its splits take away is its own variance
    assert sum(part.value for part in result.parts) == pytest.approx(subject.predictions.outputs.var(), rel=1e-6)


def test_rows_held_by_leaves_are_counted_alike_however_they_are_cut(monkeypatch):
    task, model, columns = zoo.made("decision tree of a number")
    subject = zoo.subject_of(model, columns, task)
    structure = subject.predictions.structure[0]
    encoded, weights = structure.encode(subject.frame), np.random.default_rng(3).random(subject.n)
    held = structure.trees.held(encoded, weights)
    assert held.sum() == pytest.approx(weights.sum() * len(structure.trees.roots))
    # one tree: a row's output is its leaf's value
    outputs = structure.trees.base[0] + structure.trees.leaves[:, 0]
    for value in np.unique(outputs):
        mine = np.isclose(subject.predictions.outputs.reshape(-1), value, rtol=1e-5)
        assert held[outputs == value].sum() == pytest.approx(weights[mine].sum())
    whole = own.own_parts(subject, own.OwnSettings(), 1, Work())
    monkeypatch.setattr(own, "PIECE", 7)
    cut = own.own_parts(subject, own.OwnSettings(), 1, Work())
    assert [one.value for one in cut.parts] == pytest.approx([one.value for one in whole.parts])


def test_standardised_coefficients_are_the_spread_of_a_columns_term():
    task, model, columns = zoo.made("linear regression")
    subject = zoo.subject_of(model, columns, task)
    result = own.own_parts(subject, own.OwnSettings(), 1, Work())
    contributions = explain(subject, np.arange(subject.n), 1, Work())
    spread = dict(zip(contributions.features, contributions.values.std(axis=0), strict=True))
    assert {part.feature: part.value for part in result.parts} == pytest.approx(spread, rel=1e-5)
    signs = {part.feature: part.sign for part in result.parts}
    assert (signs["weight"], signs["scans"], signs["grade"]) == ("+", "−", "mixed")


def test_own_parts_of_a_black_box_are_refused_with_the_reason():
    task, model, columns = zoo.made("neural network")
    with pytest.raises(Refused, match="mixes “weight” and “value”"):
        own.own_parts(zoo.subject_of(model, columns, task), own.OwnSettings(), 1, Work())


def test_agreement_by_hand():
    found = agreement.agreement("a", np.array([4.0, 3, 2, 1]), "b", np.array([3.0, 4, 2, 1]), k=2)
    assert (found.tau, found.overlap) == (pytest.approx(4 / 6), 1.0)
    assert agreement.agreement("a", np.ones(3), "b", np.arange(3.0)).tau is None
    table = agreement.rank_table(["p", "q", "r"], [np.array([1.0, 3, 3]), np.array([3.0, 2, 1])])
    assert [(one.feature, one.ranks) for one in table] == [("q", (1, 2)), ("r", (1, 3)), ("p", (3, 1))]
    assert agreement.effective_features(np.full(4, 0.25)) == pytest.approx(4)
    with pytest.raises(Refused, match="2 and 3 features"):
        agreement.agreement("a", np.ones(2), "b", np.ones(3))


def test_linked_columns_are_found_whatever_their_kinds():
    rng = np.random.default_rng(1)
    x = rng.normal(size=2_000)
    level = np.where(x > 0, "high", "low").astype(object)
    rows = Frame(
        {
            "x": x,
            "cubed": x**3,
            "level": level,
            "same": np.where(level == "high", "u", "d").astype(object),
            "noise": rng.normal(size=2_000),
        }
    )
    strength = links.association(rows)
    place = {name: i for i, name in enumerate(rows.names)}
    assert strength[place["x"], place["cubed"]] == pytest.approx(1)
    assert strength[place["level"], place["same"]] == pytest.approx(1, abs=0.01)
    assert strength[place["x"], place["noise"]] < 0.1
    assert strength[place["level"], place["x"]] == pytest.approx(np.sqrt(0.75), abs=0.02)  # correlation ratio on ranks
    assert set(map(frozenset, links.linked(rows, 0.8))) == {frozenset({"x", "cubed", "level", "same"})}
    assert links.linked(rows.take(slice(0, 50)), 1.0) in ([("x", "cubed")], [("x", "cubed"), ("level", "same")])
