"""Measures of a whole set of predictions: against the reference implementations, and their coverage."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sklearn.metrics import average_precision_score, balanced_accuracy_score, f1_score, median_absolute_error, r2_score
from tests.core.systems import told

from zerotilt.core.groups.whole import OF_SETS, Set
from zerotilt.core.meaning import Task
from zerotilt.core.stats.calibration import calibration_error


def test_measures_equal_the_reference_implementations():
    rng = np.random.default_rng(4)
    y, s = rng.random(800) < 0.4, rng.random(800).round(2)
    found = told(Task.binary, y, s)
    assert found["f1"].value == pytest.approx(f1_score(y, s >= 0.5))
    assert found["balanced_accuracy"].value == pytest.approx(balanced_accuracy_score(y, s >= 0.5))
    assert found["average_precision"].value == pytest.approx(average_precision_score(y, s))
    assert all(one.low <= one.value <= one.high for key, one in found.items() if key != "calibration_error")
    value, truth = rng.normal(size=600), rng.normal(size=600)
    numbers_ = {key: one.value for key, one in told(Task.regression, truth, value).items()}
    assert numbers_["r_squared"] == pytest.approx(r2_score(truth, value))
    assert numbers_["median_absolute_error"] == pytest.approx(median_absolute_error(truth, value))
    assert numbers_["rmse"] == pytest.approx(np.sqrt(((value - truth) ** 2).mean()))


def test_weights_count_as_so_many_rows():
    rng = np.random.default_rng(6)
    y, s, w = rng.random(200) < 0.5, rng.random(200), rng.integers(1, 4, 200)
    again = np.repeat(np.arange(200), w)
    weighed, repeated = told(Task.binary, y, s, w.astype(float)), told(Task.binary, y[again], s[again])
    assert all(
        weighed[key].value == pytest.approx(repeated[key].value) for key in weighed if key != "calibration_error"
    )
    assert calibration_error(np.ones(10, bool), np.full(10, 0.7), np.ones(10)) == pytest.approx(0.3)


def test_intervals_of_measures_cover():
    """Of seeded samples from a known population, about 95% of the intervals of F1 hold its value."""
    rng = np.random.default_rng(11)
    s = rng.random(200_000)
    y = rng.random(200_000) < s
    truth = f1_score(y, s >= 0.5)
    held = 0
    for draw in range(120):
        rows = rng.integers(0, len(s), 400)
        found = OF_SETS["f1"](Set(y[rows], s[rows] >= 0.5, s[rows], np.ones(400), 2, 0.95, draw))[0]
        held += found.low <= truth <= found.high
    assert 0.88 <= held / 120 <= 1.0


@given(st.integers(0, 500))
@settings(max_examples=25, deadline=None)
def test_perfect_predictions_have_perfect_measures(seed):
    rng = np.random.default_rng(seed)
    y = rng.integers(0, 3, 50)
    found = {key: one.value for key, one in told(Task.several, y, np.eye(3)[y]).items()}
    assert found["accuracy"] == found["balanced_accuracy"] == 1
    assert all(found[f"f1 · {name}"] in (1.0, None) for name in "abc")
