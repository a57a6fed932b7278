"""Segments while they are made: joined conditions, groups, cuts and questions, against plain definitions in NumPy."""

from __future__ import annotations

from datetime import date

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.systems import matrix, spec_of, system

from zerotilt.core import membership, segments
from zerotilt.core.logic import blocks_of
from zerotilt.core.meaning import Condition, Context, Role, Segment
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.segmenting import borders, sizes
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays
from zerotilt.core.typed_conditions import expression, named, written
from zerotilt.core.work import Work

NAMES = ("way", "x", "x>y", "a = b", "not", "and so", "day")


def columns(seed: int, n: int = 900) -> dict[str, np.ndarray]:
    rng = np.random.default_rng(seed)
    x, z = rng.normal(size=n).round(2), rng.integers(0, 40, n).astype(float)
    x[rng.random(n) < 0.05] = np.nan
    return {
        "x": x,
        "z": z,
        "way": rng.choice(np.array(["cart", "boat", "a and b", None], object), n, p=[0.5, 0.3, 0.1, 0.1]),
        "home": rng.choice(["north", "south", "(other)"], n),
        "key": np.array([f"k{i}" for i in range(n)]),
        "split": rng.choice(["seen", "kept"], n),
        "y": (rng.random(n) < 1 / (1 + np.exp(-np.nan_to_num(x)))).astype(int),
    }


def subject_of(made: dict[str, np.ndarray], saved: tuple[Segment, ...] = (), rows: str = "hold-out"):
    def model(frame):
        found = matrix(frame)
        return 1 / (1 + np.exp(-np.nan_to_num(found[:, 0]) - 0.02 * found[:, 1]))

    roles = {"home": Role.group, "split": Role.split, "way": Role.ignored, "key": Role.identifier}
    more = {"holdout_values": ("kept",), "training_values": ("seen",), "segments": saved}
    return system(made, model, ["x", "z"], roles=roles, context=Context(rows=rows), **more)


def run(name: str, subject, seed: int = 3, **wanted):
    method = METHODS[name]
    asked = method.settings(**wanted)
    result = method.compute(subject, asked, seed, Work())
    assert method.read(result, subject.spec.wording, asked).text
    return result


@pytest.mark.parametrize(
    ("text", "meant"),
    [
        ("way=cart and x>1", lambda way, x: (way == "cart") & (x > 1)),
        ("way=cart or x>1 and way=boat", lambda way, x: (way == "cart") | ((x > 1) & (way == "boat"))),
        ("(way=cart or x>1) and way=boat", lambda way, x: ((way == "cart") | (x > 1)) & (way == "boat")),
        ("not (way=cart|boat or x<=0)", lambda way, x: ~(((way == "cart") | (way == "boat")) | (x <= 0))),
        ("way!=cart", lambda way, x: way != "cart"),
        ("NOT x>=0.5", lambda way, x: ~(x >= 0.5)),
        ("way=", lambda way, x: np.array([one is None for one in way])),
        ("way=cart| and x<0", lambda way, x: ((way == "cart") | np.array([one is None for one in way])) & (x < 0)),
        ('way="a and b" or x<-1', lambda way, x: (way == "a and b") | (x < -1)),
        ("not not x>1", lambda way, x: x > 1),
    ],
)
def test_typed_conditions_hold_the_rows_they_say(text, meant):
    made = columns(1)
    table = from_arrays(made)
    first, *rest = blocks_of(expression(text, table.names))
    segment = Segment(name="s", conditions=first, alternatives=tuple(rest))
    found = segments.members(segment, subject_of(made).spec, table, np.arange(table.rows))
    assert (found == meant(made["way"], made["x"])).all()


conditions = st.one_of(
    st.builds(lambda lv, no: Condition(column="way", levels=tuple(lv), negated=no), st.lists(st.sampled_from(["cart", "boat", "a and b", "x|y", '"q"', " s"]), min_size=1, max_size=3), st.booleans()),
    st.builds(lambda v, no: Condition(column="x", over=v, negated=no), st.floats(-3, 3), st.booleans()),
    st.builds(lambda v, w: Condition(column="x>y", at_least=v, under=w), st.floats(-3, 3), st.floats(-3, 3)),
    st.builds(lambda no: Condition(column="a = b", missing=True, negated=no), st.booleans()),
    st.builds(lambda v: Condition(column="not", up_to=v, missing=True), st.floats(-1e9, 1e9)),
    st.just(Condition(column="day", since=date(2031, 1, 1), until=date(2031, 2, 1))),
    st.just(Condition(column="and so", levels=("1",), over=3.0)),
)  # fmt: skip


@settings(max_examples=200, deadline=None)
@given(st.lists(st.lists(conditions, min_size=1, max_size=3), min_size=1, max_size=3), st.integers(0, 2**31))
def test_what_is_written_is_read_back_as_the_same_rows(blocks, seed):
    rng = np.random.default_rng(seed)
    table = from_arrays(
        {
            "way": rng.choice(np.array(["cart", "boat", "a and b", "x|y", '"q"', " s", None], object), 60),
            "x": np.where(rng.random(60) < 0.2, np.nan, rng.normal(size=60)),
            "x>y": rng.normal(size=60),
            "a = b": rng.choice(np.array(["1", None], object), 60),
            "not": np.where(rng.random(60) < 0.2, np.nan, rng.normal(size=60)),
            "and so": rng.integers(0, 6, 60).astype(float),
            "day": np.array([date(2030, 12, 1).toordinal() + int(i) for i in rng.integers(0, 90, 60)]),
        }
    )
    blocks = [
        tuple(one for one in block if one.column != "day") or (Condition(column="x", over=0),) for block in blocks
    ]
    spec = subject_of(columns(0)).spec
    before = Segment(name="s", conditions=blocks[0], alternatives=tuple(blocks[1:]))
    first, *rest = blocks_of(expression(written(before.blocks), table.names)) if _possible(blocks, table) else (None,)
    if first is None:
        return
    after = Segment(name="s", conditions=first, alternatives=tuple(rest))
    rows = np.arange(60)
    assert (segments.members(before, spec, table, rows) == segments.members(after, spec, table, rows)).all()


def _possible(blocks, table) -> bool:
    try:
        blocks_of(expression(written(tuple(blocks)), table.names))
    except Refused as refused:
        assert "contradict" in str(refused)
        return False
    return True


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("way=cart and", "a condition was expected"),
        ("(way=cart", "a parenthesis is not closed"),
        ("way=cart)", "“and” or “or” was expected"),
        ("nope=1", "the table has no column “nope”"),
        ("way", "a condition was expected"),
        ("x>much", "is no number"),
        ('way="cart', "a quotation mark is not closed"),
        ('segment "none"', "there is no segment “none”"),
        ("x>2031-01-01", "Days are written"),
        ("day>=2031-02-30", "there is no day 2031-02-30"),
        ("x>1 and not x>1", "contradict each other"),
        ("(" * 60 + "x>1" + ")" * 60, "too deep"),
        (" and ".join(f"x!={i}" for i in range(50)), "40 can be kept"),
        (" and ".join(f"(x>{i} or x<-{i})" for i in range(1, 9)), "can be kept"),
    ],
)
def test_what_cannot_be_read_is_said_with_its_place(text, words):
    with pytest.raises(Refused) as refused:
        blocks_of(expression(text, NAMES))
    assert words in str(refused.value)


def test_saved_segments_are_joined_by_their_names():
    made = columns(2)
    heavy = Segment(name="heavy", conditions=(Condition(column="z", over=30),))
    by_cart = Segment(name='by "cart"', conditions=(Condition(column="way", levels=("cart",)),))
    subject = subject_of(made, (heavy, by_cart))
    kept = made["split"] == "kept"
    for text, mask in (
        ('segment "heavy" and segment "by ""cart"""', (made["z"] > 30) & (made["way"] == "cart")),
        ('segment "heavy" or segment "by ""cart"""', (made["z"] > 30) | (made["way"] == "cart")),
        ('segment "heavy" and not segment "by ""cart"""', (made["z"] > 30) & (made["way"] != "cart")),
    ):
        found = run("segment", subject, conditions=text)
        assert found.rows == (mask & kept).sum() and not found.segment.picked
        assert [one.rows for one in found.splits] == [(mask & kept).sum(), (mask & ~kept).sum(), mask.sum()]


def test_picked_rows_join_as_picked_rows_and_say_so():
    made = columns(3)
    some = Segment(name="some", picked=tuple(made["key"][:40]))
    subject = subject_of(made, (some,))
    found = run("segment", subject, conditions='segment "some" and not way=cart')
    wanted = made["key"][:40][made["way"][:40] != "cart"]
    assert set(found.segment.picked) == set(wanted) and "held in this table" in found.segment.source
    assert any("new rows will never belong" in note for note in found.notes)
    with pytest.raises(Refused, match="can be picked"):
        big = columns(4, 12_000)
        run("segment", subject_of(big, (some,)), conditions='not segment "some"')


@pytest.mark.parametrize("seed", range(4))
def test_figures_of_a_draft_are_those_of_its_rows(seed):
    made = columns(seed)
    made["z"][:5] = 1e8
    saved = (Segment(name="all boats", conditions=(Condition(column="way", levels=("boat",)),)),)
    subject = subject_of(made, saved)
    found = run("segment", subject, conditions="x>0.2 or way=boat")
    rows = subject.rows.numbers
    mask = ((made["x"] > 0.2) | (made["way"] == "boat"))[rows]
    y, right = subject.rows.outcome, subject.rows.outcome.astype(int) == subject.decisions.taken
    sides = {one.metric: one for one in found.sides}
    assert sides["base_rate"].inside.value == pytest.approx(y[mask].mean())
    assert sides["base_rate"].outside.value == pytest.approx(y[~mask].mean())
    assert sides["accuracy"].inside.value == pytest.approx(right[mask].mean())
    (overlap,) = found.overlaps
    boats = (made["way"] == "boat")[rows]
    assert (overlap.rows, overlap.theirs, overlap.same) == ((boats & mask).sum(), boats.sum(), False)


def test_strange_drafts_are_said():
    subject = subject_of(columns(5))
    assert "No row is in it" in " ".join(run("segment", subject, conditions="x>99").notes)
    every = run("segment", subject, conditions="x>-99 or x=")
    assert every.rows == every.of and any("holds all rows" in one for one in every.notes)
    absent = run("segment", subject, conditions="way=cart|sledge")
    assert any("“sledge”" in one for one in absent.notes)
    assert run("segment", subject).segment is None
    unknown = run("segment", subject, picked=("k1", "nobody"))
    assert any("1 picked identifier names no row" in one for one in unknown.notes)
    with pytest.raises(Refused, match="holds no numbers"):
        run("segment", subject, conditions="way>3")


@pytest.mark.parametrize("group", ["home", "x", "z", "way · home"])
def test_a_group_becomes_exactly_its_rows(group):
    subject = subject_of(columns(6))
    made = membership.grouping(
        subject.spec, subject.table, subject.rows.numbers, membership.columns_of(subject.spec, group)
    )
    for place, label in enumerate(made.labels):
        found = run("segment", subject, group=group, member=label)
        assert (sizes.members(found.segment, subject) == made.mask(place)).all(), label


def test_levels_joined_as_other_become_their_rows():
    rng = np.random.default_rng(8)
    made = columns(8, 2_000) | {"home": np.array([f"h{i}" for i in (rng.random(2_000) ** 3 * 50).astype(int)])}
    subject = subject_of(made)
    grouping = membership.grouping(subject.spec, subject.table, subject.rows.numbers, ("home",))
    found = run("segment", subject, group="home", member=membership.OTHER)
    assert (sizes.members(found.segment, subject) == grouping.mask(grouping.labels.index(membership.OTHER))).all()


def brute(values, target, parts, least):
    """The best borders of all, one after the other."""
    from itertools import combinations

    order = np.argsort(values, kind="stable")
    v, t = values[order], target[order]
    ends = np.flatnonzero(np.diff(v)) + 1
    asked = 2 * np.log(len(t)) * ((t - t.mean()) ** 2).sum() / (len(t) - 1)
    best = None
    for k in range(parts):
        for chosen in combinations(ends, k):
            pieces = np.split(t, chosen)
            if min(map(len, pieces)) < least:
                continue
            cost = sum(((one - one.mean()) ** 2).sum() for one in pieces) + asked * k
            if best is None or cost < best[0] - 1e-9:
                best = (cost, [float(v[one - 1]) for one in chosen])
    return best[1]


@pytest.mark.parametrize("seed", range(12))
def test_borders_that_follow_the_error_are_the_best_of_all(seed):
    rng = np.random.default_rng(seed)
    values = rng.integers(0, 14, 60).astype(float)
    target = rng.normal(size=60) + 3 * (values > 8) + (values > 3)
    found = borders.where_it_changes(values, target, np.ones(60), 4, 5)
    assert found == brute(values, target, 4, 5)


@pytest.mark.parametrize("weighted", [False, True])
def test_equal_counts_hold_as_many_rows_as_ties_allow(weighted):
    rng = np.random.default_rng(2)
    values = rng.normal(size=1000)
    weights = rng.integers(0, 3, 1000).astype(float) if weighted else np.ones(1000)
    edges = borders.equal_counts(values, 5, weights)
    mass = np.bincount(np.searchsorted(edges, values), weights)
    assert len(mass) == 5 and np.ptp(mass) <= 4
    assert borders.equal_counts(np.array([1.0] * 9 + [2.0]), 4, np.ones(10)) == [1.0]
    assert borders.equal_counts(np.full(9, 3.0), 3, np.ones(9)) == []
    assert borders.equal_width(np.array([0.0, 10.0, np.nan]), 4) == [2.5, 5.0, 7.5]
    assert borders.equal_width(np.array([1e8, 1e8]), 3) == []


@pytest.mark.parametrize("how", ["equal counts", "equal width", "borders", "levels", "where the error changes"])
@pytest.mark.parametrize("column", ["x", "z", "way"])
def test_parts_of_a_cut_hold_every_row_once(how, column):
    subject = subject_of(columns(9, 2_000))
    try:
        found = run("cuts", subject, column=column, how=how, borders=(0.0, 10.5))
    except Refused as refused:
        assert how == "where the error changes" and "Nowhere along" in str(refused)
        return
    masks = np.array([sizes.members(one.segment, subject) for one in found.parts])
    assert (masks.sum(axis=0) == 1).all()
    assert sum(one.rows for one in found.parts) == found.rows == subject.n - found.learnt
    assert len({one.segment.name for one in found.parts}) == len(found.parts)


def test_a_cut_after_the_error_finds_where_it_changes_and_reads_it_elsewhere():
    made = columns(10, 4_000)
    flipped = made["z"] > 25
    made["y"] = np.where(
        flipped,
        np.random.default_rng(0).integers(0, 2, 4_000),
        (np.nan_to_num(made["x"]) + 0.02 * made["z"] > 0).astype(int),
    )
    subject = subject_of(made)
    found = run("cuts", subject, column="z", how="where the error changes", parts=2)
    assert found.borders == (25.0,) and found.learnt == subject.n // 2
    assert "learnt from half" in found.parts[0].segment.source
    told = np.random.default_rng(3).permutation(subject.n) < subject.n // 2
    right = (subject.rows.outcome.astype(int) == subject.decisions.taken)[~told]
    above = (made["z"][subject.rows.numbers] > 25)[~told]
    accuracy = {one.metric: one for one in found.parts[1].sides}["accuracy"]
    assert accuracy.inside.value == pytest.approx(right[above].mean())


def test_pure_noise_is_seldom_cut():
    rng = np.random.default_rng(0)
    cut = sum(
        len(borders.where_it_changes(rng.normal(size=400), rng.normal(size=400), np.ones(400), 2, 30)) > 0
        for _ in range(200)
    )
    assert cut <= 10


def weighed(seed: int):
    """Segments of a demanding table: weights of zero, a segment of 14 rows, one that covers everything, one that is empty."""
    made = columns(seed, 1_500) | {"w": np.random.default_rng(seed).integers(0, 3, 1_500).astype(float)}
    saved = (
        Segment(name="carts", conditions=(Condition(column="way", levels=("cart",)),)),
        Segment(name="few", picked=tuple(made["key"][np.flatnonzero(made["split"] == "kept")[:14]])),
        Segment(name="everything", conditions=(Condition(column="z", at_least=0),)),
        Segment(name="nothing", conditions=(Condition(column="z", over=99),)),
        Segment(name="outer", conditions=(Condition(column="z", over=30),), alternatives=((Condition(column="x", missing=True),),)),
        Segment(name="of another table", conditions=(Condition(column="gone", over=1),)),
    )  # fmt: skip
    return made, saved


@pytest.mark.parametrize("seed", range(3))
def test_compared_segments_have_the_figures_of_their_rows(seed):
    from scipy.stats import false_discovery_control

    made, saved = weighed(seed)
    subject = subject_of(made, saved)
    found = run("segments", subject, metrics=("base_rate", "accuracy", "selection_rate", "log_loss", "auc"))
    assert [one.name for one in found.segments] == [one.name for one in saved[:-1]]
    assert "“of another table”" in found.notes[0]
    right = subject.rows.outcome.astype(int) == subject.decisions.taken
    masks = [sizes.members(one, subject) for one in saved[:-1]]
    for row, mask in zip(found.segments, masks, strict=True):
        cells = {one.metric: one for one in row.cells}
        assert row.rows == mask.sum()
        if 0 < mask.sum() < subject.n:
            assert cells["accuracy"].inside.value == pytest.approx(right[mask].mean())
            assert cells["accuracy"].outside.value == pytest.approx(right[~mask].mean())
        if min(mask.sum(), (~mask).sum()) < found.minimum_rows:
            assert {one.mark for one in row.cells} == {"too few"} and all(one.p_value is None for one in row.cells)
    tested = [one for row in found.segments for one in row.cells if one.p_value is not None]
    assert found.tested == len(tested) > 0
    adjusted = false_discovery_control([one.p_value for one in tested])
    assert np.allclose([one.p_adjusted for one in tested], adjusted)
    for one in tested:
        if one.mark != "not told apart":
            assert one.p_adjusted <= 0.05


def test_segments_that_are_not_saved_are_compared_beside_those_that_are():
    made, saved = weighed(4)
    subject = subject_of(made, saved[:2])
    found = run("segments", subject, also=('no carts: not segment "carts"', "high: z>30 or x="), metrics=("accuracy",))
    assert [one.name for one in found.segments] == ["carts", "few", "no carts", "high"]
    assert found.segments[0].rows + found.segments[2].rows == subject.n
    assert found.segments[0].cells[0].inside == found.segments[2].cells[0].outside
    with pytest.raises(Refused, match="two are called “carts”"):
        run("segments", subject, also=("carts: z>3",))


def test_a_pocket_of_errors_is_marked_as_worse_and_said():
    made = columns(11, 4_000)
    bad = (made["way"] == "boat") & (made["z"] > 25)
    clear = np.nan_to_num(made["x"]) + 0.02 * made["z"] > 0
    made["y"] = np.where(bad, ~clear, clear).astype(int)
    saved = (
        Segment(
            name="boats far out", conditions=(Condition(column="way", levels=("boat",)), Condition(column="z", over=25))
        ),
    )
    subject = subject_of(made, saved)
    found = run("segments", subject)
    accuracy = {one.metric: one for one in found.segments[0].cells}["accuracy"]
    assert accuracy.mark == "worse" and accuracy.inside.value < 0.1
    reading = METHODS["segments"].read(found, subject.spec.wording, METHODS["segments"].settings())
    assert "“boats far out” is worse than the rest beyond chance" in reading.text and reading.headline[0].flagged


def test_noise_is_seldom_told_apart():
    told = 0
    for seed in range(60):
        made = columns(seed, 600)
        made["y"] = np.random.default_rng(seed + 999).integers(0, 2, 600)
        made["z"] = np.zeros(600)
        made["x"] = np.zeros(600)
        saved = tuple(
            Segment(name=one, conditions=(Condition(column="home", levels=(one,)),)) for one in ("north", "south")
        )
        found = run("segments", subject_of(made, saved, "all"), metrics=("base_rate", "accuracy", "log_loss"))
        told += any(one.mark in ("worse", "better", "higher", "lower") for row in found.segments for one in row.cells)
    assert told <= 8


def test_segments_need_neither_a_model_nor_an_outcome():
    made, saved = weighed(1)
    del made["y"]
    table = from_arrays(made)
    spec = spec_of(table, {"home": Role.group, "key": Role.identifier}, segments=saved)
    subject = Subject(spec, table, None, Context(rows="all"))
    found = run("segments", subject)
    assert found.metrics == () and "only sizes" in " ".join(found.notes)
    assert run("segment", subject, conditions="z>10").sides == ()
    assert run("cuts", subject, column="z").parts[0].sides == ()
    with pytest.raises(Refused, match="needs predictions"):
        run("cuts", subject, column="z", how="where the error changes")
    empty = run("segments", Subject(spec.model_copy(update={"segments": ()}), table, None, Context(rows="all")))
    assert empty.segments == ()


def test_a_segment_on_the_command_line_has_a_name():
    one = named("heavy: z>30 and not way=cart", ["z", "way"])
    assert one.name == "heavy" and len(one.conditions) == 2
    assert named("heavy", ["z"], [one]) is one
    assert named('both: segment "heavy" or way=', ["z", "way"], [one]).alternatives
    with pytest.raises(Refused, match="up to 120 characters"):
        named("n" * 121 + ": z>3", ["z"])
    for text in ("heavy", ":z>3", "heavy:", "z>3"):
        with pytest.raises(Refused, match="NAME: conditions"):
            named(text, ["z"])
