"""One pocket explained and columns cut by hand, against plain definitions in NumPy."""

from __future__ import annotations

import numpy as np
import pytest
from tests.core.systems import system
from tests.core.test_pockets import decided, features

from zerotilt.core.contributions.explain import explain
from zerotilt.core.meaning import Context, Role, Wording
from zerotilt.core.methods import METHODS
from zerotilt.core.pockets.by_hand import ErrorGridSettings, cut_by_hand
from zerotilt.core.pockets.errors import errors_of
from zerotilt.core.pockets.explained import explain_pocket
from zerotilt.core.pockets.explained_result import PocketSettings
from zerotilt.core.pockets.found import search
from zerotilt.core.pockets.hunt import dealt
from zerotilt.core.pockets.result import PocketsSettings
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import intervals
from zerotilt.core.work import Work


def told(result, method: str, settings) -> str:
    reading = METHODS[method].read(result, Wording(), settings)
    return " ".join([reading.text, reading.detail, *reading.points])


def with_model(seed: int, n: int = 1_500):
    """A model that knows x and way; what happens is close to a coin where x is over 7 by boat."""
    rng = np.random.default_rng(seed)
    x, way = rng.uniform(0, 10, n).round(1), rng.choice(["cart", "boat"], n)
    home = np.where(x > 6, rng.choice(["isles", "north"], n, p=[0.7, 0.3]), "north")
    chance = np.where(x > 4, 0.9, 0.1)
    there = (x > 7) & (way == "boat")
    y = (rng.random(n) < np.where(there, 0.5, chance)).astype(int)

    def score(rows):
        return np.where(rows["x"] > 4, 0.9, 0.1)

    return system({"x": x, "way": way, "home": home, "y": y}, score, ["x", "way"], roles={"home": Role.group}), there


ASKED = PocketSettings(conditions="x>7 and way=boat")


def test_conditions_are_left_out_one_by_one():
    subject, there = with_model(1)
    result = explain_pocket(subject, ASKED, 3, Work())
    wrong = errors_of(subject, "").values
    x, way = subject.table.numbers("x"), subject.table.texts("way")
    by_name = {one.condition: one for one in result.without}
    assert set(by_name) == {"x over 7", "way is boat"}
    assert by_name["x over 7"].gap.inside.value == pytest.approx(wrong[way == "boat"].mean())
    assert by_name["way is boat"].only_without.value == pytest.approx(wrong[(x > 7) & (way != "boat")].mean())
    assert by_name["way is boat"].rows_without == ((x > 7) & (way != "boat")).sum()
    assert result.gap.inside.value == pytest.approx(wrong[there].mean()) and result.gap.inside.rows == there.sum()
    assert [one.gap.inside.value for one in result.without] == sorted(one.gap.inside.value for one in result.without)


def test_figures_of_a_pocket_that_was_found_are_of_the_half_that_did_not_find_it():
    subject, _ = with_model(2)
    found = search(subject, PocketsSettings(halvings=5), 7, Work()).pockets[0]
    result = explain_pocket(subject, PocketSettings(conditions=found.typed, halving=found.halving), 7, Work())
    assert result.gap == found.gap
    block, halves = dealt(errors_of(subject, ""), found.halving + 1, 7)
    assert result.rows_read == (~halves[found.halving][block]).sum()
    again = explain_pocket(subject, PocketSettings(), 7, Work())  # nothing is asked for: the surest one
    surest = search(subject, PocketsSettings(), 7, Work()).pockets[0]
    assert again.typed == surest.typed and again.gap == surest.gap


def test_twins_are_nearest_other_rows_by_force():
    subject, there = with_model(3, 400)
    twins = explain_pocket(subject, ASKED, 3, Work()).twins
    x, boat, y = subject.table.numbers("x"), subject.table.texts("way") == "boat", subject.rows.outcome
    reach = np.subtract(*np.percentile(x, [99, 1]))
    apart = np.minimum(np.abs(x[:, None] - x[None, :]) / reach, 1) + (boat[:, None] != boat[None, :])
    np.fill_diagonal(apart, np.inf)
    nearest = apart.min(axis=1)
    # of rows equally near, any may be taken: the share lies between the least and the most that they allow
    other = (y[None, :] != y[:, None]) & (apart <= nearest[:, None] + 1e-12)
    same = (y[None, :] == y[:, None]) & (apart <= nearest[:, None] + 1e-12)
    for value, mask in ((twins.inside.value, there), (twins.outside.value, ~there)):
        assert (~same.any(axis=1))[mask].mean() - 1e-9 <= value <= other.any(axis=1)[mask].mean() + 1e-9
    assert twins.rows == there.sum() and twins.inside.value > twins.outside.value


def test_contributions_inside_and_outside_are_those_of_their_rows():
    subject, there = with_model(4, 300)
    result = explain_pocket(subject, PocketSettings(conditions=ASKED.conditions, explained=400), 3, Work())
    every = explain(subject, subject.rows.numbers, 3, Work(), most_pairs=256)
    by_name = {one.feature: one for one in result.rungs}
    for j, name in enumerate(every.features):
        inside, outside = every.values[there, j].mean(), every.values[~there, j].mean()
        assert by_name[name].inside.value == pytest.approx(inside, abs=1e-9)
        assert by_name[name].difference.value == pytest.approx(inside - outside, abs=1e-9)
        assert by_name[name].size_outside.value == pytest.approx(np.abs(every.values[~there, j]).mean(), abs=1e-9)
    assert result.rows_explained == subject.n


def test_what_goes_with_a_group_is_its_gap_less_the_one_without_the_pocket():
    subject, there = with_model(5, 6_000)
    result = explain_pocket(subject, ASKED, 3, Work())
    wrong, isles = errors_of(subject, "").values, subject.table.texts("home") == "isles"
    one = next(group for group in result.groups if group.group == "isles")
    gap = wrong[isles].mean() - wrong[~isles].mean()
    left = wrong[isles & ~there].mean() - wrong[~isles & ~there].mean()
    assert one.gap.value == pytest.approx(gap) and one.gap_elsewhere.value == pytest.approx(left)
    assert one.accounts_for == pytest.approx(1 - left / gap) and one.accounts_for > 0.5
    assert one.inside == pytest.approx(isles[there].mean()) and one.outside == pytest.approx(isles[~there].mean())
    assert "of the gap of home isles in the error rate goes with its rows" in told(result, "pocket", ASKED)


def test_reasons_are_given_where_their_rules_hold_and_not_where_they_do_not():
    subject, _ = with_model(6, 4_000)
    text = told(explain_pocket(subject, ASKED, 3, Work()), "pocket", ASKED)
    assert "The features tell the outcome less well there" in text
    assert "The score is too high there: 90.0% on average" in text
    quiet = PocketSettings(conditions="x<=3 and way=cart")
    assert "It is no denser there than elsewhere." in told(explain_pocket(subject, quiet, 3, Work()), "pocket", quiet)
    noise = with_noise(6)
    asked = PocketSettings(conditions="z>0")
    assert "None of what is looked for below lies behind it" in told(
        explain_pocket(noise, asked, 3, Work()), "pocket", asked
    )


def with_noise(seed: int):
    """Scores that are as right everywhere; where z is over 0 a few more are wrong by chance alone."""
    rng = np.random.default_rng(seed)
    n = 2_000
    x, z = rng.uniform(size=n), rng.normal(size=n)
    y = (rng.random(n) < x).astype(int)
    wrong = (x >= 0.5) != y
    if wrong[z > 0].mean() <= wrong[z <= 0].mean():
        z = -z
    return system({"x": x, "z": z, "y": y}, lambda rows: rows["x"], ["x"])


def test_few_rows_to_learn_from_are_said():
    rng = np.random.default_rng(7)
    n = 4_000
    split = np.where(np.arange(n) < 2_000, "training", "test")
    way = np.where(
        split == "training",
        rng.choice(["cart", "boat"], n, p=[0.99, 0.01]),
        rng.choice(["cart", "boat"], n, p=[0.8, 0.2]),
    )
    x, y = rng.normal(size=n), rng.integers(0, 2, n)
    subject = system(
        {"x": x, "way": way, "split": split, "y": y}, lambda rows: np.full(rows.rows, 0.6), ["x", "way"],
        roles={"split": Role.split}, context=Context(rows="hold-out"), holdout_values=("test",), training_values=("training",),
    )  # fmt: skip
    asked = PocketSettings(conditions="way=boat")
    result = explain_pocket(subject, asked, 1, Work())
    assert result.trained.training == pytest.approx((way[:2000] == "boat").mean())
    assert result.trained.here == pytest.approx((way[2000:] == "boat").mean())
    assert "Few such rows were there to learn from" in told(result, "pocket", asked)
    assert result.without == ()  # one condition alone carries it


def test_examples_went_as_they_are_said_to():
    subject, there = with_model(8)
    result = explain_pocket(subject, ASKED, 3, Work())
    wrong = errors_of(subject, "").values
    assert {one.went for one in result.examples} == {"wrong", "right"}
    for one in result.examples:
        assert there[one.row] and wrong[one.row] == (one.went == "wrong") == one.error


def test_recorded_decisions_are_explained_without_contributions():
    rng = np.random.default_rng(9)
    subject = decided(rng, features(rng, 900), np.full(900, 0.2))
    asked = PocketSettings(conditions="way=cart and x>0")
    result = explain_pocket(subject, asked, 1, Work())
    assert result.rungs == () and result.rows_explained == 0 and result.trained is None
    assert {one.metric for one in result.sides} == {
        "base_rate", "selection_rate", "accuracy", "false_positive_rate", "false_negative_rate",
    }  # fmt: skip
    assert "nan" not in told(result, "pocket", asked)


@pytest.mark.parametrize(
    ("conditions", "message"),
    [
        ("x>1000", "None of these 900 rows meet the conditions"),
        ("x>-1000 or x=", "conditions that are met together"),
        ("nowhere=1", "nowhere"),
        ("way>3", "holds no numbers"),
    ],
)
def test_conditions_that_make_no_pocket_are_refused(conditions, message):
    rng = np.random.default_rng(9)
    subject = decided(rng, features(rng, 900), np.full(900, 0.2))
    with pytest.raises(Refused, match=message):
        explain_pocket(subject, PocketSettings(conditions=conditions), 1, Work())


@pytest.mark.parametrize("seed", range(3))
def test_cells_cut_by_hand_are_counted_and_tested_against_all_others(seed):
    rng = np.random.default_rng(seed)
    n = 1_200
    columns = features(rng, n)
    weighed = {"w": rng.choice([0.0, 1.0, 2.0], n)} if seed else {}
    chance = 0.1 + 0.5 * ((np.nan_to_num(columns["x"], nan=-9) > 1) & (columns["way"] == "cart"))
    subject = decided(rng, columns | weighed, chance, roles={"w": Role.weight} if seed else {})
    result = cut_by_hand(subject, ErrorGridSettings(first="x", second="way"), 1, Work())
    errors = errors_of(subject, "")
    w, wrong = errors.mass, errors.values
    x, way = columns["x"][errors.places], columns["way"][errors.places]
    assert sum(one.rows for one in result.cells) == errors.m and result.left_out == 0
    p = []
    for one in result.cells:
        first, second = one.segment.conditions
        low, high = first.over, first.up_to
        inside = (
            np.isnan(x)
            if first.missing
            else (~np.isnan(x)) & (x > (-np.inf if low is None else low)) & (x <= (np.inf if high is None else high))
        )
        inside &= np.array(
            [(level is None) == second.missing and (second.missing or level in second.levels) for level in way]
        )
        assert one.rows == inside.sum()
        if one.gap is not None:
            assert one.gap.inside.value == pytest.approx(np.average(wrong[inside], weights=w[inside]))
        p.append(one.gap.p if one.gap is not None and 30 <= inside.sum() <= errors.m - 30 else np.nan)
    adjusted = intervals.adjust(p)
    for one, q in zip(result.cells, adjusted, strict=True):
        assert one.p_adjusted == (pytest.approx(q) if np.isfinite(q) else None)
        assert (one.mark == "denser") == bool(q <= 0.05 and one.gap.difference.value > 0)
        assert one.mark != "too few" or one.rows < 30
    assert any(one.mark == "denser" for one in result.cells)


def test_the_two_columns_that_say_most_together_are_drawn_first():
    subject, _ = with_model(10, 3_000)
    result = cut_by_hand(subject, ErrorGridSettings(), 1, Work())
    assert {result.first, result.second} == {"x", "way"}
    alone = cut_by_hand(subject, ErrorGridSettings(first="way"), 1, Work())
    assert alone.second == "" and alone.across == ("",) and len(alone.cells) == 2


@pytest.mark.parametrize(
    ("settings", "message"),
    [
        ({"first": "nowhere"}, "“nowhere” cannot be cut"),
        ({"first": "x", "second": "x"}, "“x” was chosen twice"),
        ({"first": "one"}, "is the same in all of these rows"),
        ({"error": "taken_for"}, "cannot be read here"),
    ],
)
def test_what_cannot_be_cut_is_refused(settings, message):
    rng = np.random.default_rng(9)
    subject = decided(rng, features(rng, 300) | {"one": np.ones(300)}, np.full(300, 0.2))
    with pytest.raises(Refused, match=message):
        cut_by_hand(subject, ErrorGridSettings(**settings), 1, Work())


def test_fourteen_rows_are_cut_and_nothing_is_claimed():
    rng = np.random.default_rng(1)
    subject = decided(rng, features(rng, 14), np.full(14, 0.5))
    asked = ErrorGridSettings(first="way", second="x")
    result = cut_by_hand(subject, asked, 1, Work())
    assert {one.mark for one in result.cells} <= {"too few", "no rows"} and result.tested == 0
    text = told(result, "error_grid", asked)
    assert "in no cell higher" in text and "nan" not in text
