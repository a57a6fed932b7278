"""Metrics against scikit-learn and their own identities; groups and their members."""

import numpy as np
import pytest
import sklearn.metrics as reference
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.systems import system

from zerotilt.core import membership
from zerotilt.core.groups import performance
from zerotilt.core.groups.measure import of_rows
from zerotilt.core.groups.metrics import METRICS
from zerotilt.core.groups.performance import PerformanceSettings
from zerotilt.core.groups.readout import read
from zerotilt.core.meaning import Context, Kind, Role, Task, Wording
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work


def scored(n=400, seed=0, part=None, **more):
    """``part``: of every row whether it is of the training or the test split."""
    rng = np.random.default_rng(seed)
    score = rng.random(n).round(2)
    columns = {"s": score, "y": (rng.random(n) < score).astype(int)}
    if part is None:
        return system(columns, roles={"s": Role.score}, **more)
    split = {"holdout_values": ("test",), "training_values": ("train",)}
    return system(columns | {"part": part}, roles={"s": Role.score, "part": Role.split}, **split, **more)


def values(subject, mask=None):
    mask = np.ones(subject.n, bool) if mask is None else mask
    return {name: found.value for name, found in of_rows(subject, read(subject), mask, 1).items()}


@pytest.mark.parametrize("seed", range(4))
def test_metrics_equal_another_implementation(seed):
    subject = scored(seed=seed)
    y, s, d = subject.rows.outcome, subject.predictions.scores, subject.decisions.predicted
    found = values(subject)
    expected = {
        "accuracy": reference.accuracy_score(y, d),
        "true_positive_rate": reference.recall_score(y, d),
        "positive_predictive_value": reference.precision_score(y, d),
        "negative_predictive_value": reference.precision_score(~y, ~d),
        "auc": reference.roc_auc_score(y, s),
        "brier_score": reference.brier_score_loss(y, s),
        "log_loss": reference.log_loss(y, np.clip(s, 1e-15, 1 - 1e-15)),
    }
    for name, value in expected.items():
        assert found[name] == pytest.approx(value), name


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.booleans(), st.booleans()), min_size=1, max_size=60))
def test_identities_of_the_rates(rows):
    if len({y for y, _ in rows}) < 2:
        return
    subject = system({"y": [int(y) for y, _ in rows], "d": [str(int(d)) for _, d in rows]}, roles={"d": Role.decision})
    found = values(subject)
    assert found["true_positive_rate"] + found["false_negative_rate"] == pytest.approx(1)
    assert found["true_negative_rate"] + found["false_positive_rate"] == pytest.approx(1)
    base = found["base_rate"]
    by_parts = base * found["true_positive_rate"] + (1 - base) * found["true_negative_rate"]
    assert found["accuracy"] == pytest.approx(by_parts)
    selected = base * found["true_positive_rate"] + (1 - base) * found["false_positive_rate"]
    assert found["selection_rate"] == pytest.approx(selected)


@pytest.mark.parametrize("threshold", [0.0, 0.3, 1.0])
def test_a_score_at_the_threshold_predicts_the_event(threshold):
    subject = system({"s": [0.0, 0.3, 1.0, 0.29], "y": [0, 1, 1, 0]}, roles={"s": Role.score}, threshold=threshold)
    assert subject.decisions.predicted.tolist() == [s >= threshold for s in (0.0, 0.3, 1.0, 0.29)]


def test_intervals_hold_their_values_and_every_metric_has_words():
    subject = scored()
    for name, found in of_rows(subject, read(subject), np.ones(subject.n, bool), 1).items():
        assert found.low <= found.value <= found.high, name
        assert METRICS[name].label and METRICS[name].meaning and METRICS[name].phrase


def test_a_group_without_rows_has_no_numbers_at_all():
    subject = scored()
    nothing = of_rows(subject, read(subject), np.zeros(subject.n, bool), 1)
    assert {found.value for found in nothing.values()} == {None}


def test_performance_sets_held_out_and_training_side_by_side():
    subject = scored(context=Context(rows="hold-out"))
    drawn = performance.perform(subject, PerformanceSettings(), 1, Work())
    assert [(one.name, one.rows) for one in drawn.sets] == [("held-out", 120)]  # nobody knows what was trained on
    assert drawn.sets[0].described.endswith("and where it was, its errors are larger than told")
    held = np.isin(np.arange(400), subject.rows.numbers)
    subject = scored(context=Context(rows="hold-out"), part=np.where(held, "test", "train"))
    result = performance.perform(subject, PerformanceSettings(), 1, Work())
    assert [(one.name, one.rows) for one in result.sets] == [("held-out", 120), ("training", 280)]
    assert result.sets[0].metrics == drawn.sets[0].metrics
    reading = performance.say(result, Wording(rows="loans"), PerformanceSettings())
    accuracy = result.sets[0].metrics["accuracy"]
    assert f"{accuracy.value * 100:.1f}% of 120 held-out loans" in reading.text
    assert "AUC" in reading.detail


def test_a_score_that_runs_the_wrong_way_is_said():
    rng = np.random.default_rng(1)
    y = rng.integers(0, 2, 200)
    subject = system({"s": np.clip(0.8 - 0.5 * y + rng.normal(0, 0.1, 200), 0, 1), "y": y}, roles={"s": Role.score})
    result = performance.perform(subject, PerformanceSettings(), 1, Work())
    assert "event and class are mixed up" in performance.say(result, Wording(), PerformanceSettings()).detail


def grouped(columns, grouping, **column_changes):
    subject = system(columns | {"y": np.arange(len(next(iter(columns.values())))) % 2})
    changed = tuple(
        column.model_copy(update=column_changes) if column.name == grouping[0] else column
        for column in subject.spec.columns
    )
    spec = subject.spec.model_copy(update={"columns": changed})
    found = membership.grouping(spec, subject.table, subject.rows.numbers, grouping)
    return list(found.labels), found.codes


def test_levels_go_by_size_or_by_their_declared_order():
    columns = {"g": np.array(["b", "a", "a", "c", "a", "b"], dtype=object)}
    assert grouped(columns, ("g",))[0] == ["a", "b", "c"]
    assert grouped(columns, ("g",), order=("c", "b", "a"), kind=Kind.ordered)[0] == ["c", "b", "a"]


def test_many_levels_are_joined_and_every_row_stays():
    labels, codes = grouped({"g": np.array([f"v{i % 50}" for i in range(500)], dtype=object)}, ("g",))
    assert len(labels) == 30 and labels[-1] == "(other)"
    assert np.bincount(codes).sum() == 500
    assert np.bincount(codes)[-1] == 210


def test_few_distinct_numbers_are_levels_and_own_borders_are_kept():
    assert grouped({"n": np.array([3.0, 1.0, 2.0, 1.0])}, ("n",))[0] == ["1", "2", "3"]
    labels, codes = grouped({"n": np.array([5.0, 10.0, 10.1, np.nan])}, ("n",), cuts=(10.0,))
    assert labels == ["up to 10", "over 10", "(missing)"]
    assert codes.tolist() == [0, 0, 1, 2]


def test_intersections_with_too_many_groups_are_refused():
    rng = np.random.default_rng(0)
    columns = {name: rng.choice([f"{name}{i}" for i in range(20)], 3_000) for name in "gh"}
    with pytest.raises(Refused, match=r"has .* groups; 120 can be read"):
        grouped(columns, ("g", "h"))


SAME = {
    Task.regression: {name: name for name in ("mae", "rmse", "mean_error")},
    Task.ordered: {
        "accuracy": "accuracy",
        "balanced_accuracy": "macro_true_positive_rate",
        **{name: name for c in "123" for name in (f"true_positive_rate · {c}", f"positive_predictive_value · {c}")},
    },
}


@pytest.mark.parametrize("weighted", [False, True])
@pytest.mark.parametrize("task", SAME)
@pytest.mark.parametrize("seed", range(4))
def test_a_measure_has_one_interval_in_intake_and_in_tilt(task, weighted, seed):
    rng = np.random.default_rng(seed)
    n = 90
    columns = {"g": np.full(n, "all", dtype=object)}
    if task is Task.regression:
        columns |= {"y": rng.gamma(2, 3, n), "s": rng.gamma(2, 3, n)}
        roles = {"s": Role.score}
    else:
        columns |= {"y": rng.choice(list("123"), n), "d": rng.choice(list("123"), n)}
        roles = {"d": Role.decision}
    if weighted:
        columns["w"], roles["w"] = rng.integers(0, 4, n).astype(float), Role.weight
    subject = system(columns, roles=roles | {"g": Role.group}, task=task, event="" if task is Task.regression else "3")
    intake, tilt = (
        METHODS[name].compute(subject, METHODS[name].settings(), 0, Work()) for name in ("performance", "tilt")
    )
    shown = intake.sets[0].metrics
    (group,) = tilt.groups
    for here, there in SAME[task].items():
        mine, theirs = shown[here], group.metrics[there]
        assert (mine.value, mine.low, mine.high) == pytest.approx((theirs.value, theirs.low, theirs.high))
