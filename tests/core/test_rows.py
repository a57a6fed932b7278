"""Outcome, rows, recorded scores and decisions, cases."""

import numpy as np
import pytest
from tests.core.systems import matrix, system

from zerotilt.core import cases, rows
from zerotilt.core.cases_asked import CasesQuery
from zerotilt.core.groups.performance import PerformanceSettings
from zerotilt.core.levels import match_level
from zerotilt.core.meaning import Context, Role, RowSet, Task, Wording
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work


@pytest.mark.parametrize(
    ("outcome", "event", "message"),
    [
        (["a", "a"], "a", "one class only"),
        (["a", "b", "c"], "a", "3 classes"),
        (["a", "b"], "z", "“z” is not in the outcome column; it holds “a” and “b”"),
        ([None, None], "a", "missing in every row"),
    ],
)
def test_outcomes_that_cannot_be_used(outcome, event, message):
    subject = system({"y": np.array(outcome, dtype=object)}, event=event)
    with pytest.raises(Refused, match=message):
        _ = subject.rows.outcome


@pytest.mark.parametrize(
    ("values", "event"), [([True, False], "true"), ([1.0, 0.0], "1"), ([1, 0], "1.0"), (["Yes", "no"], "yes")]
)
def test_the_event_may_be_written_otherwise(values, event):
    assert match_level(event, sorted({str(v) if not isinstance(v, float) else str(int(v)) for v in values}))


def test_rows_without_an_outcome_are_left_out():
    subject = system({"y": np.array(["a", None, "b", "a"], dtype=object)}, event="a")
    assert subject.rows.numbers.tolist() == [0, 2, 3]


def test_a_seeded_hold_out_and_its_complement():
    columns = {"y": np.arange(1000) % 2}
    held = system(columns, context=Context(rows="hold-out")).rows.numbers
    training = system(columns, context=Context(rows="training")).rows.numbers
    assert len(held) == 300
    assert sorted([*held, *training]) == list(range(1000))
    assert held.tolist() == system(columns, context=Context(rows="hold-out")).rows.numbers.tolist()
    assert "no split column" in rows.describe(system(columns).spec, RowSet(split="hold-out"))


@pytest.mark.parametrize(
    ("scores", "message"),
    [
        ([0.1, None, 0.2], "missing in 1 row, first in row 2"),
        ([0.1, 1.2, 0.2], "outside 0 to 1 in 1 row, first in row 2 \\(1.2\\)"),
    ],
)
def test_scores_that_cannot_be_used(scores, message):
    subject = system({"y": [0, 1, 1], "s": scores}, roles={"s": Role.score})
    with pytest.raises(Refused, match=message):
        _ = subject.predictions.scores


@pytest.mark.parametrize(
    ("decisions", "message"), [(["1", None, "0"], "missing in 1 row"), (["1", "0", "2"], "expected “1” for the event")]
)
def test_decisions_that_cannot_be_used(decisions, message):
    subject = system({"y": [0, 1, 1], "d": decisions}, roles={"d": Role.decision})
    with pytest.raises(Refused, match=message):
        _ = subject.decisions.predicted


@pytest.mark.parametrize(
    ("weights", "message"), [([1.0, -1.0], "negative in 1 row, first in row 2"), ([0.0, 0.0], "zero")]
)
def test_weights_that_cannot_be_used(weights, message):
    subject = system({"y": [0, 1], "w": weights}, roles={"w": Role.weight})
    with pytest.raises(Refused, match=message):
        _ = subject.rows.weights


def test_nothing_to_compare_is_said():
    with pytest.raises(Refused, match="no model, no recorded score"):
        _ = system({"y": [0, 1]}).decisions.predicted


def test_recorded_numbers_and_classes_are_measured_without_a_model():
    rng = np.random.default_rng(5)
    y, said = rng.normal(size=60), rng.normal(size=60)
    subject = system({"y": y, "s": said}, roles={"s": Role.score}, task=Task.regression, event="")
    found = METHODS["performance"].compute(subject, PerformanceSettings(), 0, Work())
    by_name = {key: one.value for key, one in found.sets[0].metrics.items()}
    assert by_name["mae"] == pytest.approx(np.abs(y - said).mean())
    assert "is off by" in METHODS["performance"].read(found, Wording(), PerformanceSettings()).text

    level, decided = rng.choice(["a", "b", "c"], 60), rng.choice(["a", "b", "c"], 60)
    columns = {"y": level, "d": decided}
    subject = system(columns, roles={"d": Role.decision}, task=Task.several, event="a")
    found = METHODS["performance"].compute(subject, PerformanceSettings(), 0, Work())
    by_name = {key: one.value for key, one in found.sets[0].metrics.items()}
    assert by_name["accuracy"] == pytest.approx((level == decided).mean())
    assert by_name["true_positive_rate · b"] == pytest.approx((decided == "b")[level == "b"].mean())
    assert not {"log_loss", "auc", "brier_score"} & {key.split(" · ")[0] for key in by_name}

    for task in (Task.regression, Task.several):
        bare = system({"y": y if task is Task.regression else level}, task=task, event="")
        with pytest.raises(Refused, match="nothing to compare with the outcome"):
            METHODS["performance"].compute(bare, PerformanceSettings(), 0, Work())


def listed():
    n = 40
    columns = {
        "x": np.linspace(0, 1, n),
        "id": [f"case-{i}" for i in range(n)],
        "y": (np.arange(n) % 3 == 0).astype(int),
    }
    return system(columns, lambda frame: matrix(frame)[:, 0], ["x"], roles={"id": Role.identifier})


@pytest.mark.parametrize("which", ["all", "right", "wrong", "false positive", "false negative"])
def test_cases_are_chosen_by_what_went_wrong(which):
    page = cases.page(listed(), CasesQuery(which=which, limit=500), 0, Work())
    assert page.matching == len(page.cases)
    for case in page.cases:
        expected = {
            "all": True,
            "right": (case.output >= 0.5) == (case.outcome == "1"),
            "wrong": (case.output >= 0.5) != (case.outcome == "1"),
            "false positive": case.output >= 0.5 and case.outcome == "0",
            "false negative": case.output < 0.5 and case.outcome == "1",
        }
        assert expected[which]
        assert case.right == expected["right"]
        assert case.favoured == (case.output >= 0.5)


def test_cases_are_ordered_found_and_paged():
    near = cases.page(listed(), CasesQuery(order="nearest the threshold", limit=3), 0, Work())
    assert [abs(case.output - 0.5) for case in near.cases] == sorted(abs(case.output - 0.5) for case in near.cases)
    top = cases.page(listed(), CasesQuery(order="score", descending=True, offset=1, limit=2), 0, Work())
    assert [case.name for case in top.cases] == ["case-38", "case-37"]
    assert cases.page(listed(), CasesQuery(find="CASE-7"), 0, Work()).matching == 1
    with pytest.raises(Refused, match="no column “z”"):
        cases.page(listed(), CasesQuery(group="z", member="z"), 0, Work())
