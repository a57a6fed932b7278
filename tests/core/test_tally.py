"""Counts, areas and memberships against plain counting; and what adds up adds up."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.systems import system

from zerotilt.core import membership, segments
from zerotilt.core.groups import readout, tally
from zerotilt.core.meaning import Condition, Role, Segment, Spec
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import calibration, intervals
from zerotilt.core.table import from_arrays


def scored(n=300, seed=0, weights=None, **more):
    rng = np.random.default_rng(seed)
    s = rng.random(n).round(2)
    columns = {"g": rng.choice(list("abc"), n), "s": s, "y": (rng.random(n) < s).astype(int)}
    roles = {"g": Role.group, "s": Role.score}
    if weights is not None:
        columns["w"], roles["w"] = weights, Role.weight
    return system(columns, roles=roles, **more)


def parts(subject):
    found = readout.read(subject)
    grouping = membership.grouping(subject.spec, subject.table, subject.rows.numbers, ("g",))
    return found, tally.Packed.of(found, subject.n), grouping


@pytest.mark.parametrize("weighted", [False, True])
def test_cells_and_moments_are_those_of_plain_counting(weighted):
    weights = np.random.default_rng(1).random(300) if weighted else None
    subject = scored(weights=weights)
    found, packed, grouping = parts(subject)
    counted = tally.count(packed, grouping.codes, 3)
    w = np.ones(300) if weights is None else weights
    for g in range(3):
        mine = grouping.codes == g
        assert counted.rows[g] == mine.sum()
        for cell in range(8):
            rows = mine & (found.lenses[0].cells == cell)
            assert counted.cells[0, g, cell] == pytest.approx([rows.sum(), w[rows].sum(), (w[rows] ** 2).sum()])
        for place, values in enumerate(found.means.values()):
            off = values[mine] - counted.centre[place, g]
            expected = [(w[mine] ** square * off**k).sum() for square, k in ((1, 1), (1, 2), (1, 3), (2, 1), (2, 2))]
            assert counted.moments[place, g] == pytest.approx(expected, abs=1e-9)


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 300), st.integers(0, 5))
def test_tallies_of_parts_add_up_to_the_whole(cut, seed):
    _, packed, grouping = parts(scored(seed=seed))
    whole = tally.count(packed, grouping.codes, 3)
    halves = [
        tally.count(
            tally.Packed(packed.cells[:, part].copy(), packed.values[:, part].copy(), packed.weights),
            grouping.codes[part],
            3,
        )
        for part in (slice(0, cut), slice(cut, None))
    ]
    together = halves[0] + halves[1]
    assert np.allclose(together.cells, whole.cells) and np.allclose(together.centre, whole.centre)
    assert np.allclose(together.moments, whole.moments, atol=1e-9)


@pytest.mark.parametrize("weighted", [False, True])
def test_areas_of_all_groups_are_those_of_each_alone(weighted):
    weights = np.random.default_rng(2).random(300) if weighted else None
    subject = scored(seed=3, weights=weights)
    _, _, grouping = parts(subject)
    ranked = tally.Ranked.of(subject.predictions.scores, subject.rows.outcome, subject.rows.weights)
    found = tally.areas(ranked, grouping.codes, 3)
    for g in range(3):
        mine = grouping.codes == g
        own = intervals.auc(
            subject.predictions.scores[mine], subject.rows.outcome[mine], None if weights is None else weights[mine]
        )
        assert (found.value[g], found.variance[g]) == pytest.approx(own)


def test_an_area_of_a_single_class_is_not_defined():
    ranked = tally.Ranked.of(np.array([0.2, 0.4, 0.6]), np.array([True, True, False]), None)
    assert np.isnan(tally.areas(ranked, np.array([0, 0, 1]), 2).value).all()


def test_the_rows_outside_are_what_is_left():
    _, packed, grouping = parts(scored())
    own, outside = tally.count_groups(packed, grouping, True)
    assert (own.rows + outside.rows == 300).all()
    masked = membership.Grouping(("g",), grouping.labels, masks=np.array([grouping.mask(i) for i in range(3)]))
    own_too, outside_too = tally.count_groups(packed, masked, True)
    assert np.allclose(own.cells, own_too.cells) and np.allclose(outside.centre, outside_too.centre)
    assert np.allclose(outside.moments, outside_too.moments, atol=1e-9)


def test_conditions_of_a_segment():
    table = from_arrays({"n": [1.0, 5.0, np.nan, 9.0], "c": ["x", None, "y", "x"]})
    rows, spec = np.arange(4), Spec(columns=())

    def who(*conditions):
        return segments.members(Segment(name="s", conditions=conditions), spec, table, rows).tolist()

    assert who(Condition(column="n", over=1, up_to=9)) == [False, True, False, True]
    assert who(Condition(column="n", up_to=5, missing=True)) == [True, True, True, False]
    assert who(Condition(column="c", levels=("x",)), Condition(column="n", over=2)) == [False, False, False, True]
    assert who(Condition(column="c", missing=True)) == [False, True, False, False]
    with pytest.raises(Refused, match="holds no numbers"):
        who(Condition(column="c", over=2))
    with pytest.raises(ValueError, match="says nothing"):
        Condition(column="c")


def test_the_columns_of_an_attribute_are_known_or_refused():
    spec = scored().spec
    assert membership.columns_of(spec, "g · s") == ("g", "s")
    for name, message in (("g · g", "crosses"), ("nobody", "no column"), (membership.SEGMENTS, "no segments")):
        with pytest.raises(Refused, match=message):
            membership.columns_of(spec, name)


def test_calibration_error_by_hand_and_with_few_rows_in_fewer_bins():
    s = np.repeat([0.2, 0.8], 20)
    y = np.r_[np.arange(20) < 8, np.arange(20) < 14]
    assert calibration.calibration_error(y, s, np.ones(40)) == pytest.approx((0.2 + 0.1) / 2)
    assert len(calibration.starts(40)) == 2 and len(calibration.starts(10)) == 1 and len(calibration.starts(900)) == 15
    assert np.isnan(calibration.with_interval(y[:1], s[:1], None, 1).value)


def test_perfect_calibration_is_within_the_interval_and_a_large_error_is_not_near_none():
    rng = np.random.default_rng(6)
    s = rng.beta(2, 1.5, 3_000)
    right = calibration.with_interval(rng.random(3_000) < s, s, None, 1)
    wrong = calibration.with_interval(rng.random(3_000) < s * 0.7, s, None, 1)
    assert float(right.low) == 0.0 and float(right.high) < 0.06
    assert 0.13 < float(wrong.low) < 0.17 < float(wrong.high) < 0.22


def test_many_rows_draw_their_noise_by_bins_to_the_same_width(monkeypatch):
    rng = np.random.default_rng(8)
    s = rng.random(20_000)
    y = rng.random(20_000) < s * 0.9
    plain = calibration.with_interval(y, s, None, 1)
    monkeypatch.setattr(calibration, "EXACT_ROWS", 1_000)
    joined = calibration.with_interval(y, s, None, 1)
    assert float(joined.high - joined.low) == pytest.approx(float(plain.high - plain.low), rel=0.06)
