"""Which way a model is explained: what fits the memory, what pays, what is said about it."""

from __future__ import annotations

import numpy as np
import onnx
import pytest
from tests.core import random_trees, zoo
from tests.core.systems import plain_spec

from zerotilt.core.contributions import exact
from zerotilt.core.contributions.explain import explain
from zerotilt.core.contributions.game import background
from zerotilt.core.contributions.sums_met import cheap, exact_explainer
from zerotilt.core.meaning import Task
from zerotilt.core.predictors import dissection, graph_cut
from zerotilt.core.table import from_arrays
from zerotilt.core.trees import graph, table_plan
from zerotilt.core.work import Work


def forest(name: str = "random forest"):
    task, model, columns = zoo.made(name)
    return zoo.subject_of(model, columns, task)


def test_few_rows_are_walked_down_and_many_are_looked_up_with_the_same_values(monkeypatch):
    monkeypatch.setattr(table_plan, "WORTHLESS_SECONDS", 0.0)
    subject = forest()
    structure = subject.predictions.structure[0]
    few, many = exact.outlook(structure, 1, subject.n), exact.outlook(structure, np.inf, subject.n)
    assert len(few.deep) > len(many.deep) == 0
    assert few.seconds < many.seconds
    others = background(subject.frame)
    walked = exact.prepare(structure, 0, others, by_table=np.zeros(len(structure.trees.roots), bool))
    looked_up = exact.prepare(structure, 0, others, by_table=np.ones(len(structure.trees.roots), bool))
    mixed = exact.prepare(structure, 0, others, by_table=np.arange(len(structure.trees.roots)) % 2 == 0)
    cases = subject.frame.take(slice(0, 9))
    for other in (looked_up, mixed):
        assert other.explain(cases)[0] == pytest.approx(walked.explain(cases)[0], abs=1e-12)
        assert other.baseline == pytest.approx(walked.baseline, abs=1e-12)


def test_tables_never_take_more_memory_than_they_may(monkeypatch):
    subject = forest()
    structure = subject.predictions.structure[0]
    monkeypatch.setattr(table_plan, "MOST_ENTRIES", 40_000)
    chosen, _ = table_plan.by_table(structure.trees, structure.owner, np.inf, subject.n)
    assert 0 < chosen.sum() < len(chosen)
    assert table_plan.plan(structure.trees, structure.owner, np.flatnonzero(chosen), 6).entries <= 2 * 40_000


def test_the_estimate_of_a_tables_size_is_near_what_is_laid_out():
    for name in ("random forest", "gradient boosting", "extra trees"):
        structure = forest(name).predictions.structure[0]
        _, entries, _ = table_plan._weigh(
            structure.trees.roots, structure.trees.column, structure.trees.yes, structure.trees.no, structure.owner
        )
        laid_out = table_plan.plan(structure.trees, structure.owner, np.arange(len(entries)), 6).entries
        assert laid_out / 4 <= entries.sum() <= laid_out * 8


def test_where_walking_down_would_take_long_a_sample_is_taken_and_said(monkeypatch):
    subject = forest()
    monkeypatch.setattr("zerotilt.core.trees.table_plan.MOST_PLAYERS", 2)
    monkeypatch.setattr("zerotilt.core.contributions.sums_met.DEEP_SECONDS", 0.0)
    monkeypatch.setattr("zerotilt.core.contributions.sums_met.DEEP_BACKGROUND", 100)
    found = explain(subject, np.arange(5), 1, Work())
    assert found.background == 100
    assert f"against a seeded sample of 100 of the {subject.n} rows, since" in found.why
    assert found.gap < 1e-9
    given = explain(subject, np.arange(5), 1, Work(), reference=background(subject.frame))
    assert given.background == subject.n and "sample" not in given.why
    assert not cheap(subject)


def test_a_trees_constant_counts_to_the_baseline():
    stump = onnx.helper.make_node("TreeEnsembleRegressor", ["x"], ["out"], domain="ai.onnx.ml", n_targets=1, nodes_treeids=[0, 1, 1, 1],
        nodes_nodeids=[0, 0, 1, 2], nodes_featureids=[0] * 4, nodes_values=[0.0, 0.5, 0.0, 0.0],
        nodes_modes=["LEAF", "BRANCH_LEQ", "LEAF", "LEAF"], nodes_truenodeids=[0, 1, 0, 0], nodes_falsenodeids=[0, 2, 0, 0],
        target_treeids=[0, 1, 1], target_nodeids=[0, 1, 2], target_ids=[0, 0, 0], target_weights=[7.0, 1.0, 3.0])  # fmt: skip
    values = np.column_stack([np.linspace(0, 1, 20), np.zeros(20)])
    table = from_arrays({"a": values[:, 0], "b": values[:, 1], "y": np.arange(20) / 2})
    subject = plain_spec(table, random_trees.model_of([stump], 2, 1), Task.regression)
    explainer, _ = exact_explainer(subject, 1, Work())
    assert explainer.baseline == pytest.approx(subject.predictions.outputs.mean())
    assert explain(subject, np.arange(20), 1, Work()).gap < 1e-12


def test_columns_that_go_in_as_they_are_own_themselves():
    subject = forest("XGBoost")
    assert subject.predictions.structure[0].owner.tolist() == [0, 1, 2, 3]


def test_trees_that_ask_about_a_column_that_is_not_there_are_not_read():
    rng = np.random.default_rng(0)
    model = onnx.load_from_string(random_trees.regressor(rng, 6, 3, 3))
    assert graph.read(model.graph.node[0]).trees.column.max() > 2
    cut = graph_cut.Cut([], ["x"], None, None, [], None, [], [], {}, [3])
    cut.pieces = [graph_cut.Piece(model.graph.node[0], graph.read(model.graph.node[0]), "x")]
    with pytest.raises(graph.Unread, match="a column that is not there"):
        dissection._columns(cut)
