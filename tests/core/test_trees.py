"""Trees read from the graph: where rows go, exact contributions, whole curves; on random ensembles."""

from __future__ import annotations

import numpy as np
import onnx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core import random_trees
from tests.core.systems import plain_spec

from zerotilt.core.contributions import exact
from zerotilt.core.contributions.enumeration import enumerate_coalitions
from zerotilt.core.contributions.game import background
from zerotilt.core.meaning import Task
from zerotilt.core.predictors import Asked
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays
from zerotilt.core.trees import curves, graph, pairs, table_plan, tables
from zerotilt.core.trees.graph import Unread


def subject_of(model: bytes, values: np.ndarray, task: Task = Task.regression, scale: str = "probability") -> Subject:
    columns = {f"x{j}": values[:, j] for j in range(values.shape[1])}
    outcome = np.arange(len(values)) % 2 if task is Task.binary else np.arange(len(values)) / 2
    if task is Task.several:
        outcome = np.arange(len(values)) % 3
    table = from_arrays(columns | {"y": outcome})
    return plain_spec(table, model, task, scale)


def explained(subject: Subject, cases: int, reference: int):
    """Exact contributions of the first rows against the others, and their enumeration."""
    structure, why = subject.predictions.structure
    assert structure is not None, why
    others = background(subject.frame.take(slice(cases, cases + reference)))
    rows = subject.frame.take(slice(0, cases))
    values, output = exact.explain_rows(exact.prepare(structure, subject.column, others), rows)
    asked = Asked(_Whole(subject), subject.scale, subject.column)
    return values, output, enumerate_coalitions(asked, rows, others), subject


class _Whole:
    """The model run as a whole for every coalition, none of its structure used."""

    known_structure = None

    def __init__(self, subject: Subject):
        self._model = subject.model

    def on_scale(self, frame, scale, column):
        from zerotilt.core import output

        values = self._model.outputs(frame)
        return output.log_odds(values)[:, column] if scale == "log-odds" else values[:, column]


@pytest.mark.parametrize("seed", range(120))
def test_contributions_of_random_trees_equal_enumeration(seed):
    rng = np.random.default_rng(seed)
    columns = int(rng.integers(2, 7))
    how = {
        "aggregate": str(rng.choice(["SUM", "AVERAGE"])),
        "base": [float(rng.normal())] if rng.random() < 0.5 else None,
    }
    model = random_trees.regressor(rng, columns, int(rng.integers(1, 7)), int(rng.integers(1, 6)), **how)
    values, output, reference, subject = explained(subject_of(model, random_trees.rows(rng, 60, columns)), 8, 40)
    reach = max(np.ptp(subject.predictions.outputs), 1e-6)
    assert np.abs(values[:, :columns] - reference).max() <= 1e-6 * reach
    assert np.abs(values[:, columns]).max() == 0
    assert np.abs(output - subject.predictions.outputs[:8, 0]).max() <= 2e-6 * max(reach, np.abs(output).max())


@pytest.mark.parametrize("seed", range(60))
def test_the_newer_operator_with_sets_of_members_equals_enumeration(seed):
    rng = np.random.default_rng(1_000 + seed)
    columns = int(rng.integers(2, 6))
    model = random_trees.newer(rng, columns, int(rng.integers(1, 5)), int(rng.integers(1, 5)))
    values, _, reference, subject = explained(subject_of(model, random_trees.rows(rng, 60, columns)), 8, 40)
    assert np.abs(values[:, :columns] - reference).max() <= 1e-6 * max(np.ptp(subject.predictions.outputs), 1e-6)


@pytest.mark.parametrize("transform", ["NONE", "LOGISTIC", "SOFTMAX"])
@pytest.mark.parametrize("seed", range(12))
def test_classifiers_of_every_transform_equal_enumeration(transform, seed):
    rng = np.random.default_rng(2_000 + seed)
    classes = 3 if transform == "SOFTMAX" else 2
    model = random_trees.classifier(rng, 4, 4, 3, transform, classes, alone=transform == "LOGISTIC" and seed % 2 == 0)
    if transform == "NONE":  # probabilities of their own
        model = as_shares(model)
    task = Task.several if classes == 3 else Task.binary
    scale = "probability" if transform == "NONE" else "log-odds"
    subject = subject_of(model, random_trees.rows(rng, 60, 4, missing=0), task, scale)
    values, _, reference, _ = explained(subject, 6, 40)
    assert np.abs(values[:, :4] - reference).max() <= 5e-6 * max(np.ptp(subject.own_output), 0.05)


def as_shares(model: bytes) -> bytes:
    """The same trees with leaves that make up probabilities."""
    found = onnx.load_from_string(model)
    held = {attribute.name: attribute for attribute in found.graph.node[0].attribute}
    trees = len(set(held["class_treeids"].ints))
    weights = np.abs(np.array(held["class_weights"].floats)).reshape(-1, 2)
    weights = weights / weights.sum(axis=1, keepdims=True) / trees
    del held["class_weights"].floats[:]
    held["class_weights"].floats.extend(weights.ravel().tolist())
    return found.SerializeToString()


@pytest.mark.parametrize("seed", range(25))
def test_joint_descent_equals_tables(seed):
    rng = np.random.default_rng(3_000 + seed)
    columns = int(rng.integers(2, 8))
    trees = graph.read(onnx.load_from_string(random_trees.regressor(rng, columns, 5, 7)).graph.node[0]).trees
    owner = np.sort(rng.integers(0, columns, columns)).astype(np.int32)  # some players own several columns
    players = int(owner.max()) + 1
    values = random_trees.rows(rng, 120, columns).astype(np.float32)
    weights = rng.random(100)
    weights /= weights.sum()
    everything = np.arange(len(trees.roots))
    plan = table_plan.plan(trees, owner, everything, players)
    counts = tables.counted(trees, plan, values[20:], weights)
    by_table = tables.filled(trees, plan, counts, 0, players).look_up(values[:20])
    by_descent = pairs.explain(trees, owner, everything, values[:20], values[20:], weights, 0, players)
    assert by_table == pytest.approx(by_descent, abs=1e-12)


def test_counting_a_background_in_parts_changes_nothing():
    rng = np.random.default_rng(7)
    trees = graph.read(onnx.load_from_string(random_trees.regressor(rng, 5, 6, 5)).graph.node[0]).trees
    owner = np.arange(5, dtype=np.int32)
    plan = table_plan.plan(trees, owner, np.arange(6), 5)
    values = random_trees.rows(rng, 300, 5).astype(np.float32)
    weights = np.full(300, 1 / 300)
    whole = tables.counted(trees, plan, values, weights)
    parts = sum(tables.counted(trees, plan, values[a : a + 70], weights[a : a + 70]) for a in range(0, 300, 70))
    assert parts == pytest.approx(whole, abs=1e-12)


@given(st.integers(0, 10_000), st.integers(2, 4))
@settings(max_examples=30, deadline=None)
def test_a_copy_of_the_background_changes_nothing(seed, copies):
    rng = np.random.default_rng(seed)
    subject = subject_of(random_trees.regressor(rng, 4, 4, 4), random_trees.rows(rng, 50, 4))
    structure, _ = subject.predictions.structure
    once = exact.prepare(structure, 0, background(subject.frame))
    again = exact.prepare(structure, 0, background(subject.frame.take(np.tile(np.arange(50), copies))))
    weighed = exact.prepare(structure, 0, background(subject.frame, np.full(50, float(copies))))
    expected = once.explain(subject.frame)[0]
    assert again.explain(subject.frame)[0] == pytest.approx(expected, abs=1e-12)
    assert weighed.explain(subject.frame)[0] == pytest.approx(expected, abs=1e-12)


@given(st.integers(0, 10_000))
@settings(max_examples=30, deadline=None)
def test_efficiency_and_dummy_of_exact_contributions(seed):
    rng = np.random.default_rng(seed)
    model = random_trees.regressor(rng, 3, 3, 3)
    values = np.column_stack([random_trees.rows(rng, 60, 3), rng.normal(size=60)])
    wide = random_trees.model_of(
        list(onnx.load_from_string(model).graph.node), 4, 1
    )  # the fourth column is never asked
    subject = subject_of(wide, values)
    explainer = exact.prepare(subject.predictions.structure[0], 0, background(subject.frame))
    found, output = explainer.explain(subject.frame)
    assert found.sum(axis=1) == pytest.approx(output - explainer.baseline, abs=1e-10)
    assert (found[:, 3] == 0).all()


@given(st.integers(0, 10_000))
@settings(max_examples=20, deadline=None)
def test_contributions_of_joined_ensembles_add_up(seed):
    rng = np.random.default_rng(seed)
    owner, values = np.arange(4, dtype=np.int32), random_trees.rows(rng, 80, 4).astype(np.float32)
    parts = [
        graph.read(onnx.load_from_string(random_trees.regressor(rng, 4, 3, 4)).graph.node[0]).trees for _ in range(2)
    ]
    weights = np.full(60, 1 / 60)

    def of(trees):
        plan = table_plan.plan(trees, owner, np.arange(len(trees.roots)), 4)
        return tables.filled(trees, plan, tables.counted(trees, plan, values[20:], weights), 0, 4).look_up(values[:20])

    from zerotilt.core.trees.ensemble import joined

    assert of(joined(parts)) == pytest.approx(of(parts[0]) + of(parts[1]), abs=1e-12)


@pytest.mark.parametrize("seed", range(25))
def test_curves_of_random_trees_equal_moving_each_row(seed):
    rng = np.random.default_rng(4_000 + seed)
    columns = int(rng.integers(1, 6))
    trees = graph.read(onnx.load_from_string(random_trees.regressor(rng, columns, 5, 6)).graph.node[0]).trees
    values = random_trees.rows(rng, 30, columns).astype(np.float32)
    grid = np.append(np.arange(-6, 7) / 4, np.nan).astype(np.float32)
    points = []
    for j in range(columns):
        one = np.tile(values[0], (len(grid), 1))
        one[:, j] = grid
        points.append(one)
    made = curves.axes(trees, np.arange(columns, dtype=np.int32), points)
    found = curves.sweep(trees, values, made)
    for j in range(columns):
        for g, value in enumerate(grid):
            moved = values.copy()
            moved[:, j] = value
            assert found[:, made.starts[j] + g] == pytest.approx(trees.sums(moved), abs=1e-12)


def test_a_row_on_a_split_goes_where_single_precision_sends_it():
    node = onnx.helper.make_node("TreeEnsembleRegressor", ["x"], ["out"], domain="ai.onnx.ml", n_targets=1, nodes_treeids=[0, 0, 0],
        nodes_nodeids=[0, 1, 2], nodes_featureids=[0, 0, 0], nodes_values=[0.1, 0.0, 0.0], nodes_modes=["BRANCH_LEQ", "LEAF", "LEAF"],
        nodes_truenodeids=[1, 0, 0], nodes_falsenodeids=[2, 0, 0], target_treeids=[0, 0], target_nodeids=[1, 2], target_ids=[0, 0],
        target_weights=[1.0, 2.0])  # fmt: skip
    # in double precision 0.1 lies under the single-precision threshold, a little more lies above it only there
    values = np.array([[0.1, 0], [float(np.float32(0.1)) + 1e-12, 0], [0.11, 0], [0.0, 0]])
    subject = subject_of(random_trees.model_of([node], 2, 1), values)
    assert subject.predictions.outputs[:, 0].tolist() == [1.0, 1.0, 2.0, 1.0]
    structure, why = subject.predictions.structure
    assert structure.sums(subject.frame)[:, 0].tolist() == [1.0, 1.0, 2.0, 1.0], why


def test_trees_joined_otherwise_than_by_adding_are_not_read():
    rng = np.random.default_rng(0)
    with pytest.raises(Unread, match="joined by MAX"):
        graph.read(onnx.load_from_string(random_trees.regressor(rng, 3, 3, 2, aggregate="MAX")).graph.node[0])


def test_a_column_given_to_no_raw_column_is_accounted_for():
    rng = np.random.default_rng(9)
    trees = graph.read(onnx.load_from_string(random_trees.regressor(rng, 3, 4, 3)).graph.node[0]).trees
    values = random_trees.rows(rng, 40, 3).astype(np.float32)
    owner = np.array([0, -1, 1], np.int32)
    plan = table_plan.plan(trees, owner, np.arange(4), 2)
    weights = np.full(30, 1 / 30)
    found = tables.filled(trees, plan, tables.counted(trees, plan, values[10:], weights), 0, 2).look_up(values[:10])
    sums = trees.sums(values)[:, 0]
    assert found.shape == (10, 3)
    assert found.sum(axis=1) == pytest.approx(sums[:10] - sums[10:].mean(), abs=1e-12)
