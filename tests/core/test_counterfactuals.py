"""Nearest cases, smallest changes and flips: against brute force, by hand, and where there are none."""

from __future__ import annotations

import numpy as np
import pytest
from tests.core import zoo
from tests.core.systems import system
from tests.core.three_numbers import WORDING, numbers

from zerotilt.core.counterfactuals import change, change_result, flip, nearest
from zerotilt.core.counterfactuals.change_result import Allowed, ChangeSettings
from zerotilt.core.distance import distances, space
from zerotilt.core.distance import nearest as nearest_rows
from zerotilt.core.meaning import Role
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.refusal import Refused
from zerotilt.core.response.support import support_of
from zerotilt.core.work import Work


def decided(threshold=0.5):
    """The event is predicted where x0 + x1 exceeds 0; grade does nothing, group adds."""
    rng = np.random.default_rng(8)
    n = 500
    columns = {
        "x0": rng.normal(size=n).round(2),
        "x1": rng.normal(size=n).round(2),
        "group": rng.choice(["a", "b"], n),
        "y": rng.integers(0, 2, n),
    }

    def f(rows):
        return 1 / (1 + np.exp(-4 * (rows["x0"] + rows["x1"] + np.where(rows["group"] == "b", 0.3, 0.0))))

    return system(columns, f, ["x0", "x1", "group"], roles={"group": Role.group}, threshold=threshold)


def test_the_nearest_case_decided_otherwise_is_the_nearest():
    subject = decided()
    result = nearest.find_nearest(subject, nearest.NearestSettings(row=4), 1, Work())
    other = subject.decisions.predicted != subject.decisions.predicted[4]
    away = distances(space(subject.frame), subject.frame, subject.editor.case(4))
    assert result.neighbours[0].distance == pytest.approx(away[other].min())
    assert result.others == other.sum()
    assert result.ties >= 1
    assert result.neighbours[0].decision != result.decision
    assert result.neighbours[0].name in nearest.say(result, WORDING, nearest.NearestSettings(row=4)).text


def test_gower_distance_by_hand():
    rows = Frame({"n": np.array([0.0, 1.0, 2.0, np.nan]), "t": np.array(["a", "a", "b", ""], dtype=object)})
    where = space(rows)
    scale = np.percentile([0, 1, 2], 99) - np.percentile([0, 1, 2], 1)
    assert distances(where, rows, rows.take(np.array([0]))) == pytest.approx([0, 1 / scale / 2, 1, 1])
    near, which = nearest_rows(where, rows)
    assert which[0] == 1 and near[0] == pytest.approx(1 / scale / 2)
    assert nearest_rows(where, rows, rows)[0] == pytest.approx(np.zeros(4))


def test_changes_are_few_keep_to_their_limits_and_turn_the_decision():
    subject = decided()
    row = int(np.flatnonzero((subject.predictions.outputs[:, 0] < 0.4) & (subject.frame["group"] == "a"))[0])
    free = change.find_changes(subject, ChangeSettings(row=row), 1, Work())
    assert free.changes[0].columns == 1
    assert len({tuple(d.feature for d in one.changed) for one in free.changes}) == len(free.changes)
    own = subject.editor.case(row)
    for one in free.changes:
        edited = own
        for part in one.changed:
            value = np.array([part.there], dtype=object) if part.feature == "group" else np.array([float(part.there)])
            edited = edited.replace(part.feature, value)
        assert subject.model.score(edited)[0] >= 0.5
        assert subject.output(edited)[0] == pytest.approx(one.output)
    limited = change.find_changes(
        subject,
        ChangeSettings(row=row, allowed=(Allowed(feature="x0", change="none"), Allowed(feature="x1", high=0.0))),
        1,
        Work(),
    )
    for one in limited.changes:
        names = {part.feature: part.there for part in one.changed}
        assert "x0" not in names
        assert float(names.get("x1", 0)) <= 0


def test_a_change_is_drawn_back_to_the_smallest_step_that_occurs():
    subject = decided()
    row = int(np.flatnonzero((subject.predictions.outputs[:, 0] < 0.45) & (subject.frame["group"] == "b"))[0])
    found = change.find_changes(
        subject,
        ChangeSettings(
            row=row, allowed=(Allowed(feature="x1", change="none"), Allowed(feature="group", change="none"))
        ),
        1,
        Work(),
    )
    x0, x1 = subject.frame["x0"][row], subject.frame["x1"][row]
    enough = np.unique(subject.frame["x0"][subject.frame["x0"] + x1 + 0.3 >= 0])
    reachable = enough[enough > x0]
    assert float(found.changes[0].changed[0].there) == pytest.approx(reachable.min(), abs=0.06)


@pytest.mark.parametrize("border", [0.49996, 0.12345678, 1234.5678, 3.99999e-5])
def test_what_is_printed_turns_the_decision_as_it_stands(border):
    """In the headline and on the page for the person: four digits of 0.49996 are 0.5, and of a number just above less."""
    rng = np.random.default_rng(3)
    for seed in range(20):
        x = border * (1 + rng.normal(scale=3e-5, size=300))
        columns = {"x": x, "y": rng.integers(0, 2, 300)}
        subject = system(columns, lambda rows: np.where(rows["x"] >= border, 0.9, 0.1), ["x"])
        settings = ChangeSettings(row=seed)
        found = change.find_changes(subject, settings, 1, Work())
        for one in found.changes:
            (part,) = one.changed
            assert (float(part.there) >= border) != (x[seed] >= border)
            assert f"x {part.there} instead of" in change_result.say(found, WORDING, settings).text


def test_rows_of_the_other_decision_are_tried_together():
    """Only two values that occur together turn it, of a thousand each: quantiles one by one never meet them."""
    rng = np.random.default_rng(4)
    a, b, c = (rng.permutation(1_000) / 1_000 for _ in range(3))
    a[7], b[7], c[7] = 0.1234, 0.5678, c[3]  # the third is the case's own
    lucky = lambda rows: np.where((rows["a"] == 0.1234) & (rows["b"] == 0.5678), 0.9, 0.1)  # noqa: E731
    subject = system({"a": a, "b": b, "c": c}, lucky, ["a", "b", "c"])
    found = change.find_changes(subject, ChangeSettings(row=3), 1, Work())
    assert {part.feature: float(part.there) for part in found.changes[0].changed} == {"a": 0.1234, "b": 0.5678}
    c[7] = 0.777  # now the whole row differs in three columns; two of its values do
    found = change.find_changes(
        system({"a": a, "b": b, "c": c}, lucky, ["a", "b", "c"]), ChangeSettings(row=3), 1, Work()
    )
    assert [part.feature for part in found.changes[0].changed] in (["a", "b"], ["a", "b", "c"])
    # what may not change is not taken from another row either
    frozen = ChangeSettings(row=3, allowed=(Allowed(feature="b", change="none"),))
    nothing = change.find_changes(subject, frozen, 1, Work())
    assert nothing.changes == ()
    text = change_result.say(nothing, WORDING, frozen)
    assert "No plausible change of up to 3 columns" in text.text and "was found" in text.text
    assert "of columns together only some, so another may exist" in text.detail


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("kind", ["random forest", "gradient boosting", "logistic regression"])
def test_the_smallest_change_of_one_column_is_the_smallest_of_all_values_that_occur(kind, seed):
    task, model, columns = zoo.made(kind)
    subject = zoo.subject_of(model, columns, task)
    row = int(np.random.default_rng(seed).integers(len(subject.predictions.outputs)))
    found = change.find_changes(subject, ChangeSettings(row=row, most_columns=1, found=20), 1, Work())
    case, where, support = subject.editor.case(row), space(subject.frame), support_of(subject.frame, 1)
    own = subject.decisions.of(subject.model.outputs(case), subject.decisions.cut_at(row))[0]
    least = {}
    for name in subject.frame.names:
        values = np.unique(subject.frame[name][subject.frame[name] == subject.frame[name]])
        values = np.array([v for v in values.tolist() if v != ""], dtype=subject.frame[name].dtype)
        tried = case.take(np.zeros(len(values), int)).replace(name, values)
        good = subject.decisions.of(subject.model.outputs(tried), subject.decisions.cut_at(row)) != own
        good &= ~support.far(tried)
        if good.any():
            least[name] = distances(where, tried.take(np.flatnonzero(good)), case).min()
    assert found.whole
    assert {one.changed[0].feature: pytest.approx(one.distance) for one in found.changes} == least
    for one in found.changes:  # what is shown, typed in again, turns the decision
        name = one.changed[0].feature
        shown = one.changed[0].there if subject.frame[name].dtype.kind != "f" else float(one.changed[0].there)
        again = case.replace(name, np.array([shown], dtype=subject.frame[name].dtype))
        assert subject.decisions.of(subject.model.outputs(again), subject.decisions.cut_at(row))[0] != own


def test_a_change_is_found_at_the_border_of_single_precision():
    """The model reads 32 bits: 0.7 lies below 0.7 there, and so does the value that just turns the decision."""
    rng = np.random.default_rng(0)
    columns = {"x": np.sort(rng.uniform(0.69999, 0.70001, 400)), "y": rng.integers(0, 2, 400)}
    subject = system(
        columns, lambda rows: np.where(rows["x"].astype(np.float32) > np.float32(0.7), 0.9, 0.1), ["x"], threshold=0.5
    )
    found = change.find_changes(subject, ChangeSettings(row=0), 1, Work()).changes[0]
    first = columns["x"][columns["x"].astype(np.float32) > np.float32(0.7)].min()
    there = float(found.changed[0].there)  # in few digits, which turn the decision as they stand
    assert there == pytest.approx(first, abs=1e-7) and np.float32(there) > np.float32(0.7)


@pytest.mark.parametrize(
    ("allowed", "message"),
    [
        ([Allowed(feature="zz")], "“zz” is not a feature"),
        ([Allowed(feature=name, change="none") for name in ("x0", "x1", "group")], "every column is frozen"),
        ([Allowed(feature="x0", low=99)], "no value of “x0” fits its limits"),
        ([Allowed(feature="group", change="up")], "only where its levels have an order"),
    ],
)
def test_limits_that_leave_nothing_are_named(allowed, message):
    with pytest.raises(Refused, match=message):
        change.find_changes(decided(), ChangeSettings(row=2, allowed=tuple(allowed)), 1, Work())


def test_a_flip_counts_decisions_by_direction():
    subject = decided()
    result = flip.flip(subject, flip.FlipSettings(feature="group"), 1, Work())
    total = (subject.frame["x0"] + subject.frame["x1"]).round(6)
    gained = ((subject.frame["group"] == "a") & (total < 0) & ((total + 0.3).round(6) >= 0)).sum()
    lost = ((subject.frame["group"] == "b") & (total < 0) & ((total + 0.3).round(6) >= 0)).sum()
    by_way = {(one.here, one.there): one for one in result.flips}
    assert (by_way["a", "b"].gained, by_way["a", "b"].lost) == (gained, 0)
    assert (by_way["b", "a"].gained, by_way["b", "a"].lost) == (0, lost)
    assert result.changed.value == pytest.approx((gained + lost) / 500)
    assert "With group alone changed" in flip.say(result, WORDING, flip.FlipSettings()).text


def test_a_flip_of_a_number_with_many_values_is_refused():
    with pytest.raises(Refused, match="a flip is between levels"):
        flip.flip(decided(), flip.FlipSettings(feature="x0"), 1, Work())


def test_of_a_number_a_range_is_looked_for():
    subject = numbers(lambda r: r["x0"])
    x = subject.table.numbers("x0")
    row = int(np.argmin(x))
    found = nearest.find_nearest(subject, nearest.NearestSettings(row=row), 1, Work())
    assert found.others == (x >= np.median(x)).sum() and found.aim.endswith("or more")
    away = distances(space(subject.frame), subject.frame, subject.editor.case(row))
    within = (x >= 0.5) & (x <= 0.7)
    asked = nearest.NearestSettings(row=row, at_least=0.5, at_most=0.7)
    found = nearest.find_nearest(subject, asked, 1, Work())
    assert found.neighbours[0].distance == pytest.approx(away[within].min()) and found.others == within.sum()
    assert "0.5 to 0.7" in nearest.say(found, WORDING, asked).text
    ways = change.find_changes(subject, ChangeSettings(row=row, at_least=0.5, at_most=0.7), 1, Work())
    for one in ways.changes:
        assert 0.5 <= one.output <= 0.7
    first = next(one for one in ways.changes if one.columns == 1)
    # the nearest value that does, in the four digits that do as well
    assert float(first.changed[0].there) == float(f"{x[within].min():.4g}") >= 0.5


@pytest.mark.parametrize(
    ("settings", "wrong"),
    [
        ({"at_least": 2, "at_most": 1}, "no number is both"),
        ({"at_most": 1e9}, "already"),
        ({"wanted": "a"}, "predicts a number"),
    ],
)
def test_a_range_that_cannot_be_is_refused(settings, wrong):
    subject = numbers(lambda r: r["x0"])
    for method, kind in ((nearest.find_nearest, nearest.NearestSettings), (change.find_changes, ChangeSettings)):
        with pytest.raises(Refused, match=wrong):
            method(subject, kind(row=0, **settings), 1, Work())
    with pytest.raises(Refused, match="A range was asked for; the model predicts an event"):
        nearest.find_nearest(decided(), nearest.NearestSettings(row=0, at_least=0.5), 1, Work())


def test_all_decided_alike_is_said():
    with pytest.raises(Refused, match="All 500 rows are decided alike"):
        nearest.find_nearest(decided(threshold=0.0), nearest.NearestSettings(row=0), 1, Work())
