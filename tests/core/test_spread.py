"""The spread of contributions: quantiles along a feature's values, told apart by another column."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.systems import system

from zerotilt.core.drivers import spread
from zerotilt.core.drivers.spread import SpreadSettings
from zerotilt.core.meaning import Context, Task, Wording
from zerotilt.core.refusal import Refused
from zerotilt.core.response.parts import parts_of
from zerotilt.core.work import Work


def crossed(f):
    """Rises with x for a, falls for b; ``idle`` does nothing."""
    return np.where(f["kind"] == "a", 1.0, -1.0) * f["x"] + 0.5 * f["z"]


def subject_of(n=300, missing=0.0, seed=1):
    rng = np.random.default_rng(seed)
    x = rng.uniform(-1, 1, n)
    x[rng.random(n) < missing] = np.nan
    columns = {
        "x": x,
        "z": rng.normal(size=n),
        "kind": np.array(["a", "b"], dtype=object)[rng.integers(0, 2, n)],
        "idle": rng.integers(0, 4, n).astype(float),
    }

    def function(f):
        return crossed({k: np.nan_to_num(f[k]) if k == "x" else f[k] for k in ("x", "z", "kind")})

    return system(
        columns | {"y": rng.normal(size=n)}, function, ["x", "z", "kind", "idle"], task=Task.regression, event="",
        context=Context(rows="all"),
    )  # fmt: skip


def test_contributions_of_an_additive_feature_lie_on_its_line():
    subject = subject_of()
    result = spread.spread_out(subject, SpreadSettings(feature="z", sampled=300), 1, Work())
    assert result.numeric and len(result.stretches) <= spread.MOST_BINS
    mean = subject.frame["z"].mean()
    for one in result.stretches:
        assert one.p50 == pytest.approx(0.5 * (one.position - mean), abs=0.15)
        assert one.p10 <= one.p25 <= one.p50 <= one.p75 <= one.p90
    assert sum(one.rows for one in result.stretches) == 300


def test_lanes_go_from_the_lowest_values_to_the_highest_and_count_every_row():
    result = spread.spread_out(subject_of(), SpreadSettings(sampled=300), 1, Work())
    lanes = [one for one in result.lanes if one.feature == "z"]
    assert [one.lane for one in lanes] == [0, 1, 2, 3, 4]
    assert [one.p50 for one in lanes] == sorted(one.p50 for one in lanes)
    assert sum(one.rows for one in lanes) == 300
    assert result.features[-1] == "idle"
    few = [one.label for one in result.lanes if one.feature == "idle"]
    assert few == ["0", "1", "2", "3"]


def test_a_colour_shows_what_works_together():
    result = spread.spread_out(subject_of(), SpreadSettings(feature="x", colour="kind", sampled=300), 1, Work())
    assert sorted(result.parts) == ["a", "b"]
    assert 0.4 < result.parted.low < result.parted.value < result.parted.high
    at = {one.part: one for one in result.stretches if one.label == result.parted_at}
    assert result.parted.value == pytest.approx(abs(at["a"].mean - at["b"].mean))
    said = spread.say(result, Wording(unit="days"), SpreadSettings()).text
    assert f"By kind they differ, at x {result.parted_at} by {result.parted.value:.4g} days on average" in said


def test_a_colour_that_has_nothing_to_do_with_it_claims_a_gap_no_more_often_than_promised():
    """Bins of few rows lie apart by chance; that is no finding."""
    settings = SpreadSettings(feature="x", colour="idle", sampled=150)
    found = [spread.spread_out(subject_of(150, seed=seed), settings, seed, Work()) for seed in range(30)]
    none = [one for one in found if one.parted.low <= 0]
    assert len(none) >= 27  # of 30 at 95%: four or more claims come by chance in 6 of 100
    for one in none:
        assert "By idle they do not differ beyond their spread." in spread.say(one, Wording(), settings).text


def test_missing_stands_apart_and_last():
    result = spread.spread_out(subject_of(missing=0.2), SpreadSettings(feature="x", sampled=300), 1, Work())
    assert result.stretches[-1].label == "missing" and result.stretches[-1].position is None


def test_the_result_stays_small_however_many_rows_there_are():
    sizes = []
    for n in (300, 1_500):
        columns = {"x": np.random.default_rng(1).normal(size=n), "y": np.zeros(n)}
        alone = system(columns, lambda f: f["x"], ["x"], task=Task.regression, event="", context=Context(rows="all"))
        result = spread.spread_out(alone, SpreadSettings(feature="x", sampled=n), 1, Work())
        sizes.append(len(result.model_dump_json()))
    assert sizes[1] < 2 * sizes[0]


def test_a_colour_that_is_no_column_is_refused():
    with pytest.raises(Refused, match="colour: the table has no column “hue”"):
        spread.spread_out(subject_of(), SpreadSettings(colour="hue"), 1, Work())


def test_parts_are_thirds_of_a_number_and_at_most_seven_levels():
    subject = subject_of()
    labels, codes = parts_of(subject, "z")
    assert len(labels) == 3 and np.bincount(codes).min() >= 95
    edges = [subject.frame["z"][codes == i].max() for i in range(2)]
    assert subject.frame["z"][codes == 1].min() > edges[0]
    many = system({"x": np.arange(60.0), "level": [f"l{i % 12:02d}" for i in range(60)], "y": [0, 1] * 30})
    labels, codes = parts_of(many, "level")
    assert len(labels) == 7 and labels[-1] == "(other)" and np.bincount(codes).sum() == 60


@settings(max_examples=40, deadline=None)
@given(
    st.lists(st.one_of(st.floats(-5, 5), st.just(float("nan")), st.integers(0, 2).map(float)), min_size=5, max_size=80),
    st.integers(1, 12),
)
def test_bins_hold_every_row_once_and_rise(values, most):
    column = np.array(values)
    subject = system(
        {"x": np.append(column, 1.0), "y": [0, 1] * (len(column) // 2) + [0] * (len(column) % 2) + [1]},
        lambda f: np.full(f.rows, 0.5),
        ["x"],
    )
    labels, codes = spread.bins_of(subject, "x", column, most)
    assert (codes >= 0).all() and set(codes) == set(range(len(labels)))
    places = [at for _, at in labels if at is not None]
    assert places == sorted(places) and len(places) <= max(most, 1) + 1
    assert ("missing", None) in labels or np.isfinite(column).all()
