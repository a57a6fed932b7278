"""One case: values, tries, curves, cases like it, two cases, many cases; each against a definition of its own."""

from __future__ import annotations

from dataclasses import replace
from itertools import permutations

import numpy as np
import pytest
from sklearn.metrics import silhouette_score
from tests.core import zoo
from tests.core.systems import system

from zerotilt.core import words
from zerotilt.core.case import families
from zerotilt.core.contributions import ladder
from zerotilt.core.contributions.explain import explain
from zerotilt.core.distance import distances, space
from zerotilt.core.meaning import Allowed, Condition, Context, Role, Segment, Task, Wording
from zerotilt.core.methods import METHODS
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work

CLASSES = ("one", "three", "two")
CLAIMS = Wording(row="claim", rows="claims")
KINDS = ["gradient boosting", "random forest", "random forest, three classes", "random forest of a number"]


def decided(n=400, seed=8, **more):
    """The event is predicted where x0 + x1 exceeds 0; the group adds a little."""
    rng = np.random.default_rng(seed)
    columns = {
        "x0": rng.normal(size=n).round(2),
        "x1": np.where(rng.random(n) < 0.05, np.nan, rng.normal(size=n).round(2)),
        "group": rng.choice(["a", "b", "c"], n, p=[0.6, 0.35, 0.05]),
        "y": rng.integers(0, 2, n),
    }

    def f(rows):
        return 1 / (
            1 + np.exp(-4 * (rows["x0"] + np.nan_to_num(rows["x1"]) + np.where(rows["group"] == "b", 0.3, 0.0)))
        )

    return system(columns, f, ["x0", "x1", "group"], roles={"group": Role.group}, **more)


def numbered(n=300, seed=3):
    """A number that is 3·a − b."""
    rng = np.random.default_rng(seed)
    a, b = rng.integers(0, 9, n).astype(float), rng.normal(size=n).round(2)
    columns = {"a": a, "b": b, "y": 3 * a - b + rng.normal(size=n)}
    return system(columns, lambda rows: 3 * rows["a"] - rows["b"], ["a", "b"], task=Task.regression, event="")


def classed(n=300, seed=4):
    """Three classes by one number."""
    rng = np.random.default_rng(seed)
    x, z = rng.normal(size=n).round(2), rng.normal(size=n).round(2)

    def f(rows):
        scores = np.column_stack([-rows["x"], 0.4 + 0 * rows["x"], rows["x"] + 0.2 * rows["z"]])
        return np.exp(scores) / np.exp(scores).sum(axis=1, keepdims=True)

    subject = system({"x": x, "z": z, "y": rng.choice(CLASSES, n)}, f, ["x", "z"], task=Task.several, event="two")
    return replace(subject, predictor=FunctionPredictor(["x", "z"], f, Task.several, CLASSES))


def run(subject, name, **settings):
    method = METHODS[name]
    return method.compute(subject, method.settings(**settings), 5, Work())


def said(name, result, **settings):
    method = METHODS[name]
    found = method.read(result, CLAIMS, method.settings(**settings))
    return " ".join([found.text, found.detail, *found.points])


# values


def test_values_of_a_case_are_its_own_and_stand_beside_the_rows():
    subject = decided()
    found = run(subject, "values", row=11)
    held = {one.feature: one for one in found.held}
    x = subject.table.numbers("x0")
    assert float(held["x0"].value) == x[11]
    assert [float(one) for one in held["x0"].typical] == [
        np.quantile(x, q, method="nearest") for q in (0.05, 0.25, 0.5, 0.75, 0.95)
    ]
    assert (float(held["x0"].low), float(held["x0"].high)) == (x.min(), x.max())
    assert held["x1"].missing == np.isnan(subject.table.numbers("x1")).sum()
    group = subject.table.texts("group")
    assert {one.level: one.rows for one in held["group"].levels} == {g: int((group == g).sum()) for g in "abc"}
    assert [one.rows for one in held["group"].levels] == sorted(
        (one.rows for one in held["group"].levels), reverse=True
    )
    assert held["group"].frozen and not held["x0"].frozen


def test_a_value_that_is_missing_is_empty_and_can_be_written_back():
    subject = decided()
    row = int(np.flatnonzero(np.isnan(subject.table.numbers("x1")))[0])
    held = {one.feature: one for one in run(subject, "values", row=row).held}
    assert held["x1"].value == ""
    as_it_is = {name: one.value for name, one in held.items()}
    again = run(subject, "tried", row=row, edits=as_it_is)
    assert again.edited == () and again.after == again.before


# tries


def test_a_try_is_what_the_model_says():
    subject = decided()
    row = int(np.flatnonzero(subject.predictions.outputs[:, 0] < 0.3)[0])
    found = run(subject, "tried", row=row, edits={"x0": "5", "group": "b"})
    case = subject.editor.case(row)
    both = case.replace("x0", np.array([5.0])).replace("group", np.array(["b"], dtype=object))
    assert found.before.output == subject.output(case)[0]
    assert found.after.output == subject.output(both)[0]
    alone = {one.feature: one.alone for one in found.edited}
    assert alone["x0"] == subject.output(case.replace("x0", np.array([5.0])))[0]
    assert found.before.decision == "decided unfavourably" and found.after.decision == "decided favourably"
    assert "over all of the 400 rows" in next(one.warning for one in found.edited if one.feature == "x0")
    text = said("tried", found, row=row, edits={"x0": "5"})
    assert "The decision turns from decided unfavourably to decided favourably." in text


@pytest.mark.parametrize(
    ("edits", "wrong"),
    [
        ({"x0": "much"}, "takes a number"),
        ({"x0": "inf"}, "takes a number"),
        ({"x0": "1e999"}, "takes a number"),
        ({"x9": "1"}, "is not a feature of the model"),
    ],
)
def test_a_value_that_does_not_fit_is_refused_with_its_column(edits, wrong):
    for name in ("tried", "profiles", "ladder"):
        with pytest.raises(Refused, match=wrong):
            run(decided(), name, row=0, edits=edits)


@pytest.mark.parametrize("name", ["values", "tried", "profiles", "alike", "ladder", "nearest", "change"])
def test_a_case_that_is_not_there_is_refused(name):
    with pytest.raises(Refused, match="the table has 400 rows"):
        run(decided(), name, row=400)


def test_how_far_a_try_is_from_real_rows_is_by_the_nearest_other_row():
    subject = decided()
    found = run(subject, "tried", row=3, edits={"x0": "0.01"})
    edited = subject.editor.case(3, {"x0": "0.01"})
    away = distances(space(subject.frame), subject.frame, edited)
    away[3] = np.inf
    assert found.from_real == pytest.approx(away.min()) and away[found.real] == away.min()
    assert run(subject, "tried", row=3, edits={"x0": "40", "x1": "-40", "group": "c"}).far
    assert not run(subject, "tried", row=3).far
    strange = run(subject, "tried", row=3, edits={"group": "<b>z</b>"})
    assert "holds this level" in strange.edited[0].warning


def test_a_try_of_a_number_and_of_classes():
    subject = numbered()
    found = run(subject, "tried", row=2, edits={"a": "8"})
    b = subject.table.numbers("b")[2]
    assert found.after.output == pytest.approx(24 - b) and found.after.decision == "" and found.threshold is None
    assert "Decision" not in said("tried", found, row=2, edits={"a": "8"})
    found = run(classed(), "tried", row=2, edits={"x": "-9"})
    assert found.after.decision == "one" and found.after.favoured is False


# curves


@pytest.mark.parametrize("make", [decided, numbered, classed])
@pytest.mark.parametrize("row", [0, 7, 19])
def test_every_point_of_a_curve_is_the_model_s_and_the_case_lies_on_each(make, row):
    subject = make()
    found = run(subject, "profiles", row=row, points=12)
    case = subject.editor.case(row)
    here = subject.output(case)[0]
    assert found.prediction == pytest.approx(here)
    reach = [one.high - one.low for one in found.profiles]
    assert reach == sorted(reach, reverse=True)
    for one in found.profiles:
        assert one.points[one.own].output == pytest.approx(here)
        own = case[one.feature][0]
        assert one.points[one.own].label == (subject.editor.label(one.feature, own) if one.numeric else own)
        for point in one.points:
            if point.position is None and one.numeric:
                value = np.array([np.nan])
            else:
                value = np.array(
                    [point.position if one.numeric else point.label], dtype=float if one.numeric else object
                )
            assert point.output == pytest.approx(subject.output(case.replace(one.feature, value))[0])
        assert sum(point.rows for point in one.points) == subject.n
        places = [point.position for point in one.points if point.position is not None]
        assert places == sorted(places)
    if make is numbered:
        assert found.decision == "" and not any(one.turns for one in found.profiles)


@pytest.mark.parametrize("seed", range(8))
def test_a_decision_turns_where_scanning_says(seed):
    subject = decided(seed=seed)
    row = int(np.random.default_rng(seed).integers(subject.n))
    found = run(subject, "profiles", row=row, points=30)
    own = subject.predictions.outputs[row, 0] >= 0.5
    for one in found.profiles:
        other = [(point.output >= 0.5) != own for point in one.points]
        turning = {turn.at for turn in one.turns}
        if not one.numeric:
            assert turning == {point.label for point, off in zip(one.points, other, strict=True) if off}
            continue
        sides = [range(one.own - 1, -1, -1), range(one.own + 1, len(one.points))]
        expected = set()
        for side in sides:
            on = [i for i in side if one.points[i].position is not None]
            first = next((i for i in on if other[i]), None)
            if first is not None:
                expected.add(one.points[first].position)
        if one.points[one.own].position is not None:
            assert {turn.position for turn in one.turns if turn.position is not None} == expected
        near = [turn for turn in one.turns if turn.position is not None]
        at = one.points[one.own].position
        if at is not None and len(near) == 2:
            assert abs(near[0].position - at) <= abs(near[1].position - at)


# cases like it


def brute(subject, row):
    where, features = space(subject.predictions.features), subject.predictions.features
    away = np.array(
        [distances(where, features.take(np.array([i])), features.take(np.array([row])))[0] for i in range(subject.n)]
    )
    away[row] = np.inf
    return away


def test_cases_like_it_are_the_nearest_and_counted_rightly():
    subject = decided(n=120)
    found = run(subject, "alike", row=5, neighbours=9)
    away = brute(subject, 5)
    assert [one.distance for one in found.likes] == pytest.approx(np.sort(away)[:9])
    assert 5 not in [one.row for one in found.likes]
    taken = subject.decisions.taken
    assert found.decided_alike == np.mean([taken[one.row] == taken[5] for one in found.likes])
    y = subject.rows.outcome
    assert found.happened_alike == np.mean([y[one.row] == y[5] for one in found.likes])
    assert f"{sum(one.same_decision for one in found.likes)} w" in said("alike", found, row=5)


def test_recorded_decisions_are_compared_without_a_model():
    rng = np.random.default_rng(2)
    columns = {"x": rng.normal(size=50), "kind": rng.choice(["p", "q"], 50), "d": rng.integers(0, 2, 50)}
    subject = system(columns | {"y": rng.integers(0, 2, 50)}, roles={"d": Role.decision})
    found = run(subject, "alike", row=0, neighbours=5)
    assert found.output is None and found.low is None
    d = columns["d"]
    assert found.decided_alike == np.mean([d[one.row] == d[0] for one in found.likes])
    seen = run(subject, "odd", neighbours=4)
    assert all(one.apart is None for one in seen.cases)
    assert "decided as it was" in said("odd", seen, neighbours=4)


def test_a_case_outside_the_rows_that_are_read_is_compared_with_them():
    context = Context(rows="all", segment=Segment(name="b", conditions=(Condition(column="group", levels=("b",)),)))
    subject = decided(context=context)
    outside = int(np.flatnonzero(subject.table.texts("group") != "b")[0])
    found = run(subject, "alike", row=outside, neighbours=3)
    assert {subject.table.texts("group")[one.row] for one in found.likes} == {"b"}
    assert found.output == pytest.approx(subject.output(subject.editor.case(outside))[0])


@pytest.mark.parametrize("make", [decided, numbered, classed])
@pytest.mark.parametrize("k", [2, 7])
def test_the_least_consistent_are_those_that_brute_force_finds(make, k):
    subject = make(n=90)
    found = run(subject, "odd", neighbours=k, listed=500)
    shares, apart = [], []
    for row in range(subject.n):
        order = np.argsort(brute(subject, row), kind="stable")[:k]
        apart.append(subject.own_output[row] - subject.own_output[order].mean())
        if subject.kind.decides:
            shares.append(np.mean(subject.decisions.taken[order] != subject.decisions.taken[row]))
    if shares:
        assert found.consistency == pytest.approx(1 - np.mean(shares))
        assert {one.row: one.otherwise for one in found.cases} == pytest.approx(
            {row: share for row, share in enumerate(shares) if share}
        )
        assert found.minority == sum(share > 0.5 for share in shares)
        ordered = [one.otherwise for one in found.cases]
        assert ordered == sorted(ordered, reverse=True)
    assert {one.row: one.apart for one in found.cases} == pytest.approx(
        {one.row: apart[one.row] for one in found.cases}
    )


# two cases


@pytest.mark.parametrize("kind", KINDS)
def test_the_difference_of_two_cases_is_shared_out_and_adds_up(kind):
    subject = whole(kind)
    found = run(subject, "difference", row=3, other=40)
    here, there = subject.editor.case(3), subject.editor.case(40)
    a, b = subject.output(here)[0], subject.output(there)[0]
    assert found.output_here - found.output_there == pytest.approx(a - b)
    assert sum(one.contribution for one in found.steps) == pytest.approx(a - b, abs=1e-6)
    names = here.names
    shares = dict.fromkeys(names, 0.0)
    orders = list(permutations(names)) if len(names) <= 6 else []
    for order in orders:
        at, before = there, b
        for name in order:
            at = at.replace(name, here[name])
            now = subject.output(at)[0]
            shares[name] += (now - before) / len(orders)
            before = now
    for one in found.steps:
        assert one.contribution == pytest.approx(shares[one.feature], abs=2e-5)
    left_out = set(names) - {one.feature for one in found.steps}
    assert all(here[name][0] == there[name][0] or here[name][0] != here[name][0] for name in left_out)
    assert found.same == len(left_out)
    with pytest.raises(Refused, match="the same case"):
        run(subject, "difference", row=3, other=3)


def whole(kind):
    task, model, columns = zoo.made(kind)
    return zoo.subject_of(model, columns, task)


# many cases


@pytest.mark.parametrize("kind", ["random forest", "logistic regression"])
def test_the_ladder_of_a_group_is_the_mean_of_its_rows_ladders(kind):
    subject = grouped(kind)
    found = run(subject, "mean_ladder", group="grade", member="B")
    rows = np.flatnonzero(subject.table.texts("grade") == "B")
    each = explain(subject, rows, 5, Work())
    means = dict(zip(each.features, each.values.mean(axis=0), strict=True))
    assert {one.feature: one.mean.value for one in found.rungs} == pytest.approx(means)
    assert found.baseline + sum(one.mean.value for one in found.rungs) == pytest.approx(found.prediction)
    assert found.prediction == pytest.approx(subject.own_output[rows].mean())
    assert found.members == found.rows_explained == len(rows)
    for one in found.rungs:
        assert one.mean.low <= one.mean.value <= one.mean.high
    text = said("mean_ladder", found, group="grade", member="B")
    assert f"{len(rows)} claims in grade B" in text
    everyone = run(subject, "mean_ladder")
    assert [one.mean.value for one in everyone.rungs] == pytest.approx([0] * len(everyone.rungs), abs=1e-6)


def test_the_mean_of_a_group_is_of_all_its_rows_where_few_are_explained():
    subject = grouped("random forest")
    found = run(subject, "mean_ladder", group="grade", member="B", rows=8, sampled=8)
    rows = subject.table.texts("grade") == "B"
    assert found.rows_explained == 8 < found.members == rows.sum()
    assert found.mean_output == pytest.approx(subject.own_output[rows].mean()) != pytest.approx(found.prediction)
    text = said("mean_ladder", found, group="grade", member="B")
    assert f"of {rows.sum()} claims in grade B is {words.percent(found.mean_output)}" in text
    assert f"8 of them, drawn by chance, whose mean is {words.percent(found.prediction)}" in text


def grouped(kind):
    task, model, columns = zoo.made(kind)
    scale = "log-odds" if kind == "logistic regression" else "probability"
    return zoo.subject_of(model, columns, task, scale, grouped="grade")


def test_families_part_the_rows_and_their_rates_are_counted():
    subject = whole("random forest")
    found = run(subject, "families")
    members = [row for one in found.families for row in one.members]
    assert sum(one.rows for one in found.families) == found.rows_explained == subject.n
    assert len(members) == len(set(members)) == subject.n
    best = max(found.fits, key=lambda one: one.silhouette)
    assert len(found.families) == best.families
    each = explain(subject, np.arange(subject.n), 5, Work())
    codes = np.empty(subject.n, int)
    for place, one in enumerate(found.families):
        rows = np.array(one.members)
        codes[rows] = place
        assert one.wrong.value == pytest.approx(
            np.mean(subject.rows.outcome[rows] != subject.decisions.predicted[rows])
        )
        assert one.mean_output == pytest.approx(subject.own_output[rows].mean())
        own = {mover.feature: mover.mean for mover in one.movers}
        assert own == pytest.approx(dict(zip(each.features, each.values[rows].mean(axis=0), strict=True)))
        assert one.typical == one.members[0]
    assert best.silhouette == pytest.approx(silhouette_score(each.values, codes))
    asked = run(subject, "families", families=5)
    assert len(asked.families) == 5 and "5 families, as asked" in said("families", asked, families=5)


@pytest.mark.parametrize("seed", range(5))
def test_k_means_finds_heaps_that_are_apart_and_leaves_none_empty(seed):
    rng = np.random.default_rng(seed)
    middles = np.array([[0, 0], [9, 0], [0, 9], [40, 40]])
    points = np.concatenate(
        [rng.normal(middle, 0.5, (n, 2)) for middle, n in zip(middles, (60, 30, 10, 1), strict=True)]
    )
    codes, _ = families.k_means(points, 4, [seed])
    truth = np.repeat(range(4), (60, 30, 10, 1))
    assert len({(a, b) for a, b in zip(codes, truth, strict=True)}) == 4
    codes, _ = families.k_means(np.repeat(points[:3], 20, axis=0), 3, [seed])
    assert len(set(codes.tolist())) == 3


def test_rows_that_are_all_explained_alike_fall_into_no_families():
    flat = system({"x": np.arange(40.0), "y": np.arange(40) % 2}, lambda rows: np.full(rows.rows, 0.4), ["x"])
    with pytest.raises(Refused, match="cannot be gathered"):
        run(flat, "families")
    weights = np.where(np.arange(40) < 2, 1.0, 0.0)
    few = system(
        {"x": np.arange(40.0), "w": weights, "y": np.arange(40) % 2},
        lambda rows: rows["x"] / 40,
        ["x"],
        roles={"w": Role.weight},
    )
    with pytest.raises(Refused, match="cannot be gathered"):
        run(few, "families")


def test_a_value_of_a_column_that_is_missing_everywhere_has_no_standing():
    columns = {"x": np.full(30, np.nan), "z": np.arange(30.0), "y": np.arange(30) % 2}
    subject = system(columns, lambda rows: 1 / (1 + np.exp(-rows["z"] / 9 - np.nan_to_num(rows["x"]))), ["x", "z"])
    found = run(subject, "ladder", row=3, edits={"x": "2"})
    assert next(one.standing for one in found.rungs if one.feature == "x") == "missing in all rows"
    assert run(subject, "tried", row=3, edits={"x": "2"}).edited[0].warning == "it is missing in all of the 30 rows"


# what is said


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("row", [1, 60, 333])
def test_every_number_of_the_summary_is_the_ladder_s(kind, row):
    subject = whole(kind)
    found = run(subject, "ladder", row=row)
    points = list(ladder.summary(found, CLAIMS))
    text = " ".join(points)
    raised = sorted((one for one in found.rungs if one.contribution > 0), key=lambda one: -one.contribution)[:3]
    for one in raised:
        assert f"{one.feature} {one.value}" in text
    own = subject.own_output
    lower = np.mean(own < found.prediction - 1e-9) + np.mean(np.abs(own - found.prediction) <= 1e-9) / 2
    assert found.higher_than == pytest.approx(lower)
    assert points[-1].startswith("A step says") and "no cause" in points[-1]
    if subject.classes:
        p = np.sort(subject.predictions.outputs[row])[::-1]
        assert found.lead == pytest.approx(p[0] - p[1])
        assert f"Decision: {found.chosen}" in text
    if subject.kind.cut:
        assert "the threshold of 50.0%" in text


def test_limits_of_the_audit_hold_everywhere_and_groups_stay_unless_released():
    subject = decided()
    row = int(np.flatnonzero((subject.predictions.outputs[:, 0] < 0.4) & (subject.frame["group"] == "a"))[0])
    found = run(subject, "change", row=row, found=20)
    assert found.held == ("group",)
    assert "group" not in {part.feature for one in found.changes for part in one.changed}
    released = subject.spec.model_copy(
        update={
            "allowed": (Allowed(feature="group"), Allowed(feature="x0", change="none"), Allowed(feature="x1", high=3))
        }
    )
    other = decided(allowed=released.allowed)
    found = run(other, "change", row=row, found=20)
    assert found.held == ("x0",)
    changed = {part.feature for one in found.changes for part in one.changed}
    assert "x0" not in changed


# rows laid out


@pytest.mark.parametrize("make", [decided, numbered, classed])
def test_every_dot_is_its_row(make):
    subject = make()
    feature = subject.model.inputs[0]
    found = run(subject, "arrangement", x=feature, wide=subject.model.inputs[-1])
    values = subject.table.numbers(feature)
    rows = np.array(found.table_rows)
    assert rows.tolist() == np.flatnonzero(np.isfinite(values)).tolist() and found.missing == subject.n - len(rows)
    assert found.xs == pytest.approx(values[rows], rel=1e-5) and found.ys == pytest.approx(
        subject.own_output[rows], rel=1e-5
    )
    assert max(found.wides) < len(found.wide.levels) and len(found.names) == len(rows)
    marks = np.array([int(one) for one in found.marks])
    if not subject.kind.decides:
        assert not marks.any() and found.errors == pytest.approx(
            values[rows] * 0 + subject.own_output[rows] - subject.rows.outcome[rows], rel=1e-4, abs=1e-6
        )
        return
    outcome, taken = subject.rows.outcome[rows], subject.decisions.taken[rows]
    assert ((marks & 2) > 0).tolist() == (outcome.astype(int) != taken).tolist()
    assert ((marks & 4) > 0).tolist() == subject.decisions.favoured[rows].tolist()
    happened = outcome == subject.column if subject.classes else outcome
    assert ((marks & 1) > 0).tolist() == np.asarray(happened, bool).tolist()
    assert [found.colour.levels[one] for one in found.colours] == subject.table.texts("y")[rows].tolist()


def test_rows_are_piled_by_what_happened_and_what_was_decided():
    subject = decided()
    found = run(subject, "arrangement", x="(outcome)", y="(decision)", colour="(right or wrong)")
    piles = {}
    for x, y in zip(found.xs, found.ys, strict=True):
        pile = found.x.levels[int(x)], found.y.levels[int(y)]
        piles[pile] = piles.get(pile, 0) + 1
    y, d = subject.rows.outcome, subject.decisions.predicted
    assert piles["1", "decided favourably"] == (y & d).sum() and piles["0", "decided unfavourably"] == (~y & ~d).sum()
    assert [found.colour.levels[one] for one in found.colours] == np.where(y == d, "right", "wrong").tolist()


def test_steps_of_a_feature_are_its_contributions_and_more_rows_than_asked_are_sampled():
    subject = whole("random forest")
    found = run(subject, "arrangement", x="(step) weight", colour="grade", rows=200)
    each = explain(subject, np.array(found.table_rows), 5, Work())
    assert found.xs == pytest.approx(each.values[:, each.features.index("weight")], rel=1e-4, abs=1e-6)
    assert len(found.xs) == found.rows_read == 200 and "A sample of 200 of 500." in said("arrangement", found)
    columns = {"x": np.arange(300.0), "level": [f"l{i % 40}" for i in range(300)], "y": np.arange(300) % 2}
    many = system(columns, lambda rows: rows["x"] / 300, ["x"])
    other = run(many, "arrangement", x="x", colour="level")
    assert (
        other.colour.levels[-1] == "(other)" and sum(one == len(other.colour.levels) - 1 for one in other.colours) > 200
    )
    for wrong in ("nowhere", "(step) nowhere"):
        with pytest.raises(Refused, match="nowhere"):
            run(many, "arrangement", x=wrong)


def test_parts_are_named_apart_and_days_are_days():
    days = np.datetime64("2030-01-01") + np.arange(300)
    close = 1_000_000 + np.arange(300) / 100
    columns = {"x": np.arange(300.0), "day": days, "close": close, "y": np.arange(300) % 2}
    for taken in (["x"], ["x", "close"]):  # a column that the model takes is cut in another place
        subject = system(columns, lambda rows: rows["x"] / 300, taken)
        for name in ("close", "day"):
            levels = run(subject, "arrangement", x="x", wide=name).wide.levels
            assert len(set(levels)) == len(levels) > 2, levels
            assert name == "close" or (levels[0].startswith("before 2030-0") and levels[-1].endswith(" or later")), (
                levels
            )
            assert name == "day" or all("1,000,0" in one for one in levels), levels


def test_decisions_without_scores_are_laid_out_by_their_columns():
    columns = {"x": np.arange(30.0), "d": np.arange(30) % 2, "kind": ["a", "b", "c"] * 10}
    found = run(
        system(columns | {"y": (np.arange(30) % 3 == 0).astype(int)}, roles={"d": Role.decision}),
        "arrangement",
        x="x",
        y="(decision)",
    )
    assert found.outputs == () and "(output)" not in found.choices and len(found.xs) == 30
