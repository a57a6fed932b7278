"""Crossings, one group opened, drivers of the gap, both sides, thresholds, and the guide."""

from dataclasses import replace

import numpy as np
import pytest
from scipy import stats
from tests.core.systems import matrix, system
from tests.core.test_tilt_elsewhere import with_columns
from tests.core.two_groups import ROLES, TWO_GROUPS, rows_of

from zerotilt.core.groups import given, guide, lattice, opened, score_gap, sides, thresholds
from zerotilt.core.groups.given_result import GivenSettings
from zerotilt.core.groups.guide import Answers
from zerotilt.core.groups.lattice import LatticeSettings
from zerotilt.core.groups.opened import OpenedSettings
from zerotilt.core.groups.score_gap import ScoreGapSettings
from zerotilt.core.groups.sides import SidesSettings
from zerotilt.core.groups.threshold_counts import EDGES
from zerotilt.core.groups.threshold_result import ThresholdSettings
from zerotilt.core.meaning import Context, GroupThreshold, Role, Rule, Task, Wording
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work


def scored(n=4_000, seed=0, context=None, **more):
    """Group b has lower scores, and outcomes to match."""
    rng = np.random.default_rng(seed)
    g = rng.choice(["a", "b"], n, p=[0.6, 0.4])
    s = np.clip(rng.beta(3, 2, n) - 0.15 * (g == "b"), 0.001, 0.999)
    columns = {"g": g, "s": s, "y": (rng.random(n) < s).astype(int)}
    return system(columns, roles={"g": Role.group, "s": Role.score}, context=context, **more)


def test_a_gap_that_is_only_in_a_crossing_is_found():
    rng = np.random.default_rng(1)
    n = 6_000
    one, two, number = rng.choice(["p", "q"], n), rng.choice(["r", "t"], n), rng.uniform(0, 10, n)
    # who is decided for depends on both together, and on neither alone
    d = rng.random(n) < np.where((one == "p") == (two == "r"), 0.7, 0.3)
    columns = {"one": one, "two": two, "number": number, "y": rng.integers(0, 2, n), "d": d.astype(int)}
    roles = {"one": Role.group, "two": Role.group, "number": Role.group, "d": Role.decision}
    subject = with_columns(system(columns, roles=roles), number={"cuts": (5.0,)})
    result = lattice.crossings_of(subject, LatticeSettings(), 1, Work())
    only = {node.group for node in result.nodes if node.only_here}
    assert only == {"p · r", "p · t", "q · r", "q · t"}
    deep = next(node for node in result.nodes if node.group == "p · r · number up to 5")
    assert deep.levels == ("p", "r", "up to 5") and deep.status == "flagged" and not deep.only_here
    assert sum(node.rows for node in result.nodes if node.depth == 3) == n
    text = lattice.say(result, Wording(rows="claims"), LatticeSettings()).text
    assert text.startswith("A gap that is only in the crossing")


def test_crossings_are_adjusted_over_all_that_are_shown():
    rng = np.random.default_rng(2)
    flagged = total = 0
    for _ in range(12):
        n = 1_500
        columns = {name: rng.choice(list("xyz"), n) for name in "gh"} | {
            "y": rng.integers(0, 2, n),
            "d": rng.integers(0, 2, n),
        }
        subject = system(columns, roles={"g": Role.group, "h": Role.group, "d": Role.decision})
        result = lattice.crossings_of(subject, LatticeSettings(), 1, Work())
        flagged, total = flagged + sum(node.status == "flagged" for node in result.nodes), total + len(result.nodes)
    assert flagged <= 0.05 * total


@pytest.mark.parametrize("metric", ["auc", "calibration_error", "brier_score"])
def test_crossings_take_any_metric(metric):
    result = lattice.crossings_of(scored(800), LatticeSettings(metric=metric), 1, Work())
    assert [node.own.value is not None for node in result.nodes] == [True, True]


def test_one_group_opened_by_hand():
    subject = system(rows_of(TWO_GROUPS), roles=ROLES)
    result = opened.open_group(subject, OpenedSettings(), 1, Work())
    assert (result.group, result.reference) == ("b", "a")
    cells = {(c.side, c.happened, c.decided): c for c in result.cells}
    missed = cells["b", "event happened", "event not predicted"]
    assert (missed.rows, missed.share.value) == (30, 0.5)
    assert not result.curve and not result.bars


def test_curves_and_distances_of_scores_equal_other_implementations():
    from sklearn.metrics import roc_curve

    subject = scored(500)
    result = opened.open_group(subject, OpenedSettings(group="b"), 1, Work())
    inside = subject.table.texts("g") == "b"
    s, y = subject.predictions.scores, subject.rows.outcome
    expected = roc_curve(y[inside], s[inside], drop_intermediate=False)
    points = set(zip(expected[0].round(9), expected[1].round(9), strict=True))
    mine = [one for one in result.curve if one.side == "b"]
    assert len(mine) <= opened.POINTS + 1
    assert {(round(one.false_positive_rate, 9), round(one.true_positive_rate, 9)) for one in mine} <= points
    distance = result.distances[0]
    assert distance.kolmogorov_smirnov == pytest.approx(stats.ks_2samp(s[inside], s[~inside]).statistic)
    assert distance.wasserstein == pytest.approx(stats.wasserstein_distance(s[inside], s[~inside]))
    assert sum(bar.rows for bar in result.bars if bar.side == "b") == inside.sum()
    assert sum(bin.rows for bin in result.calibration if bin.side == "a") == (~inside).sum()


def test_a_single_class_in_a_group_is_said():
    subject = system(
        {"g": ["a"] * 60 + ["b"] * 60, "s": np.linspace(0.1, 0.9, 120), "y": [0, 1] * 30 + [1] * 60},
        roles={"g": Role.group, "s": Role.score},
    )
    result = opened.open_group(subject, OpenedSettings(group="b"), 1, Work())
    assert result.notes == ("In b the event always happened, so it has no ROC curve.",)
    assert {one.side for one in result.curve} == {"a"}


def test_the_group_that_is_opened_first_is_the_worst_off_by_weight():
    groups = ["a"] * 40 + ["b"] * 20 + ["c"] * 20
    # of b a quarter of the rows is decided favourably, but three quarters of the weight; c is decided so half the time
    score = [0.9] * 40 + [0.9] * 5 + [0.1] * 15 + [0.9] * 10 + [0.1] * 10
    weight = [1.0] * 40 + [9.0] * 5 + [1.0] * 15 + [1.0] * 20
    columns = {"g": np.array(groups, object), "s": np.array(score), "y": (np.array(score) > 0.5).astype(int)}
    plain = {"g": Role.group, "s": Role.score}
    for roles, more, first in ((plain, {}, "b"), (plain | {"w": Role.weight}, {"w": np.array(weight)}, "c")):
        found = opened.open_group(system(columns | more, roles=roles, favourable="event"), OpenedSettings(), 1, Work())
        assert found.group == first


def test_numbers_and_classes_are_opened_too():
    rng = np.random.default_rng(3)
    y = rng.normal(5, 1, 200)
    number = system(
        {"g": ["a", "b"] * 100, "s": y + 0.5, "y": y}, roles={"g": Role.group, "s": Role.score}, task=Task.regression
    )
    result = opened.open_group(number, OpenedSettings(), 1, Work())
    assert {one.quantity for one in result.distances} == {"prediction", "error"}
    assert result.metrics_group["mean_error"].value == pytest.approx(0.5)
    classes = system(
        {"g": ["a", "b"] * 90, "y": list("pqr") * 60, "d": list("pqp") * 60}, roles=ROLES, task=Task.several, event="p"
    )
    cells = opened.open_group(classes, OpenedSettings(), 1, Work()).cells
    assert len(cells) == 2 * 9 and sum(cell.rows for cell in cells) == 180


def test_the_drivers_of_a_gap_add_up_to_it():
    rng = np.random.default_rng(4)
    g = rng.choice(["a", "b"], 600)
    x = {f"x{j}": rng.normal(0, 1, 600) for j in range(3)}
    x["x0"] += 1.0 * (g == "b")

    def linear(frame):
        return 1 / (1 + np.exp(-(matrix(frame) @ np.array([0.8, -0.5, 0.0]))))

    subject = system(
        x | {"g": g, "y": rng.integers(0, 2, 600)},
        linear,
        list(x),
        {"g": Role.group},
        Context(rows="all", output="log-odds"),
    )
    asked = ScoreGapSettings(group="b", reference="a", explained=10_000)
    result = score_gap.gap_of_scores(subject, asked, 1, Work())
    assert sum(one.gap.value for one in result.features) == pytest.approx(result.gap.value)
    assert result.gap.value == pytest.approx(result.all_rows_gap)
    first = result.features[0]
    inside = g == "b"
    assert first.feature == "x0"
    assert first.gap.value == pytest.approx(0.8 * (x["x0"][inside].mean() - x["x0"][~inside].mean()), abs=2e-3)
    assert "x0 accounts for" in score_gap.say(result, Wording(rows="claims"), asked).text


def both_sides(**more):
    rng = np.random.default_rng(5)
    n = 4_000
    g = rng.choice(["a", "b"], n, p=[0.6, 0.4])
    deserved = rng.random(n) < np.where(g == "b", 0.5, 0.6)
    s = np.clip(0.15 + 0.6 * deserved - 0.12 * (g == "b") + rng.normal(0, 0.2, n), 0, 1)
    columns = {"g": g, "y": deserved.astype(int), "s": s, "d": (rng.random(n) < 0.5).astype(int)}
    columns["split"] = np.where(np.arange(n) % 3 == 0, "test", "train")
    roles = {"g": Role.group, "s": Role.score, "d": Role.decision, "split": Role.split}
    more = {"holdout_values": ("test",), "training_values": ("train",)} | more
    return system(columns, roles=roles, context=Context(rows="hold-out"), **more)


def test_labels_training_rows_and_people_are_set_beside_the_decisions():
    subject = both_sides()
    result = sides.set_beside(subject, SidesSettings(), 1, Work())
    found = {one.pairing: one for one in result.gaps}
    assert set(found) == {"labels and decisions", "training and hold-out", "recorded and the model's"}
    labels = found["labels and decisions"]
    assert labels.verdict == "wider"
    assert labels.change.value == pytest.approx(labels.second_ratio.value / labels.first_ratio.value)
    inside = subject.table.texts("g")[subject.rows.numbers] == "b"
    assert labels.first.value == pytest.approx(subject.rows.outcome[inside].mean())
    assert labels.second.value == pytest.approx(subject.decisions.predicted[inside].mean())
    assert found["training and hold-out"].verdict == "not told apart"
    people = found["recorded and the model's"]
    assert people.first.value == pytest.approx((subject.table.texts("d")[subject.rows.numbers] == "1")[inside].mean())
    shares = {(one.split, one.group): one for one in result.splits}
    assert sum(one.rows for one in shares.values()) == 4_000
    assert sum(shares["test", g].share.value for g in "ab") == pytest.approx(1)
    assert "error rates take them for the truth" in sides.say(result, Wording(), SidesSettings()).detail


def test_what_cannot_stand_side_by_side_is_said():
    subject = system(rows_of(TWO_GROUPS), roles=ROLES)
    result = sides.set_beside(subject, SidesSettings(), 1, Work())
    assert result.pairings == ("labels and decisions",)
    assert any("All rows are read" in note for note in result.notes)
    assert any("recorded decisions only" in note for note in result.notes)
    number = system({"g": ["a", "b"], "y": [1.0, 2.0]}, roles={"g": Role.group}, task=Task.regression)
    with pytest.raises(Refused, match="Nothing is decided about a number"):
        sides.set_beside(number, SidesSettings(), 1, Work())


def test_a_group_of_few_or_weightless_rows_claims_nothing_about_labels_or_strata():
    rng = np.random.default_rng(9)
    n = 600
    g = np.array(["few"] * 14 + ["light"] * 60 + ["rest"] * (n - 74))
    y = np.where(g == "rest", rng.integers(0, 2, n), 1)
    columns = {
        "g": g,
        "y": y,
        "d": rng.integers(0, 2, n),
        "place": rng.choice(["p", "q"], n),
        "w": np.where(g == "light", 0.0, 1.0),
    }
    subject = system(columns, roles=ROLES | {"w": Role.weight})
    result = sides.set_beside(subject, SidesSettings(), 1, Work())
    assert {one.group: one.verdict for one in result.gaps} == {"few": "too few", "light": "not defined"}
    assert next(one for one in result.gaps if one.group == "light").first_ratio.value is None
    assert "The labels themselves differ" not in sides.say(result, Wording(), SidesSettings()).detail
    asked = GivenSettings(attribute="g", group="few")
    within = given.compare_given(subject, asked, 1, Work())
    assert within.verdict == "cannot be told"
    assert "One side has 14 rows; the flag policy asks for 30." in given.say(within, Wording(), asked).detail


def test_columns_whose_groups_overlap_are_not_crossed():
    subject = with_columns(system(rows_of(TWO_GROUPS) | {"h": ["p", "q"] * 160}, roles=ROLES), g={"separator": ";"})
    with pytest.raises(Refused, match="overlap"):
        lattice.crossings_of(subject, LatticeSettings(columns=("g", "h")), 1, Work())


def cost_of(subject, cuts, fp, fn):
    d = subject.predictions.scores >= cuts
    return (fp * (d & ~subject.rows.outcome) + fn * (~d & subject.rows.outcome)).mean()


@pytest.mark.parametrize(("fp", "fn"), [(1, 1), (3, 1), (1, 5)])
def test_the_least_cost_threshold_is_the_best_of_all(fp, fn):
    subject = scored(1_500)
    result = thresholds.thresholds_of(subject, ThresholdSettings(false_positive=fp, false_negative=fn), 1, Work())
    single = result.settings[0]
    every = [cost_of(subject, cut, fp, fn) for cut in EDGES]
    assert single.cost == pytest.approx(min(every))
    assert single.cost == pytest.approx(cost_of(subject, single.rule.threshold, fp, fn))
    apart = result.settings[1]
    own = {one.group: one.threshold for one in apart.rule.thresholds}
    cuts = np.array([own[g] for g in subject.table.texts("g")])
    assert apart.cost == pytest.approx(cost_of(subject, cuts, fp, fn))
    assert apart.cost <= single.cost + 1e-12
    assert result.current.cost == pytest.approx(cost_of(subject, 0.5, fp, fn))


def test_each_aim_reaches_its_parity_and_its_price_is_counted():
    subject = scored()
    result = thresholds.thresholds_of(subject, ThresholdSettings(), 1, Work())
    by_name = {one.name: one for one in result.settings}
    for aim, held in thresholds.AIMS.items():
        one = by_name[aim]
        if held is not None:
            assert one.gaps[held] <= 0.011, aim
        assert one.price >= by_name["least cost, one a group"].price - 1e-12
        assert one.price == pytest.approx(one.cost - by_name["least cost, one for all"].cost)
        now = {t.group: t.threshold for t in one.rule.thresholds}
        decided = subject.predictions.scores >= np.array([now[g] for g in subject.table.texts("g")])
        assert one.gain == (decided & ~subject.decisions.predicted).sum()
        assert one.lose == (~decided & subject.decisions.predicted).sum()
        assert one.accuracy == pytest.approx((decided == subject.rows.outcome).mean())
    both = by_name["both error rates"]
    single = by_name["least cost, one for all"]
    assert abs(both.selection_rate - single.selection_rate) <= 0.011
    largest = max(both.gaps["true positive rate"], both.gaps["false positive rate"])
    assert largest <= max(single.gaps["true positive rate"], single.gaps["false positive rate"])


def test_the_frontier_falls_as_the_gap_may_grow():
    result = thresholds.thresholds_of(scored(), ThresholdSettings(gap="true positive rate"), 1, Work())
    costs = [point.cost for point in result.frontier]
    assert costs == sorted(costs, reverse=True) and len(costs) > 3
    assert all(point.gap <= point.allowed + 1e-9 for point in result.frontier)


def test_histograms_count_every_row_once_and_a_score_at_a_threshold_is_above_it():
    subject = system(
        {"g": ["a", "a", "b", "b"], "s": [0.5, 0.4999, 0.3, 1.0], "y": [1, 0, 0, 1]},
        roles={"g": Role.group, "s": Role.score},
    )
    result = thresholds.thresholds_of(subject, ThresholdSettings(), 1, Work())
    a, b = result.histograms
    assert (a.places, a.with_event, a.without) == ((499, 500), (0, 1), (1, 0))
    assert b.places == (300, 1000)
    assert result.few == ("a", "b")


def test_people_gain_when_the_event_is_the_unfavourable_decision_and_fewer_are_predicted():
    subject = scored(favourable="other")
    result = thresholds.thresholds_of(subject, ThresholdSettings(false_positive=6), 1, Work())
    single = result.settings[0]
    assert single.rule.threshold > 0.5
    assert single.gain == (subject.decisions.predicted & ~(subject.predictions.scores >= single.rule.threshold)).sum()
    assert single.lose == 0


def test_a_rule_in_force_is_where_gain_and_loss_are_counted_from():
    rule = Rule(threshold=0.5, columns=("g",), thresholds=(GroupThreshold(group="b", threshold=0.35),))
    result = thresholds.thresholds_of(scored(context=Context(rows="all", rule=rule)), ThresholdSettings(), 1, Work())
    assert [one.threshold for one in result.current.groups] == [0.5, 0.35]
    assert (result.current.gain, result.current.lose) == (0, 0)


@pytest.mark.parametrize(
    ("subject", "asked", "message"),
    [
        (lambda: scored(60), {"false_positive": 0, "false_negative": 0}, "Both costs are zero"),
        (lambda: system(rows_of(TWO_GROUPS), roles=ROLES), {}, "without scores"),
        (lambda: with_columns(scored(60), g={"separator": ";"}), {}, "cannot have thresholds of their own"),
        (lambda: replace(scored(60), spec=scored(60).spec.model_copy(update={"task": Task.several})), {}, "an event"),
    ],
)
def test_what_cannot_be_weighed_is_refused(subject, asked, message):
    with pytest.raises(Refused, match=message):
        thresholds.thresholds_of(subject(), ThresholdSettings(**asked), 1, Work())


@pytest.mark.parametrize(
    ("answers", "first", "among"),
    [
        ({"effect": "gives something", "harmed": "wrongly unfavourable", "labels": "tilted"}, "selection_rate", "base_rate"),
        ({"effect": "gives something", "harmed": "wrongly unfavourable", "labels": "trusted"}, "true_positive_rate", "selection_rate"),
        ({"effect": "takes something", "harmed": "wrongly favourable", "labels": "trusted"}, "false_positive_rate", "positive_predictive_value"),
        ({"effect": "orders", "harmed": "neither", "labels": "unknown"}, "calibration_error", "auc"),
    ],
)  # fmt: skip
def test_the_guide_proposes_what_the_answers_call_for(answers, first, among):
    found = guide.propose(Answers(**answers), Task.binary, "event", Wording(favourable="settled at once"))
    assert found[0].metric == first
    assert among in {one.metric for one in found}
    assert all(one.reason.endswith(".") for one in found)


def test_the_guide_follows_what_is_predicted_and_which_decision_is_favourable():
    told = Answers(effect="gives something", harmed="wrongly unfavourable", labels="trusted")
    other = guide.propose(told, Task.binary, "other", Wording())
    assert other[0].metric == "true_negative_rate"
    number = guide.propose(told, Task.regression, "event", Wording())
    assert {one.metric for one in number} == {"mean_error", "mae", "mean_prediction"}
