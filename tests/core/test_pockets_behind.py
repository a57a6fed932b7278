"""What may lie behind a pocket: rows like these elsewhere, and what the model knows there, against plain definitions."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest
from tests.core.systems import system
from tests.core.test_pockets import decided, features
from tests.core.test_pockets_explained import ASKED, told, with_model

from zerotilt.core.meaning import Task
from zerotilt.core.pockets.counterparts import FEW_TWINS, counterparts, paired
from zerotilt.core.pockets.errors import errors_of
from zerotilt.core.pockets.explained import explain_pocket
from zerotilt.core.pockets.explained_result import PocketSettings
from zerotilt.core.pockets.found import search
from zerotilt.core.pockets.reasons import twins
from zerotilt.core.pockets.result import PocketsSettings
from zerotilt.core.predictors import Frame
from zerotilt.core.segments import meeting
from zerotilt.core.work import Work


def places(seed: int, n: int, tilt: float = 0.0):
    """Rows whose chance the model knows; on the isles what is recorded is moved by so much."""
    rng = np.random.default_rng(seed)
    place = rng.choice(["isle", "land"], n, p=[0.2, 0.8]).astype(object)
    a, c = rng.normal(size=n) + 0.8 * (place == "isle"), rng.uniform(size=n)
    way = rng.choice(["cart", "boat", "foot"], n).astype(object)
    chance = 1 / (1 + np.exp(-(a + (way == "cart") - c)))
    y = (rng.random(n) < np.clip(chance + tilt * (place == "isle"), 0, 1)).astype(float)
    return Frame({"a": a, "way": way, "c": c, "place": place}), place == "isle", y, chance


def test_counterparts_are_the_nearest_elsewhere_by_force():
    frame, inside, y, chance = places(1, 250)
    found = counterparts(frame, {"place"}, inside, np.ones(250, bool), y, chance, np.ones(250), 0.95, 3)
    others = np.flatnonzero(~inside)
    apart = (frame["way"][:, None] != frame["way"][None, others]).astype(float)
    for name in ("a", "c"):
        reach = np.subtract(*np.percentile(frame[name][others], [99, 1]))
        apart += np.minimum(np.abs(frame[name][:, None] - frame[name][None, others]) / reach, 1)
    apart /= 3
    among = apart[others].copy()
    np.fill_diagonal(among, np.inf)
    limit = np.quantile(among.min(axis=1), 0.99)
    rows = np.flatnonzero(inside & (apart.min(axis=1) <= limit))
    twins = others[apart[rows].argmin(axis=1)]
    assert (found.rows, found.elsewhere) == (len(rows), len(set(twins)))
    assert found.unlike == inside.sum() - len(rows)
    assert found.happened == pytest.approx(y[rows].mean())
    assert found.happened_elsewhere == pytest.approx(y[twins].mean())
    assert found.predicted - found.predicted_elsewhere == pytest.approx((chance[rows] - chance[twins]).mean())
    gaps = (y[rows] - chance[rows]) - (y[twins] - chance[twins])
    assert found.beyond.value == pytest.approx(gaps.mean())
    sums = np.array([(gaps[twins == one] - gaps.mean()).sum() for one in set(twins)])
    error = np.sqrt((sums**2).sum() * len(sums) / (len(sums) - 1)) / len(gaps)
    half = (found.beyond.high - found.beyond.low) / 2
    assert 1.96 * error < half < 2.1 * error  # Student's, of so many counterparts


@pytest.mark.parametrize("tilt", [0.0, -0.15])
def test_intervals_of_what_is_beyond_the_model_hold_it(tilt):
    held, alarms, many = 0, 0, 200
    for seed in range(many):
        frame, inside, y, chance = places(seed, 600, tilt)
        found = counterparts(frame, {"place"}, inside, np.ones(600, bool), y, chance, np.ones(600), 0.95, seed)
        truth = (np.clip(chance + tilt, 0, 1) - chance)[inside].mean()
        held += found.beyond.low <= truth <= found.beyond.high
        alarms += found.p <= 0.05
    assert held / many >= 0.91
    assert alarms / many <= 0.1 if tilt == 0 else alarms / many >= 0.5


def test_differences_that_share_a_counterpart_count_as_one():
    rng = np.random.default_rng(2)
    gaps = rng.normal(0.2, 1, 40)
    own = paired(gaps, np.ones(40), np.arange(40), 0.95)[0]
    doubled = paired(np.repeat(gaps, 2), np.ones(80), np.repeat(np.arange(40), 2), 0.95)[0]
    assert doubled.low == pytest.approx(own.low) and doubled.high == pytest.approx(own.high)
    few = paired(np.full(3, 0.25), np.ones(3), np.arange(3), 0.95)[0]
    assert paired(np.full(9, 0.25), np.ones(9), np.arange(9), 0.95) == (few, None)


@pytest.mark.parametrize(
    "case", ["nothing predicted", "told by everything", "few elsewhere", "none is near", "all inside"]
)
def test_nothing_is_said_where_nothing_can_be_matched(case):
    frame, inside, y, chance = places(4, 200)
    named, among, output = {"place"}, np.ones(200, bool), chance
    if case == "nothing predicted":
        output = None
    elif case == "told by everything":
        named = set(frame.names)
    elif case == "few elsewhere":
        among = inside | (np.cumsum(~inside) < FEW_TWINS)
    elif case == "none is near":
        frame = Frame({"a": np.where(inside, 1e9, frame["a"]), "way": np.where(inside, "sled", "cart").astype(object)})
    else:
        inside = np.ones(200, bool)
    assert counterparts(frame, named, inside, among, y, output, np.ones(len(y)), 0.95, 1) is None


def tilted(seed: int, n: int = 4_000, recorded: str = "y"):
    """A model that knows x; by boat, valid ones are recorded as not valid in three of ten cases."""
    rng = np.random.default_rng(seed)
    x, way = rng.uniform(0, 10, n).round(2), rng.choice(["cart", "boat"], n)
    y = (rng.random(n) < x / 10).astype(int)
    y[(way == "boat") & (rng.random(n) < 0.3)] = 0
    return system({"x": x, "way": way, recorded: y}, lambda rows: rows["x"] / 10, ["x", "way"])


def test_records_that_differ_from_rows_alike_are_said_with_their_numbers():
    subject, asked = tilted(1), PocketSettings(conditions="way=boat")
    result = explain_pocket(subject, asked, 3, Work())
    found, text = result.counterparts, told(result, "pocket", asked)
    assert found.gap.high < 0 and found.beyond.high < 0
    assert f"The outcome is recorded otherwise there: y is 1 in {found.happened:.1%} of {found.rows:,} rows" in text
    assert f"the mean score is {found.predicted:.1%} and {found.predicted_elsewhere:.1%}" in text
    right, _ = with_model(1)
    quiet = told(explain_pocket(right, PocketSettings(conditions="x>3"), 3, Work()), "pocket", asked)
    assert "recorded otherwise" not in quiet


def test_where_features_move_the_output_less_it_is_said():
    rng = np.random.default_rng(5)
    n = 3_000
    x, way = rng.uniform(0, 10, n).round(2), rng.choice(["cart", "boat"], n)

    def score(rows):
        return np.where(rows["way"] == "boat", 0.5 + 0.02 * (rows["x"] - 5) / 5, 0.05 + 0.09 * rows["x"])

    y = (rng.random(n) < np.where(way == "boat", 0.3 + 0.04 * x, 0.05 + 0.09 * x)).astype(int)
    asked = PocketSettings(conditions="way=boat", explained=1_000)
    result = explain_pocket(system({"x": x, "way": way, "y": y}, score, ["x", "way"]), asked, 3, Work())
    sizes = [sum(getattr(one, side).value for one in result.rungs) for side in ("size_inside", "size_outside")]
    assert [result.moved.inside.value, result.moved.outside.value] == pytest.approx(sizes)
    assert result.moved.difference.value == pytest.approx(sizes[0] - sizes[1])
    assert "The model has less to tell rows apart by there" in told(result, "pocket", asked)


def test_curves_of_both_sides_are_means_of_the_model_with_one_value_exchanged():
    subject, there = with_model(4, 300)
    result = explain_pocket(subject, ASKED, 3, Work())
    assert [(one.feature, one.told_by) for one in result.curves] == [("x", True), ("way", True)]
    x, way = result.curves
    assert [point.label for point in way.points] == ["boat", "cart"]
    assert [point.rows for point in way.points] == [there.sum(), 0] and [one.scarce for one in way.points] == [
        False,
        True,
    ]
    for point in x.points:  # the model knows x alone
        assert [point.inside, point.outside] == pytest.approx([0.9 if point.position > 4 else 0.1] * 2)
    for point in way.points:
        high = subject.table.numbers("x") > 4
        assert point.inside == pytest.approx(0.9) and point.outside == pytest.approx(
            np.where(high, 0.9, 0.1)[~there].mean(),
            abs=0.1,  # of 200 of them
        )


def test_what_was_found_in_a_sample_is_explained_of_the_same_sample():
    subject, _ = with_model(6, 4_000)
    settings = PocketsSettings(rows=1_500, halvings=4)
    found = search(subject, settings, 7, Work())
    assert found.sampled == 1_500 and found.rows_read == 1_500 and found.rows == 4_000
    first = found.pockets[0]
    asked = PocketSettings(conditions=first.typed, halving=first.halving, rows=1_500)
    result = explain_pocket(subject, asked, 7, Work())
    assert result.gap == first.gap and result.rows == 4_000 and result.sampled
    assert "the half of a sample in which it was not searched" in told(result, "pocket", asked)
    whole = explain_pocket(subject, PocketSettings(conditions=first.typed, halving=first.halving), 7, Work())
    assert not whole.sampled and whole.rows_read > result.rows_read


def test_twins_and_counterparts_are_asked_of_rows_in_which_nothing_was_searched():
    subject, _ = with_model(2)
    found = search(subject, PocketsSettings(halvings=5, error="false_positive_rate"), 7, Work()).pockets[0]
    asked = PocketSettings(conditions=found.typed, halving=found.halving, error="false_positive_rate")
    result = explain_pocket(subject, asked, 7, Work())
    meets = np.logical_and.reduce(
        [meeting(one, subject.table, subject.rows.numbers) for one in found.segment.conditions]
    )
    assert abs(result.twins.rows - meets.sum() / 2) < 3 * np.sqrt(meets.sum()) / 2 < meets.sum() / 2
    half = errors_of(subject, "false_positive_rate").m / 2
    assert abs(result.rows_read - half) <= 5


def noise(seed: int, n: int, way: str):
    """A table in which nothing tells the outcome, and a model that does not either; who is inside is told by one column."""
    rng = np.random.default_rng(seed)
    x, z = rng.uniform(size=n), rng.uniform(size=n)
    inside = z > 0.7
    y = rng.random(n) < 0.4 if way == "share" else rng.gamma(2.0, size=n)
    return Frame({"x": x, "z": z}), inside, y


@pytest.mark.parametrize("way", ["share", "number"])
def test_twins_of_rows_that_are_alike_inside_and_outside_are_told_apart_as_often_as_promised(way):
    """The nearest of a row is often nearest to it in turn, and to others: what they have in common is counted once."""
    tables, found = 400, []
    for seed in range(tables):
        frame, inside, y = noise(seed, 300, way)
        given = SimpleNamespace(rows=SimpleNamespace(outcome=y, mass=np.ones(300)))
        found.append(twins(given, frame, inside, np.ones(300, bool), way == "number", 0.95, seed).p)
    assert 0.02 <= np.mean(np.array(found) <= 0.05) <= 0.08, np.mean(np.array(found) <= 0.05)


def test_twins_and_counterparts_weigh_as_their_rows_do():
    rng = np.random.default_rng(8)
    frame, inside, y = noise(8, 240, "share")
    mass = rng.choice([0.0, 1.0, 3.0], 240)
    given = SimpleNamespace(rows=SimpleNamespace(outcome=y, mass=mass))
    found = twins(given, frame, inside, mass > 0, False, 0.95, 1)
    reach = {name: np.subtract(*np.percentile(frame[name][mass > 0], [99, 1])) for name in ("x", "z")}
    apart = sum(np.minimum(np.abs(frame[name][:, None] - frame[name]) / reach[name], 1) for name in ("x", "z"))
    apart[:, mass == 0] = np.inf
    np.fill_diagonal(apart, np.inf)
    other = y != y[apart.argmin(axis=1)]
    assert found.inside.value == pytest.approx(np.average(other[inside], weights=mass[inside]))
    assert found.outside.value == pytest.approx(np.average(other[~inside], weights=mass[~inside]))
    held = counterparts(frame, {"z"}, inside, mass > 0, y.astype(float), np.full(240, 0.4), mass, 0.95, 1)
    assert held.unlike > 0 or held.happened == pytest.approx(np.average(y[inside], weights=mass[inside]))
    rows = [counterparts(frame, {"z"}, inside, mass > 0, y * 1.0, np.full(240, 0.4), mass * k, 0.95, 1) for k in (1, 7)]
    assert rows[0].gap.low == pytest.approx(rows[1].gap.low) and rows[0].p == pytest.approx(rows[1].p)


def test_numbers_have_their_unit_and_decisions_alone_have_no_counterparts():
    rng = np.random.default_rng(9)
    recorded = decided(rng, features(rng, 900), np.full(900, 0.2))
    result = explain_pocket(recorded, PocketSettings(conditions="way=cart and x>0"), 1, Work())
    assert result.counterparts is None and result.moved is None and result.curves == ()


def test_an_audit_of_numbers_is_told_in_means():
    rng = np.random.default_rng(3)
    n = 2_000
    x, way = rng.uniform(0, 10, n), rng.choice(["cart", "boat"], n)
    y = x - 2 * (way == "boat") + rng.normal(0, 0.5, n)
    subject = system({"x": x, "way": way, "y": y}, lambda rows: rows["x"], ["x", "way"], task=Task.regression, event="")
    asked = PocketSettings(conditions="way=boat")
    text = told(explain_pocket(subject, asked, 1, Work()), "pocket", asked)
    assert "The outcome is recorded otherwise there: the mean outcome is" in text and "the mean prediction is" in text
