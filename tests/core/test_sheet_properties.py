"""Properties that hold whatever is put in."""

from __future__ import annotations

import io
import json

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from tests.core.systems import system

from zerotilt.core import arrayfile
from zerotilt.core.drivers.agreement import agreement, rank_table
from zerotilt.core.links import sets_of
from zerotilt.core.meaning import Context, Wording
from zerotilt.core.refusal import Refused
from zerotilt.core.response import partial
from zerotilt.core.response.curves import direction, grid_of, told_of
from zerotilt.core.response.expected import steps_against
from zerotilt.core.response.response_result import ResponseSettings
from zerotilt.core.work import Work

NUMBERS = st.floats(-1e6, 1e6, allow_nan=False)
TEXTS = st.one_of(st.none(), st.text(max_size=12).filter(lambda text: "\x00" not in text))


@given(st.lists(st.tuples(TEXTS, st.one_of(st.none(), NUMBERS), st.booleans()), min_size=1, max_size=30))
@settings(max_examples=80, deadline=None)
def test_an_array_comes_back_whole_from_every_format(rows):
    table = pa.table(
        {
            "text": pa.array([row[0] for row in rows], pa.string()),
            "number": pa.array([row[1] for row in rows], pa.float64()),
            "truth": pa.array([row[2] for row in rows]),
        }
    )
    data, media = arrayfile.written(table, "parquet")
    assert pq.read_table(io.BytesIO(data)).equals(table) and "parquet" in media
    data, media = arrayfile.written(table, "json")
    assert json.loads(data) == table.to_pylist() and media == "application/json"
    data, _ = arrayfile.written(table, "csv")
    back = pacsv.read_csv(
        io.BytesIO(data), parse_options=pacsv.ParseOptions(newlines_in_values=True),
        convert_options=pacsv.ConvertOptions(column_types={"text": pa.string(), "number": pa.float64()}),
    )  # fmt: skip
    assert back.num_rows == len(rows)
    assert back.column("number").to_pylist() == table.column("number").to_pylist()
    for written in back.column("text").to_pylist():
        assert not (written or "").startswith(("=", "+", "-", "@", "\t", "\r"))


CURVES = st.lists(st.lists(st.floats(-10, 10), min_size=4, max_size=4), min_size=1, max_size=12).map(np.array)


@given(CURVES)
def test_steps_against_rising_are_those_along_falling(curves):
    up, down = steps_against(curves, "rises", 0.0), steps_against(curves, "falls", 0.0)
    assert (up >= 0).all() and (down >= 0).all() and not ((up > 0) & (down > 0)).any()
    assert down - up == pytest.approx(np.diff(curves, axis=1))
    assert steps_against(-curves, "falls", 0.0) == pytest.approx(up)


@given(st.lists(st.floats(-10, 10), min_size=2, max_size=30).map(np.array))
def test_a_curve_turned_over_goes_the_other_way(curve):
    other = {"rises": "falls", "falls": "rises", "bends": "bends", "flat": "flat"}
    found = direction(curve, True, 1.0)
    if found in ("rises", "falls"):
        back = np.maximum.accumulate(curve if found == "rises" else -curve) - (curve if found == "rises" else -curve)
        assert back.max() <= 0.1 * np.ptp(curve) + 1e-12
    # a curve may pass as rising and as falling only if it is both; then it is named by the first
    assert direction(-curve, True, 1.0) in (other[found], "rises")


@given(st.lists(st.tuples(NUMBERS, NUMBERS), min_size=2, max_size=30))
@settings(deadline=None)
def test_ranks_are_scipys_and_agreement_is_symmetric(pairs):
    a, b = (np.array(one) for one in zip(*pairs, strict=True))
    names = [f"f{i}" for i in range(len(a))]
    for row in rank_table(names, [a, b]):
        place = names.index(row.feature)
        assert row.ranks == tuple(int(stats.rankdata(-one, method="min")[place]) for one in (a, b))
    one, other = agreement("a", a, "b", b), agreement("b", b, "a", a)
    assert one.overlap == other.overlap and 0 <= one.overlap <= 1
    assert (one.tau is None) == (other.tau is None)
    assert one.tau is None or one.tau == pytest.approx(other.tau)


@given(st.integers(2, 9), st.integers(0, 1_000), st.floats(0.1, 0.9))
@settings(deadline=None)
def test_every_two_columns_of_a_set_are_associated_enough_and_no_column_is_in_two(p, seed, least):
    rng = np.random.default_rng(seed)
    strength = rng.random((p, p))
    strength = (strength + strength.T) / 2
    np.fill_diagonal(strength, 1)
    names = [f"c{i}" for i in range(p)]
    found = sets_of(names, strength, least)
    for one in found:
        places = [names.index(name) for name in one]
        assert strength[np.ix_(places, places)].min() >= least - 1e-9
    listed = [name for one in found for name in one]
    assert len(listed) == len(set(listed)) and all(len(one) > 1 for one in found)


@given(
    st.lists(st.one_of(st.floats(-50, 50), st.just(float("nan"))), min_size=3, max_size=60).filter(
        lambda values: np.isfinite(values).any()
    ),
    st.integers(2, 40),
    st.tuples(st.floats(-60, 60), st.floats(-60, 60)),
)
@settings(deadline=None)
def test_a_grid_lies_on_values_that_occur_within_the_region(values, points, region):
    column = np.array(values)
    subject = system(
        {"x": column, "y": np.arange(len(column)) % 2}, lambda f: np.full(f.rows, 0.5), ["x"],
        context=Context(rows="all"),
    )  # fmt: skip
    known = column[np.isfinite(column)]
    low, high = sorted(region)
    try:
        grid = grid_of(subject, "x", points, region=(low, high))
    except Refused:
        assert not ((known >= low) & (known <= high)).any()
        return
    places = grid.positions[np.isfinite(grid.positions)]
    assert set(places) <= set(known) and (np.diff(places) > 0).all() and len(places) <= points
    assert low <= places.min() and places.max() <= high
    assert np.isnan(grid.positions).any() == np.isnan(column).any()


@given(st.integers(0, 10_000), st.integers(2, 60), st.booleans())
@settings(max_examples=30, deadline=None)
def test_what_a_response_counts_adds_up(seed, points, centred):
    rng = np.random.default_rng(seed)
    n = int(rng.integers(20, 200))
    x = np.round(rng.normal(size=n), int(rng.integers(0, 3)))
    columns = {"x": x, "z": rng.choice(["u", "v", "w"], n), "y": np.arange(n) % 2}
    subject = system(columns, lambda f: 1 / (1 + np.exp(-f["x"])), ["x", "z"], context=Context(rows="all"))
    asked = ResponseSettings(feature="x", points=points, centred=centred, colour="z", curves=n, rows=n)
    result = partial.respond(subject, asked, seed, Work())
    drawn = [point.position for point in result.points]
    assert result.outside == int(((x < min(drawn)) | (x > max(drawn))).sum())
    assert sum(bin.rows for bin in result.density) == n - result.outside or len(drawn) < 2
    assert sum(part.rows for part in result.parts) == n
    whole = np.array([point.mean for point in result.points])
    weighted = sum(part.rows * np.array(part.mean) for part in result.parts) / n
    assert weighted == pytest.approx(whole)
    assert np.mean(result.curves, axis=0) == pytest.approx(whole)
    for point in result.points:
        assert point.p10 <= point.p25 <= point.p50 <= point.p75 <= point.p90
        assert point.mean_low <= point.mean <= point.mean_high
    assert not centred or (whole[0] == 0 and result.threshold is None)
    text = partial.say(result, Wording(), asked).text
    told = told_of(
        np.isfinite([np.nan if p.position is None else p.position for p in result.points]),
        np.array([p.scarce for p in result.points]),
    )
    first = whole[np.flatnonzero(told)[0]] if told.any() else whole[0]
    shown = f"{abs(first) * 100:.1f}%"
    assert centred or result.direction == "flat" or len(drawn) < 2 or shown in text
