"""Every kind of model, made by its own library: what is read of it, that it is right, and what follows from it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from tests.core import zoo
from tests.core.systems import said

from zerotilt.core import output
from zerotilt.core.contributions.enumeration import enumerate_coalitions
from zerotilt.core.contributions.explain import explain
from zerotilt.core.contributions.game import background
from zerotilt.core.meaning import Task
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.modelfile import inspect
from zerotilt.core.refusal import Refused
from zerotilt.core.response.curves import all_curves, grid_of
from zerotilt.core.work import Work

SUMS = {**zoo.TREES, **zoo.LINEAR}


def subject_on_its_own_scale(name: str):
    task, model, columns = zoo.made(name)
    subject = zoo.subject_of(model, columns, task)
    structure, why = subject.predictions.structure
    assert structure is not None, why
    if structure.link == "log-odds":
        subject = zoo.subject_of(model, columns, task, "log-odds")
    return subject


@pytest.mark.parametrize("name", SUMS)
def test_the_sum_that_is_read_is_the_model(name):
    task, model, columns = zoo.made(name)
    subject = zoo.subject_of(model, columns, task)
    structure, why = subject.predictions.structure
    assert structure is not None, why
    assert inspect(model).gives == ("number" if task is zoo.REGRESSION else "chances")
    rng = np.random.default_rng(1)
    mixed = Frame({column: subject.frame[column][rng.integers(0, subject.n, 2_000)] for column in subject.frame.names})
    truth = subject.model.outputs(mixed)
    off = np.abs(output.unlinked(structure.sums(mixed), structure.link) - truth).max()
    assert off <= 3e-6 * np.ptp(truth)
    assert (structure.trees is not None) == (name in zoo.TREES)


@pytest.mark.parametrize("name", SUMS)
def test_exact_contributions_equal_enumeration(name):
    subject = subject_on_its_own_scale(name)
    others = background(subject.frame.take(slice(100, 150)))
    cases = subject.frame.take(slice(0, 10))
    found = explain(subject, cases, 1, Work(), reference=others)
    assert found.method == ("linear" if name in zoo.LINEAR else "trees")
    exact = enumerate_coalitions(subject.asked, cases, others)
    assert np.abs(found.values - exact).max() <= 1e-6 * np.ptp(subject.own_output)
    assert found.gap <= 1e-9 * max(np.ptp(subject.own_output), 1)


@pytest.mark.parametrize("name", SUMS)
def test_curves_of_all_features_equal_rescoring(name):
    task, model, columns = zoo.made(name)
    subject = zoo.subject_of(model, columns, task)
    rows = subject.frame.take(slice(0, 40))
    grids = {feature: grid_of(subject, feature, 70).values for feature in subject.model.inputs}
    found = all_curves(subject, rows, grids)
    reach = max(np.ptp(subject.own_output), 1e-9)
    for feature, points in grids.items():
        for g in range(0, len(points), 3):
            asked = subject.output(rows.replace(feature, np.full(rows.rows, points[g], dtype=points.dtype)))
            assert np.abs(found[feature][:, g] - asked).max() <= 1e-6 * reach + 2e-7 * np.abs(asked).max()


@pytest.mark.parametrize("name", zoo.LINEAR)
def test_walks_through_linear_terms_equal_mixed_rows(name):
    task, model, columns = zoo.made(name)
    structure = zoo.subject_of(model, columns, task).predictions.structure[0]
    subject = zoo.subject_of(model, columns, task)
    encoded, p, rng = structure.encode(subject.frame), len(subject.model.inputs), np.random.default_rng(3)
    case, other = rng.integers(0, subject.n, (2, 40))
    orders = rng.permuted(np.tile(np.arange(p), (40, 1)), axis=1)
    found = structure.walked_sums(encoded, encoded, case, other, orders)
    for m in range(40):
        for steps in range(p + 1):
            known = np.isin(np.arange(p), orders[m, :steps])[None]
            mixed = structure.mixed_sums(encoded, encoded, case[m : m + 1], other[m : m + 1], known)[0]
            assert found[m, steps] == pytest.approx(mixed, rel=1e-12, abs=1e-12)


@pytest.mark.parametrize("name", zoo.OTHERS)
def test_other_models_run_as_a_black_box_and_are_explained(name):
    task, model, columns = zoo.made(name)
    subject = zoo.subject_of(model, columns, task)
    structure, why = subject.predictions.structure
    assert structure is None and why
    assert inspect(model).gives == ("number" if task is zoo.REGRESSION else "chances")
    found = explain(subject, np.arange(3), 1, Work())
    assert found.method == "enumeration"
    assert found.gap <= 1e-6 * np.ptp(subject.own_output)
    sampled = explain(subject, np.arange(3), 1, Work(), "sampled", most_pairs=256)
    assert (
        np.abs(sampled.values - explain(subject, np.arange(3), 1, Work(), evaluations=10**8).values).max()
        <= 5 * sampled.errors.max() + 1e-9
    )
    assert why in sampled.why


def test_a_network_from_another_library_is_explained():
    model = Path(__file__).with_name("networks").joinpath("claims_network.onnx").read_bytes()
    numbers = zoo.data()[0]
    columns = {name: numbers[:, j].astype(float) for j, name in enumerate(zoo.NUMBERS)}
    with pytest.raises(Refused, match="does not say which of its outputs"):
        zoo.subject_of(model, columns, Task.binary)
    subject = zoo.subject_of(model, columns, Task.binary, **said(model, "1"))
    assert subject.predictions.structure[0] is None
    found = explain(subject, np.arange(5), 1, Work())
    assert found.gap < 1e-6
    assert np.abs(found.values).max() > 0.01


@pytest.mark.parametrize(
    "name", ["random forest, three classes", "gradient boosting, three classes", "logistic regression, three classes"]
)
def test_contributions_over_all_classes_add_to_nothing(name):
    """Probabilities add up to one and centred log-odds to zero, so contributions cancel over the classes."""
    task, model, columns = zoo.made(name)
    scale = "probability" if "forest" in name else "log-odds"
    total = 0.0
    for one in ("0", "1", "2"):
        subject = zoo.subject_of(model, columns, task, scale)
        subject = type(subject)(
            subject.spec, subject.table, subject.predictor, subject.context.model_copy(update={"read_class": one})
        )
        total = total + explain(subject, np.arange(20), 1, Work()).values
    assert np.abs(total).max() < 1e-6


def test_log_odds_of_two_classes_are_the_ordinary_ones():
    p = np.array([[0.2, 0.8], [0.5, 0.5]])
    assert output.log_odds(p)[:, 1] == pytest.approx(np.log(p[:, 1] / p[:, 0]))
    assert output.unlinked(output.log_odds(p), "log-odds") == pytest.approx(p)
    three = np.array([[0.2, 0.5, 0.3]])
    assert output.unlinked(output.log_odds(three), "log-odds") == pytest.approx(three)


@pytest.mark.parametrize(("method", "message"), [("linear", "not a linear form"), ("trees", "not a sum of trees")])
def test_a_method_that_does_not_fit_the_model_is_refused_with_the_reason(method, message):
    task, model, columns = zoo.made("gradient boosting")
    with pytest.raises(Refused, match=message):
        explain(zoo.subject_of(model, columns, task, "probability"), np.arange(2), 1, Work(), method)


def test_boosted_trees_read_in_probability_say_why_they_are_sampled():
    task, model, columns = zoo.made("gradient boosting")
    found = explain(zoo.subject_of(model, columns, task), np.arange(2), 1, Work(), evaluations=0)
    assert found.method == "sampled"
    assert "its trees add up in log-odds, not in probability" in found.why


def test_a_level_the_table_does_not_hold_does_not_break_the_sum():
    task, model, columns = zoo.made("random forest")
    subject = zoo.subject_of(model, columns, task)
    case = subject.frame.take(np.array([3])).replace("grade", np.array(["never seen"], dtype=object))
    found = explain(subject, case, 1, Work())
    assert found.gap < 1e-6
    assert found.output[0] == pytest.approx(subject.output(case)[0], abs=1e-6)


def test_row_weights_weigh_the_background():
    task, model, columns = zoo.made("random forest")
    subject = zoo.subject_of(model, columns, task)
    weights = np.random.default_rng(0).integers(1, 4, 40).astype(float)
    others = subject.frame.take(slice(50, 90))
    cases = subject.frame.take(slice(0, 5))
    weighed = explain(subject, cases, 1, Work(), reference=background(others, weights))
    repeated = explain(
        subject, cases, 1, Work(), reference=background(others.take(np.repeat(np.arange(40), weights.astype(int))))
    )
    assert weighed.values == pytest.approx(repeated.values, abs=1e-12)
    by_enumeration = explain(subject, cases, 1, Work(), "enumeration", reference=background(others, weights))
    assert by_enumeration.values == pytest.approx(weighed.values, abs=1e-6)


@pytest.mark.parametrize("method", ["sampled", "least squares"])
@pytest.mark.parametrize("name", ["gradient boosting", "neural network", "random forest, three classes"])
def test_sampled_values_lie_within_their_errors_of_exact_ones(name, method):
    task, model, columns = zoo.made(name)
    subject = zoo.subject_of(model, columns, task)
    others = background(subject.frame.take(slice(0, 60)))
    cases = subject.frame.take(slice(60, 110))
    exact = enumerate_coalitions(subject.asked, cases, others)
    found = explain(subject, cases, 5, Work(), method, reference=others, most_pairs=128, tolerance=0.0)
    off = np.abs(found.values - exact) / np.maximum(found.errors, 1e-9)
    assert (off <= 4).mean() >= 0.99
    assert found.gap < 1e-6


def test_the_structure_survives_being_sent_elsewhere():
    import pickle

    task, model, columns = zoo.made("random forest")
    subject = zoo.subject_of(model, columns, task)
    structure, _ = subject.predictions.structure
    copy = pickle.loads(pickle.dumps(subject.model))  # what an executor does with our own objects
    assert copy.known_structure.sums(subject.frame) == pytest.approx(structure.sums(subject.frame))
    assert copy.outputs(subject.frame) == pytest.approx(subject.predictions.outputs)
