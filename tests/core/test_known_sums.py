"""Sampled contributions of a link of a sum: what is known of the sum steadies them, and the errors stay honest."""

from __future__ import annotations

import functools

import numpy as np
import pytest
from skl2onnx import convert_sklearn
from skl2onnx.common.data_types import FloatTensorType
from sklearn.ensemble import GradientBoostingClassifier
from tests.core import zoo

from zerotilt.core.contributions import sums_met
from zerotilt.core.contributions.controlled import Running
from zerotilt.core.contributions.enumeration import enumerate_coalitions
from zerotilt.core.contributions.explain import explain
from zerotilt.core.contributions.game import Background, background
from zerotilt.core.contributions.sampled import sample_permutations
from zerotilt.core.meaning import ColumnSpec, Context, Kind, Role, Spec
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays
from zerotilt.core.work import Work

LINKED = [
    "gradient boosting", "gradient boosting, three classes", "XGBoost", "XGBoost, three classes", "LightGBM",
    "histogram gradient boosting, categorical", "boosting by reweighting", "logistic regression",
    "logistic regression, three classes",
]  # fmt: skip


def linked(name: str, column: int = 0) -> Subject:
    task, model, columns = zoo.made(name)
    subject = zoo.subject_of(model, columns, task)
    if column:
        subject = Subject(
            subject.spec, subject.table, subject.model, Context(rows="all", read_class=subject.classes[column])
        )
    structure, _ = subject.predictions.structure
    assert structure is not None
    assert structure.link != "identity"
    return subject


def both(subject: Subject, cases, others: Background, pairs: int, seed: int, tolerance: float = 0.0):
    """With and without the sum's exact values."""
    known = sums_met.known_sums(subject, cases, others, Work())
    assert known is not None
    asked = (subject.asked, cases, others, tolerance, pairs, seed)
    return sample_permutations(*asked, known=known), sample_permutations(*asked)


@pytest.mark.parametrize("name", LINKED)
def test_values_lie_within_four_errors_in_99_of_100_and_add_up(name):
    off, gains = [], []
    for column in range(3 if "three" in name else 1):
        subject = linked(name, column)
        others = background(subject.frame)
        rng = np.random.default_rng(column)
        cases = subject.frame.take(rng.choice(subject.n, 12, replace=False))
        exact = enumerate_coalitions(subject.asked, cases, others)
        for seed in range(8):
            found, plain = both(subject, cases, others, 96, seed)
            assert found.values.sum(axis=1) == pytest.approx(found.output - found.baseline, abs=1e-9)
            off.append(np.abs(found.values - exact) / np.maximum(found.errors, 1e-9))
            gains.append((plain.errors.max(axis=1) / np.maximum(found.errors.max(axis=1), 1e-12)) ** 2)
    off = np.concatenate(off).ravel()
    assert (off > 4).mean() <= 0.01 + 2 * np.sqrt(0.01 * 0.99 / len(off))
    assert off.max() < 10
    assert np.median(np.concatenate(gains)) > 2  # the variance of the least certain feature


def of_boosted(columns: dict[str, np.ndarray], model: GradientBoostingClassifier) -> Subject:
    onnx = convert_sklearn(
        model, initial_types=[("x", FloatTensorType([None, len(columns)]))], options={id(model): {"zipmap": False}},
        target_opset={"": 18, "ai.onnx.ml": 3},
    )  # fmt: skip
    rows = len(next(iter(columns.values())))
    table = from_arrays(columns | {"y": (np.random.default_rng(0).random(rows) < 0.5).astype(int)})
    spec = Spec(
        columns=tuple(
            ColumnSpec(name=one, kind=Kind.numeric, role=Role.outcome if one == "y" else Role.feature)
            for one in table.names
        ),
        event="1",
    )
    subject = Subject(spec, table, OnnxPredictor(onnx.SerializeToString(), table, spec), Context(rows="all"))
    subject.predictions.find_structure()
    return subject


def rare(share: float, seed: int, rows: int = 1_500) -> tuple[Subject, np.ndarray]:
    """A boosted model in which a flag, a level and an extreme that hardly any row holds matter much."""
    rng = np.random.default_rng(seed)
    some = max(round(share * rows), 1)
    columns = {
        "a": rng.normal(size=rows).astype(np.float32).astype(float),
        "b": rng.normal(size=rows).astype(np.float32).astype(float),
        "flag": np.isin(np.arange(rows), rng.choice(rows, some, replace=False)).astype(float),
        "far": np.where(np.isin(np.arange(rows), rng.choice(rows, some, replace=False)), 1e8, rng.integers(0, 9, rows)),
    }
    x = np.column_stack(list(columns.values())).astype(np.float32)
    # taught on rows in which they are common
    taught = x[rng.integers(0, rows, 3_000)].copy()
    taught[:, 2] = rng.random(3_000) < 0.4
    taught[:, 3] = np.where(rng.random(3_000) < 0.4, 1e8, taught[:, 3])
    worth = taught[:, 0] * taught[:, 1] - 1 + 5 * taught[:, 2] - 4 * (taught[:, 3] > 1e7)
    model = GradientBoostingClassifier(n_estimators=30, random_state=1)
    model.fit(taught, (worth + rng.normal(size=3_000) > 0).astype(int))
    subject = of_boosted(columns, model)
    return subject, columns["flag"]


@functools.cache
def enumerated(share: float, seed: int):
    """A subject, four of its rows, one of them rare, and their contributions by enumeration."""
    subject, flag = rare(share, seed)
    chosen = np.concatenate([[int(flag.argmax())], np.random.default_rng(seed).choice(subject.n, 3)])
    cases = subject.frame.take(chosen)
    return subject, cases, enumerate_coalitions(subject.asked, cases, background(subject.frame))


@pytest.mark.parametrize("share", [0.0, 0.004, 0.03])
@pytest.mark.parametrize("pairs", [64, 256])
def test_what_hardly_any_row_holds_is_within_four_errors_too(share, pairs):
    off = []
    for seed in range(10):
        subject, cases, exact = enumerated(share, seed)
        found, _ = both(subject, cases, background(subject.frame), pairs, seed)
        off.append(np.abs(found.values - exact) / np.maximum(found.errors, 1e-9))
    off = np.concatenate(off).ravel()
    assert (off > 4).mean() <= 0.01 + 2 * np.sqrt(0.01 * 0.99 / len(off))
    assert off.max() < 12


def test_steps_that_nearly_cancel_between_the_two_directions_do_not_swell_the_error():
    """Many features that matter little and together: a step ahead and a step back are all but each other's negative in
    the sum, and not in the output.
    """
    rng = np.random.default_rng(5)
    columns = {f"n{i}": rng.normal(size=600).astype(np.float32).astype(float) for i in range(60)}
    x = np.column_stack(list(columns.values())).astype(np.float32)
    worth = x[:, 0] + x[:, 2] * x[:, 3] + np.abs(x[:, 4])
    model = GradientBoostingClassifier(n_estimators=100, max_depth=4, subsample=0.3, max_features=10, random_state=0)
    subject = of_boosted(columns, model.fit(x, (worth + rng.normal(size=600) > 1).astype(int)))
    others, cases = background(subject.frame), subject.frame.take(slice(0, 16))
    found, plain = both(subject, cases, others, 96, 1)
    longer = both(subject, cases, others, 512, 2)[0]
    off = np.abs(found.values - longer.values)
    assert (off <= 4 * np.hypot(found.errors, longer.errors) + 1e-9).mean() >= 0.99
    assert (found.errors.max(axis=1) < plain.errors.max(axis=1)).all()
    assert found.errors.max() < 4 * off.max()


def test_weights_and_ties_keep_it_right():
    subject = linked("gradient boosting")
    rng = np.random.default_rng(2)
    weights = rng.lognormal(sigma=1.5, size=subject.n) * (rng.random(subject.n) < 0.8)
    others = background(subject.frame, weights)
    cases = subject.frame.take(np.array([0, 0, 7, 7]))
    exact = enumerate_coalitions(subject.asked, cases, others)
    found, _ = both(subject, cases, others, 512, 3)
    assert (np.abs(found.values - exact) <= 5 * found.errors + 1e-9).all()


def test_a_feature_the_sum_does_not_move_gets_exactly_nothing():
    subject = linked("gradient boosting")
    structure = subject.predictions.structure[0]
    assert structure is not None
    assert structure.trees is not None
    looked = set(structure.owner[structure.trees.column])
    others, cases = background(subject.frame), subject.frame.take(slice(0, 5))
    found, _ = both(subject, cases, others, 64, 1)
    for j in range(len(cases.names)):
        if j not in looked:
            assert (found.values[:, j] == 0).all()


def test_the_entry_says_that_the_sum_steadies_them_and_settles_with_few_walks():
    subject = linked("gradient boosting")
    found = explain(subject, subject.rows.numbers[:60], 1, Work(), method="sampled")
    assert found.method == "sampled"
    assert "steadies" in found.why
    assert found.settled
    assert found.gap < 1e-9
    assert found.evaluations < 60 * 2 * 7 * 400


def test_missing_draws_are_noticed_by_what_is_known_of_the_sum():
    """A step that no draw has shown, of which the sum's exact mean tells: the error says so."""
    n, p = 1, 3
    rng = np.random.default_rng(0)
    known = np.zeros((n, p, 1))
    known[0, 2, 0] = 0.5  # no draw will move the third feature
    steps = rng.normal(size=(n, 128, p)) * [0.2, 0.2, 0.0]
    running = Running(n, p, np.array([0.1]), known)
    in_sums = steps[..., None] * 4
    running.add(np.zeros(1, np.intp), steps, steps.sum(axis=2), np.ones((n, 128)), in_sums, np.full(n, 0.25))
    values, errors = running.estimate()
    assert errors[0, 2] >= 0.1
    assert values.sum() == pytest.approx(0.1)
