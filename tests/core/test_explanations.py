"""Methods beyond contributions, against functions whose answers are known by hand."""

from __future__ import annotations

from itertools import permutations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from sklearn.metrics import average_precision_score, balanced_accuracy_score, f1_score, median_absolute_error, r2_score
from tests.core import zoo
from tests.core.systems import frame, matrix, system, told

from zerotilt.core import links
from zerotilt.core.contributions import checks, ladder, surrogate
from zerotilt.core.contributions.explain import explain
from zerotilt.core.contributions.game import background
from zerotilt.core.contributions.sampled import sample_permutations
from zerotilt.core.counterfactuals import change, flip, nearest
from zerotilt.core.counterfactuals.change import Allowed, ChangeSettings
from zerotilt.core.distance import distances, space
from zerotilt.core.distance import nearest as nearest_rows
from zerotilt.core.drivers import agreement, by_part, loss_shapley, losses, own, ranking
from zerotilt.core.groups.measure import of_whole
from zerotilt.core.groups.whole import OF_SETS, Set
from zerotilt.core.meaning import Context, Kind, Role, Task, Wording
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.response import accumulated, expected, interactions, partial, surface
from zerotilt.core.response.support import support_of
from zerotilt.core.stats.calibration import calibration_error
from zerotilt.core.subject import Subject
from zerotilt.core.tasks import KINDS
from zerotilt.core.work import Work

WORDING = Wording(row="claim", rows="claims")


def numbers(function, n=400, p=3, seed=0, **more):
    """A system of a number: y is the function itself."""
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(n, p))
    columns = {f"x{j}": x[:, j] for j in range(p)}
    value = function(Frame(columns))
    subject = system(columns | {"y": value}, function, list(columns), task=Task.regression, event="", **more)
    return Subject(
        subject.spec, subject.table, FunctionPredictor(list(columns), function, Task.regression), subject.context
    )


# accumulated local effects


def test_accumulated_effects_of_a_line_are_the_line():
    subject = numbers(lambda rows: 3 * rows["x0"] - 2 * rows["x1"])
    result = accumulated.accumulate(subject, accumulated.AleSettings(feature="x0", points=20), 1, Work())
    slopes = np.diff([p.value for p in result.points]) / np.diff([p.position for p in result.points])
    assert slopes == pytest.approx(np.full(len(slopes), 3.0))
    assert max(p.high - p.low for p in result.points) < 1e-6
    assert "differs by" in accumulated.say(result, WORDING, accumulated.AleSettings()).text


def test_accumulated_effects_part_from_partial_dependence_where_columns_are_linked():
    rng = np.random.default_rng(3)
    x0 = rng.uniform(-1, 1, 4_000)
    columns = {"x0": x0, "x1": x0 + rng.normal(scale=0.02, size=4_000)}
    subject = system(columns | {"y": x0}, lambda r: r["x0"] * r["x1"], ["x0", "x1"], task=Task.regression, event="")
    subject = Subject(
        subject.spec,
        subject.table,
        FunctionPredictor(["x0", "x1"], lambda r: r["x0"] * r["x1"], Task.regression),
        subject.context,
    )
    result = accumulated.accumulate(subject, accumulated.AleSettings(feature="x0", points=40), 1, Work())
    # ∂f/∂x0 = x1 ≈ x0 among rows that are there, so the effect is x0²/2; the partial dependence would be flat
    truth = np.array([p.position**2 / 2 for p in result.points])
    got = np.array([p.value for p in result.points])
    assert got - got.min() == pytest.approx(truth - truth.min(), abs=0.02)


def test_levels_without_an_order_are_put_in_one_and_still_sum_up():
    task, model, columns = zoo.made("random forest")
    result = accumulated.accumulate(
        zoo.subject_of(model, columns, task), accumulated.AleSettings(feature="grade"), 1, Work()
    )
    assert {p.label for p in result.points} == set("ABCD")
    assert result.order == "by likeness of the other columns"
    assert np.average([p.value for p in result.points], weights=[p.rows for p in result.points]) == pytest.approx(
        0, abs=1e-9
    )


def test_the_second_order_effect_is_the_pure_interaction():
    subject = numbers(lambda r: r["x0"] * r["x1"] + 5 * r["x0"] - r["x1"] ** 2, n=6_000)
    a, b, effect, counts = accumulated.second_order(subject, subject.frame, "x0", "x1", 12)
    middle = (slice(3, -3), slice(3, -3))
    truth = (a[:, None] - a.mean()) * (b[None, :] - b.mean())
    assert stats.pearsonr(effect[middle].ravel(), truth[middle].ravel()).statistic > 0.97
    plain = numbers(lambda r: 5 * r["x0"] - r["x1"] ** 2, n=2_000)
    assert np.abs(accumulated.second_order(plain, plain.frame, "x0", "x1", 10)[2]).max() < 1e-9
    assert counts.sum() == 6_000


# surfaces and interactions


def test_a_surface_equals_rescoring_and_its_margins_are_its_means():
    subject = numbers(lambda r: r["x0"] * r["x1"] + r["x2"])
    result = surface.survey(subject, surface.SurfaceSettings(first="x0", second="x1", points=6, rows=50), 4, Work())
    values = np.array(result.values)
    sample = subject.frame.take(np.random.default_rng(4).permutation(subject.n)[:50])
    i, j = 2, 4
    asked = sample.replace("x0", np.full(50, result.first.positions[i])).replace(
        "x1", np.full(50, result.second.positions[j])
    )
    assert values[i, j] == pytest.approx(subject.output(asked).mean())
    assert result.first.mean == pytest.approx(tuple(values.mean(axis=1)))
    assert "Mean over 50 of 400 claims" in surface.say(result, WORDING, surface.SurfaceSettings()).detail


def test_a_surface_held_at_a_case_is_that_cases_own():
    subject = numbers(lambda r: r["x0"] * r["x1"] + r["x2"])
    result = surface.survey(subject, surface.SurfaceSettings(points=5, case=7), 4, Work())
    assert result.values[1][3] == pytest.approx(
        result.first.positions[1] * result.second.positions[3] + subject.frame["x2"][7]
    )
    assert result.held == "row 8"


def test_combinations_that_do_not_occur_are_far():
    rng = np.random.default_rng(0)
    x = rng.uniform(size=2_000)
    linked = Frame({"a": x, "b": x + rng.normal(scale=0.01, size=2_000)})
    known = support_of(linked, 0)
    assert known.far(linked.take(slice(0, 500))).mean() < 0.05
    assert known.far(Frame({"a": np.array([0.05]), "b": np.array([0.95])}))[0]


@pytest.mark.parametrize(
    ("changes", "message"),
    [
        ({"first": "x0", "second": "x0"}, "takes two different"),
        ({"first": "nope"}, "“nope” is not a feature"),
        ({"case": 400}, "the table has 400 rows"),
    ],
)
def test_surfaces_that_cannot_be_drawn_are_refused(changes, message):
    with pytest.raises(Refused, match=message):
        surface.survey(numbers(lambda r: r["x0"]), surface.SurfaceSettings(**changes), 1, Work())


def test_strength_of_interaction_is_one_for_a_product_and_none_for_a_sum():
    subject = numbers(lambda r: r["x0"] * r["x1"] + 2 * r["x2"])
    result = interactions.pair_up(subject, interactions.InteractionsSettings(rows=60), 1, Work())
    by_pair = {(p.first, p.second): p for p in result.pairs}
    assert by_pair["x0", "x1"].strength.value > 0.85
    assert by_pair["x0", "x2"].strength.value < 0.05
    assert result.pairs[0] is by_pair["x0", "x1"]
    totals = {t.feature: t.strength.value for t in result.totals}
    assert totals["x2"] < 0.02 < totals["x0"]
    assert "work together most" in interactions.say(result, WORDING, interactions.InteractionsSettings()).text


# expected direction


def test_steps_against_the_expected_direction_are_counted():
    # rises with x0 where x1 ≤ 0, falls elsewhere
    subject = numbers(lambda r: np.where(r["x1"] > 0, -r["x0"], r["x0"]), n=1_000)
    result = expected.check_expected(subject, expected.ExpectedSettings(feature="x0", expected="rises"), 1, Work())
    share = float((subject.frame["x1"] > 0).mean())
    assert result.curves_against == pytest.approx(share)
    assert result.rows_against == pytest.approx(share)
    assert all(subject.frame["x1"][one.row] > 0 for one in result.worst)
    calm = expected.check_expected(numbers(lambda r: r["x0"]), expected.ExpectedSettings(feature="x0"), 1, Work())
    assert (calm.curves_against, calm.largest) == (0, 0)
    assert "Every curve goes as expected" in expected.say(calm, WORDING, expected.ExpectedSettings()).text


def test_levels_without_an_order_have_no_direction():
    task, model, columns = zoo.made("random forest")
    with pytest.raises(Refused, match="levels without an order"):
        expected.check_expected(
            zoo.subject_of(model, columns, task), expected.ExpectedSettings(feature="channel"), 1, Work()
        )


# drivers


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


# one case


def test_a_surrogate_of_a_line_is_the_line_and_faithful():
    subject = numbers(lambda r: 2 * r["x0"] - r["x1"], n=800)
    result = surrogate.surround(subject, surrogate.SurrogateSettings(row=3, penalty=0.0), 1, Work())
    effects = {term.feature: term.effect for term in result.terms}
    assert effects["x0"] == pytest.approx(2 * subject.frame["x0"].std(), rel=1e-6)
    assert effects["x1"] == pytest.approx(-subject.frame["x1"].std(), rel=1e-6)
    assert result.fidelity == pytest.approx(1)


def test_a_surrogate_says_when_it_is_not_to_be_relied_on():
    subject = numbers(lambda r: np.sin(25 * r["x0"]) * np.sign(r["x1"]), n=800)
    settings_ = surrogate.SurrogateSettings(row=3)
    result = surrogate.surround(subject, settings_, 1, Work())
    assert result.fidelity < 0.3
    assert "too little to rely on" in surrogate.say(result, WORDING, settings_).text


def test_checks_tell_a_good_order_from_a_poor_one():
    task, model, columns = zoo.made("random forest")
    result = checks.check_explanation(zoo.subject_of(model, columns, task), checks.ChecksSettings(row=3), 1, Work())
    assert result.additivity_gap < 1e-9
    assert result.deletion_area > result.deletion_by_chance
    assert result.insertion_area < result.insertion_by_chance
    assert result.steps[0].without == pytest.approx(result.steps[-1].alone)  # nothing taken away, everything known
    assert {one.method for one in result.agreement} == {"sampled", "least squares", "enumeration"}
    assert all(one.correlation > 0.95 for one in result.agreement)
    assert result.spread_over_seeds == 0  # exact
    sampled = checks.check_explanation(
        zoo.subject_of(model, columns, task), checks.ChecksSettings(row=3, method="sampled"), 1, Work()
    )
    assert sampled.spread_over_seeds > 0


def owen_by_orders(worth: np.ndarray, groups: list[list[int]]) -> np.ndarray:
    """The definition: mean marginal worth over all orders that keep the groups together."""
    p = sum(map(len, groups))
    out, count = np.zeros(p), 0
    for order in permutations(range(p)):
        label = [next(g for g, group in enumerate(groups) if player in group) for player in order]
        if any(label[i] != label[i + 1] and label[i] in label[i + 1 :] for i in range(p - 1)):
            continue
        known = 0
        for player in order:
            out[player] += worth[known | (1 << player)] - worth[known]
            known |= 1 << player
        count += 1
    return out / count


def test_owen_values_equal_the_mean_over_orders_that_keep_groups_together():
    def f(rows):
        x = matrix(rows)
        return x[:, 0] * x[:, 1] + x[:, 2] * x[:, 3] * x[:, 0]

    cases, others = frame(np.array([[1.0, 2.0, -1.0, 3.0]])), background(frame(np.zeros((1, 4))))
    worth = np.array(
        [
            f(frame(np.array([[case if s >> j & 1 else 0.0 for j, case in enumerate((1.0, 2.0, -1.0, 3.0))]])))[0]
            for s in range(16)
        ]
    )
    groups = [[0, 2], [1], [3]]
    found = sample_permutations(f, cases, others, 0.0, 4_000, 1, groups=groups)
    assert found.values[0] == pytest.approx(owen_by_orders(worth, groups), abs=4 * found.errors.max())
    assert found.values.sum() == pytest.approx(worth[-1])


def test_the_hierarchy_method_names_what_is_wrong_with_its_groups():
    subject = numbers(lambda r: r["x0"] + r["x1"])
    for groups, message in (
        (None, "none were given, and no two columns are associated"),
        ([["x0", "zz"]], "“zz” is not a feature"),
        ([["x0"], ["x0", "x1"]], "“x0” is in two sets"),
    ):
        with pytest.raises(Refused, match=message):
            explain(subject, np.arange(1), 1, Work(), "hierarchy", groups=groups)
    found = explain(subject, np.arange(3), 1, Work(), groups=[["x0", "x1"]], most_pairs=64)
    assert found.method == "hierarchy"
    assert found.gap < 1e-9


def test_associated_columns_make_a_hierarchy_of_their_own():
    rng = np.random.default_rng(2)
    x = rng.normal(size=(300, 3))
    columns = {"x0": x[:, 0], "x1": x[:, 0] + x[:, 1] / 10, "x2": x[:, 2]}
    subject = system(
        columns | {"y": rng.integers(0, 2, 300)},
        lambda r: 1 / (1 + np.exp(-(r["x0"] * r["x2"] + r["x1"]))),
        list(columns),
    )
    found = ladder.ladder_of(subject, ladder.LadderSettings(row=2, method="hierarchy"), 1, Work())
    assert "along 2 sets of features" in found.why
    given = ladder.ladder_of(subject, ladder.LadderSettings(row=2, groups=(("x0", "x1"),)), 1, Work())
    assert given.method == "hierarchy"
    assert [rung.contribution for rung in given.rungs] == [rung.contribution for rung in found.rungs]


# counterfactuals


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
    assert float(found.changed[0].there) == first


def test_accumulated_effects_of_a_column_with_nothing_in_it_are_refused():
    subject = numbers(lambda r: np.nan_to_num(r["x0"]), n=60)
    subject.frame["x0"][:] = np.nan
    with pytest.raises(Refused, match="x0"):
        accumulated.accumulate(subject, accumulated.AleSettings(feature="x0"), 1, Work())


def test_a_surrogate_of_a_case_with_an_endless_value_claims_no_more_than_it_has():
    subject = numbers(lambda r: np.sin(25 * np.where(np.isfinite(r["x0"]), r["x0"], 3.0)) + np.sin(25 * r["x1"]), n=800)
    subject.frame["x0"][3] = np.inf
    settings_ = surrogate.SurrogateSettings(row=3)
    result = surrogate.surround(subject, settings_, 1, Work())
    text = surrogate.say(result, WORDING, settings_).text
    assert result.fidelity < 0.5
    assert "too little to rely on" in text and "nan" not in text


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


def test_numbers_have_no_decision_to_turn():
    subject = numbers(lambda r: r["x0"])
    with pytest.raises(Refused, match="nothing is decided by it"):
        nearest.find_nearest(subject, nearest.NearestSettings(row=0), 1, Work())


def test_all_decided_alike_is_said():
    with pytest.raises(Refused, match="All 500 rows are decided alike"):
        nearest.find_nearest(decided(threshold=0.0), nearest.NearestSettings(row=0), 1, Work())


# measures of a set of predictions


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


# bad input


def test_a_constant_column_and_a_single_background_row_are_explained():
    subject = numbers(lambda r: r["x0"] + r["x1"])
    columns = {"x0": np.arange(30.0), "x1": np.ones(30), "y": np.arange(30.0)}
    flat = system(columns, lambda r: r["x0"] + r["x1"], ["x0", "x1"], task=Task.regression, event="")
    flat = Subject(
        flat.spec,
        flat.table,
        FunctionPredictor(["x0", "x1"], lambda r: r["x0"] + r["x1"], Task.regression),
        flat.context,
    )
    assert explain(flat, np.arange(3), 1, Work()).values[:, 1] == pytest.approx(np.zeros(3))
    for method in ("enumeration", "sampled", "least squares"):
        one = explain(subject, np.arange(2), 1, Work(), method, reference=background(subject.frame.take(slice(9, 10))))
        assert one.background == 1
        assert one.gap < 1e-9


def test_a_background_of_no_rows_or_no_weight_is_refused():
    subject = numbers(lambda r: r["x0"])
    with pytest.raises(Refused, match="background: it has no rows"):
        background(subject.frame.take(np.arange(0)))
    with pytest.raises(Refused, match="row weights are zero"):
        background(subject.frame, np.zeros(subject.n))


def test_a_model_that_changes_its_mind_is_found_out():
    rng = np.random.default_rng(0)
    subject = system({"x0": np.arange(50.0), "y": np.arange(50) % 2}, lambda r: rng.random(r.rows), ["x0"])
    with pytest.raises(Refused, match="other numbers when asked again: 50 of 50 rows changed"):
        explain(subject, np.arange(2), 1, Work())


def test_a_model_that_gives_no_number_says_in_which_row():
    subject = system(
        {"x0": np.arange(50.0), "y": np.arange(50) % 2}, lambda r: np.where(r["x0"] == 7, np.nan, 0.5), ["x0"]
    )
    with pytest.raises(Refused, match="no number in 1 row, first in row 8"):
        explain(subject, np.arange(2), 1, Work())


def test_ordered_classes_keep_their_order_and_the_class_that_is_read_can_be_chosen():
    rng = np.random.default_rng(1)
    x = rng.normal(size=120)
    desk = np.array(["later", "soon", "now"], dtype=object)[np.digitize(x, [-0.5, 0.5])]

    def f(rows):
        near = np.exp(-((rows["x0"][:, None] - np.array([-1, 0, 1])) ** 2))
        return near / near.sum(axis=1, keepdims=True)

    subject = system({"x0": x, "y": desk}, f, ["x0"], task=Task.ordered, event="")
    spec = subject.spec.model_copy(
        update={
            "columns": tuple(
                one.model_copy(update={"order": ("later", "soon", "now"), "kind": Kind.ordered})
                if one.name == "y"
                else one
                for one in subject.spec.columns
            )
        }
    )
    predictor = FunctionPredictor(["x0"], f, Task.ordered, ("later", "soon", "now"))
    read = Subject(spec, subject.table, predictor, Context(rows="all", read_class="soon"))
    assert read.classes == ("later", "soon", "now")
    assert read.output(read.frame) == pytest.approx(f(read.frame)[:, 1])
    assert Subject(spec, subject.table, predictor, Context(rows="all")).column == 2
    with pytest.raises(Refused, match="“never” is none of the classes"):
        _ = Subject(spec, subject.table, predictor, Context(rows="all", read_class="never")).column
    assert of_whole(read, 1).keys() >= {"rank_error", "accuracy"}
