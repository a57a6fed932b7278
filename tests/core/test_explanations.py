"""Methods beyond contributions, against functions whose answers are known by hand."""

from __future__ import annotations

from itertools import permutations

import numpy as np
import pytest
from scipy import stats
from tests.core import zoo
from tests.core.systems import frame, matrix, system
from tests.core.three_numbers import WORDING, numbers

from zerotilt.core.contributions import checks, ladder, surrogate
from zerotilt.core.contributions.explain import explain
from zerotilt.core.contributions.game import background
from zerotilt.core.contributions.sampled import sample_permutations
from zerotilt.core.groups.measure import of_whole
from zerotilt.core.meaning import Context, Kind, Task
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.response import accumulated, expected, interactions, surface
from zerotilt.core.response.support import support_of
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

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


# measures of a set of predictions


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
