"""Pockets against plain definitions: every conjunction by force, both halves, planted places, tables that hold nothing."""

from __future__ import annotations

from itertools import combinations, product

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.systems import system

from zerotilt.core import segments
from zerotilt.core.meaning import Role, Wording
from zerotilt.core.methods import METHODS
from zerotilt.core.pockets import cells as cell_sets
from zerotilt.core.pockets.boxes import Asked
from zerotilt.core.pockets.confirmed import beyond, gap_of
from zerotilt.core.pockets.errors import errors_of, offered
from zerotilt.core.pockets.found import search
from zerotilt.core.pockets.halvings import PlaceFound
from zerotilt.core.pockets.hunt import BLOCKS, dealt, halvings_of, hunt
from zerotilt.core.pockets.result import PocketsSettings
from zerotilt.core.refusal import Refused
from zerotilt.core.segmenting import sizes
from zerotilt.core.stats.roundest import roundest
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

SAID = Wording()


def decided(rng: np.random.Generator, columns: dict, chance: np.ndarray, **more) -> Subject:
    """Recorded decisions about an event, wrong with a chance of each row's own."""
    happened = rng.random(len(chance)) < 0.4
    wrong = rng.random(len(chance)) < chance
    roles = {"d": Role.decision} | more.pop("roles", {})
    return system(columns | {"y": happened.astype(int), "d": (happened ^ wrong).astype(int)}, roles=roles, **more)


def features(rng: np.random.Generator, n: int) -> dict[str, np.ndarray]:
    x = rng.normal(size=n).round(1)
    x[rng.random(n) < 0.1] = np.nan
    return {
        "x": x,
        "far off": rng.choice([1e8, 1e8 + 1, 3e8], n),
        "way": rng.choice(np.array(["cart", "boat", "a and b", None], object), n, p=[0.5, 0.3, 0.15, 0.05]),
    }


def prepared(subject: Subject, least: int, times: float = 1.25, deep: int = 3, halvings: int = 3, seed: int = 1):
    errors = errors_of(subject, "")
    made = hunt(subject, errors, cell_sets.columns_of(subject, ()), deep, 8, halvings, least, times, seed)
    assert made is not None
    return made


def by_force(made, halving: int) -> dict[tuple[int, ...], float]:
    """The best penalised score of every set of columns, each box counted by its mask."""
    half = made.half(halving)
    values, mass = made.errors.values, made.errors.mass
    moved = ((values - np.average(values, weights=mass)) * mass / mass.mean())[half]
    moved = moved - moved.mean()
    level = np.average(values[half], weights=mass[half])
    rows, asked = len(moved), made.asked
    found = {}
    held = made.searched.cells
    for size in (1, 2, 3):
        for some in combinations(range(len(held)), size):
            best = -np.inf
            for runs in product(*(range(len(held[c].runs)) for c in some)):
                inside = np.ones(rows, bool)
                for c, run in zip(some, runs, strict=True):
                    low, high = held[c].runs[run]
                    inside &= (held[c].codes[half] >= low) & (held[c].codes[half] <= high)
                n, excess = inside.sum(), moved[inside].sum()
                if n < asked.least or n > asked.most * rows or excess <= 0:
                    continue
                if level + excess / n < asked.times * (level - excess / (rows - n)) - 1e-12:
                    continue
                score = excess**2 * (rows - 1) / (n * (rows - n) * moved.var())
                best = max(best, score - asked.price * sum(held[c].ends[r] for c, r in zip(some, runs, strict=True)))
            found[some] = best
    return found


@pytest.mark.parametrize("seed", range(4))
def test_the_densest_box_of_every_set_of_columns_is_the_one_found_by_force(seed):
    rng = np.random.default_rng(seed)
    n = 400
    columns = features(rng, n)
    chance = 0.15 + 0.3 * (np.nan_to_num(columns["x"]) > 0.5)
    weighed = {"w": rng.choice([0.0, 1.0, 4.0], n)} if seed % 2 else {}
    subject = decided(rng, columns | weighed, chance, roles={"w": Role.weight} if weighed else {})
    made = prepared(subject, 20, times=1.0 if weighed else 1.25)
    sets, boxes, _ = made.boxes(Work())
    for halving in range(3):
        forced = by_force(made, halving)
        for place, some in enumerate(sets):
            key = tuple(int(one) for one in some if one < len(made.searched.cells))
            assert boxes.score[halving, place, 0] == pytest.approx(forced[key], rel=1e-9, abs=1e-9)


def test_a_second_box_of_a_set_shares_no_row_with_the_first():
    rng = np.random.default_rng(3)
    n = 4_000
    x, z = rng.uniform(size=n), rng.uniform(size=n)
    chance = 0.1 + 0.5 * ((x < 0.25) & (z < 0.25)) + 0.5 * ((x > 0.75) & (z > 0.75))
    made = prepared(decided(rng, {"x": x, "z": z}, chance), 60)
    sets, boxes, _ = made.boxes(Work())
    both = next(i for i, one in enumerate(sets) if list(one[:2]) == [0, 1])
    held = made.searched.cells
    masks = []
    for k in range(2):
        inside = np.ones(n, bool)
        for c in range(2):
            low, high = held[c].runs[boxes.runs[0, both, k, c]]
            inside &= (held[c].codes >= low) & (held[c].codes <= high)
        masks.append(inside)
    assert not (masks[0] & masks[1]).any()
    assert {bool(x[mask].mean() < 0.5) for mask in masks} == {True, False}


def test_what_is_searched_in_one_half_does_not_know_the_other():
    rng = np.random.default_rng(5)
    n = 1_200
    columns = features(rng, n)
    happened, wrong = rng.random(n) < 0.4, rng.random(n) < 0.2

    def descriptions(off: np.ndarray):
        made = prepared(
            system(
                columns | {"y": happened.astype(int), "d": (happened ^ off).astype(int)}, roles={"d": Role.decision}
            ),
            40,
        )
        sets, boxes, _ = made.boxes(Work())
        return [made.descriptions(sets, boxes, halving) for halving in range(3)], [made.half(i) for i in range(3)]

    first, halves = descriptions(wrong)
    again, _ = descriptions(np.where(halves[0], wrong, rng.random(n) < 0.7))
    assert again[0] == first[0] and again[1] != first[1]


def test_halvings_are_balanced_differ_and_stay_when_there_are_more():
    few, many = halvings_of(np.random.default_rng(1), 5), halvings_of(np.random.default_rng(1), 48)
    assert (many.sum(axis=1) == BLOCKS // 2).all() and (few == many[:5]).all()
    assert len({tuple(row) for row in many} | {tuple(~row) for row in many}) == 96
    subject = decided(np.random.default_rng(2), features(np.random.default_rng(2), 503), np.full(503, 0.2))
    block, halves = dealt(errors_of(subject, ""), 4, 9)
    assert all(abs(half[block].sum() - 251.5) < 4 for half in halves)


@pytest.mark.parametrize("seed", range(3))
def test_both_sides_of_a_place_are_what_tilt_says_of_the_same_rows(seed):
    rng = np.random.default_rng(seed)
    n = 300
    weighed = {"w": rng.choice([0.0, 0.5, 3.0], n)} if seed else {}
    subject = decided(rng, features(rng, n) | weighed, np.full(n, 0.3), roles={"w": Role.weight} if seed else {})
    inside = rng.random(n) < 0.3
    metrics = ("accuracy", "false_positive_rate", "false_negative_rate", "base_rate")
    own, outside = sizes.both_sides(subject, [inside], ["it"], metrics, 1)
    for error, metric in (("error_rate", "accuracy"), *((one, one) for one in metrics[1:3])):
        errors = errors_of(subject, error)
        happened = subject.rows.outcome[errors.places].astype(float)
        gap = gap_of(errors, inside[errors.places], happened, 0.95)
        for side, measured in ((gap.inside, own[metric].at(0)), (gap.outside, outside[metric].at(0))):
            turned = metric == "accuracy"
            value, low, high = (
                (1 - measured.value, 1 - measured.high, 1 - measured.low)
                if turned
                else (measured.value, measured.low, measured.high)
            )
            assert (side.value, side.low, side.high) == pytest.approx((value, low, high), abs=1e-12)
            assert side.rows == measured.of
        if error == "error_rate":
            assert gap.balance == pytest.approx(own["base_rate"].at(0).value)
            share = (errors.values * errors.mass)[inside[errors.places]].sum() / (errors.values * errors.mass).sum()
            assert gap.share == pytest.approx(share)


def test_beyond_others_is_the_permutation_test_within_strata():
    rng = np.random.default_rng(8)
    n = 240
    subject = decided(rng, features(rng, n), np.full(n, 0.3))
    errors = errors_of(subject, "")
    pattern, inside = rng.integers(0, 2, n), rng.random(n) < 0.3
    observed = sum(errors.values[inside & (pattern == one)].sum() for one in (0, 1))
    drawn = []
    for _ in range(6_000):
        total = 0.0
        for one in (0, 1):
            where = np.flatnonzero(pattern == one)
            total += errors.values[rng.permutation(where)[: inside[where].sum()]].sum()
        drawn.append(total)
    exact = (np.array(drawn) > observed).mean() + 0.5 * (np.array(drawn) == observed).mean()
    assert beyond(errors, inside, pattern) == pytest.approx(exact, abs=0.025)
    # what is wholly inside an earlier one and no denser there has nothing left
    assert np.isnan(beyond(errors, inside, inside.astype(np.int64)))


def test_the_p_value_over_halvings_is_of_the_third_that_did_best():
    place = PlaceFound([], dict(enumerate([0.001, 0.002, 0.004, 0.01, 0.5])))
    assert place.adjusted(12) == pytest.approx(0.03)  # the fourth smallest, times three
    assert place.adjusted(15) == 1.0 - 0.0 or place.adjusted(15) == pytest.approx(min(1.0, 0.5 * 3))
    assert place.again(12, 0.05) == pytest.approx(4 / 12)
    assert PlaceFound([], {}).adjusted(12) == 1.0


def planted(seed: int, n: int, there: bool, base: float = 0.12) -> tuple[Subject, np.ndarray]:
    rng = np.random.default_rng(seed)
    columns = {f"n{j}": rng.normal(size=n).round(2) for j in range(3)}
    columns |= {f"t{j}": rng.choice(list("abcd"), n) for j in range(2)}
    inside = (columns["n0"] > 0.3) & (columns["t0"] == "a") & there
    return decided(rng, columns, np.where(inside, 2.2 * base, base)), inside


def test_a_planted_place_is_found_confirmed_and_told_by_its_own_conditions():
    hits = 0
    for seed in range(12):
        subject, inside = planted(seed, 9_000, there=True)
        result = search(subject, PocketsSettings(halvings=6), 50 + seed, Work())
        sure = [one for one in result.pockets if one.status == "confirmed"]
        masks = [segments.members(one.segment, subject.spec, subject.table, subject.rows.numbers) for one in sure]
        hits += any((mask & inside).sum() >= 0.5 * (mask | inside).sum() for mask in masks)
        for one, mask in zip(result.pockets, masks, strict=False):
            assert one.rows == mask.sum()
    assert hits >= 11


def test_where_there_is_nothing_hardly_anything_is_confirmed():
    wrong = 0
    for seed in range(40):
        subject, _ = planted(seed, 800, there=False, base=0.25)
        result = search(subject, PocketsSettings(halvings=6, deep=2), seed, Work())
        wrong += any(one.status == "confirmed" for one in result.pockets)
        assert result.tried > 1_000 and len(result.pockets) <= 8
    assert wrong <= 4  # at most one in twenty is meant; four of forty come of that with a chance of 5%


def test_two_places_are_both_told_and_neither_twice():
    rng = np.random.default_rng(11)
    n = 12_000
    columns = {
        "x": rng.uniform(0, 10, n).round(2),
        "way": rng.choice(["cart", "boat", "mule"], n),
        "z": rng.normal(size=n),
    }
    one = (columns["x"] > 8) & (columns["way"] == "cart")
    two = (columns["x"] <= 2) & (columns["way"] == "boat")
    subject = decided(rng, columns, 0.1 + 0.3 * (one | two))
    result = search(subject, PocketsSettings(halvings=6), 3, Work())
    sure = [p for p in result.pockets if p.status == "confirmed"]
    masks = [segments.members(p.segment, subject.spec, subject.table, subject.rows.numbers) for p in sure]
    for wanted in (one, two):
        assert sum((mask & wanted).sum() >= 0.7 * (mask | wanted).sum() for mask in masks) == 1
    assert sure[0].segment.conditions[0].over == 8 or sure[1].segment.conditions[0].over == 8  # the roundest border


def test_a_group_in_disguise_is_said():
    rng = np.random.default_rng(2)
    n = 5_000
    home = rng.choice(["north", "isles"], n, p=[0.8, 0.2])
    boat = np.where(home == "isles", rng.random(n) < 0.97, rng.random(n) < 0.02)
    columns = {"boat": np.where(boat, "yes", "no"), "z": rng.normal(size=n), "home": home}
    subject = decided(rng, columns, np.where(boat, 0.4, 0.1), roles={"home": Role.group})
    result = search(subject, PocketsSettings(columns=("boat", "z"), halvings=4), 3, Work())
    first = result.pockets[0]
    assert first.typed == "boat=yes" and first.like and first.like.same and first.like.group == "isles"
    both = (boat & (home == "isles")).sum()
    assert first.like.of_pocket == pytest.approx(both / boat.sum()) and first.like.of_group == pytest.approx(
        both / (home == "isles").sum()
    )
    said = METHODS["pockets"].read(result, SAID, PocketsSettings())
    assert "It is nearly the group home isles in other words" in said.detail


def test_a_column_that_is_asked_for_alone_is_looked_at_alone_and_the_outcome_only_then():
    rng = np.random.default_rng(4)
    subject = decided(rng, features(rng, 900), np.full(900, 0.2))
    assert "y" not in cell_sets.columns_of(subject, ()) and "d" not in cell_sets.columns_of(subject, ())
    result = search(subject, PocketsSettings(columns=("y",), halvings=2), 1, Work())
    assert result.columns == ("y",) and all(one.segment.columns == ("y",) for one in result.pockets)
    with pytest.raises(Refused, match="“d” cannot be looked at"):
        search(subject, PocketsSettings(columns=("d",)), 1, Work())


NASTY = {
    "one error": lambda rng, n: np.eye(1, n)[0],
    "none": lambda rng, n: np.zeros(n),
    "all wrong": lambda rng, n: np.ones(n),
    "some": lambda rng, n: np.full(n, 0.3),
}


@pytest.mark.parametrize("n", [14, 130, 700])
@pytest.mark.parametrize("what", NASTY)
def test_nasty_tables_are_read_or_said(what, n):
    rng = np.random.default_rng(n)
    columns = {
        "(other)": np.ones(n),
        "is not": rng.choice(np.array(["yes", None], object), n),
        "400 levels": np.array([f"level {i % 400}" for i in range(n)]),
        "rare": np.where(np.arange(n) == 3, "once", "always"),
        "empty": np.full(n, np.nan),
        "w": np.where(rng.random(n) < 0.3, 0.0, 1.0),
    }
    subject = decided(rng, columns, NASTY[what](rng, n), roles={"w": Role.weight})
    asked = PocketsSettings(halvings=3)
    result = search(subject, asked, 1, Work())
    said = METHODS["pockets"].read(result, SAID, asked)
    assert said.text and not any(word in said.text + said.detail for word in ("nan", "None", "inf"))
    assert all(one.status != "confirmed" for one in result.pockets)
    if what in ("none", "all wrong") and n > 200:
        assert ("No row is wrong" if what == "none" else "Every row is wrong") in said.detail
    if n == 14:
        assert "too few to search one half" in said.detail


def test_columns_that_are_all_alike_tell_no_rows_apart():
    rng = np.random.default_rng(1)
    result = search(decided(rng, {"one": np.ones(400)}, np.full(400, 0.2)), PocketsSettings(), 1, Work())
    assert result.looked_at == 0 and "No column tells the rows apart." in result.notes


def test_a_number_is_searched_for_how_far_and_which_way_it_is_off():
    rng = np.random.default_rng(6)
    n = 3_000
    x, way = rng.uniform(0, 10, n), rng.choice(["cart", "boat"], n)
    truth = rng.normal(size=n) * 2
    there = (x > 7) & (way == "boat")
    predicted = truth + rng.normal(size=n) + 2.0 * there
    subject = system(
        {"x": x, "way": way, "y": truth, "s": predicted}, roles={"s": Role.score}, task="regression", event=""
    )
    assert offered(subject) == ("absolute_error", "too_high", "too_low")
    for error, wanted in (("too_high", True), ("absolute_error", True), ("too_low", False)):
        result = search(subject, PocketsSettings(error=error, halvings=4), 2, Work())
        sure = [one for one in result.pockets if one.status == "confirmed"]
        masks = [segments.members(one.segment, subject.spec, subject.table, subject.rows.numbers) for one in sure]
        assert any((mask & there).sum() > 0.7 * (mask | there).sum() for mask in masks) == wanted
        if error == "too_high":
            off = (predicted - truth)[result_rows(subject, sure[0])]
            half = ~halves_of(subject, sure[0].halving, 2)[result_rows(subject, sure[0])]
            assert sure[0].gap.inside.value == pytest.approx(off[half].mean())
            assert sure[0].gap.ratio.value is None and sure[0].gap.share is None


def result_rows(subject: Subject, pocket) -> np.ndarray:
    return segments.members(pocket.segment, subject.spec, subject.table, subject.rows.numbers)


def halves_of(subject: Subject, halving: int, seed: int) -> np.ndarray:
    """The rows that one halving searched, where all rows count."""
    block, halves = dealt(errors_of(subject, ""), halving + 1, seed)
    return halves[halving][block]


def test_classes_are_searched_for_which_is_taken_for_which():
    rng = np.random.default_rng(7)
    n = 4_000
    truth = rng.choice(["low", "middle", "high"], n)
    way, x = rng.choice(["cart", "boat"], n), rng.uniform(size=n)
    taken = np.where((truth == "middle") & (way == "boat") & (rng.random(n) < 0.5), "high", truth)
    taken = np.where(rng.random(n) < 0.05, "low", taken)
    subject = system(
        {"way": way, "x": x, "y": truth, "d": taken}, roles={"d": Role.decision}, task="several classes", event=""
    )
    asked = PocketsSettings(error="taken_for", truth="middle", taken="high", halvings=4)
    result = search(subject, asked, 2, Work())
    assert result.rows == (truth == "middle").sum() and result.called == "share of middle taken for high"
    assert result.pockets[0].typed == "way=boat" and result.pockets[0].status == "confirmed"
    inside = (way == "boat") & (truth == "middle")
    kept = ~halves_of_named(subject, "taken_for", result.pockets[0].halving, "middle", "high")
    expected = ((taken == "high") & inside)[inside][kept[(way == "boat")[truth == "middle"]]].mean()
    assert result.pockets[0].gap.inside.value == pytest.approx(expected)
    with pytest.raises(Refused, match="none of the classes"):
        search(subject, PocketsSettings(error="taken_for", truth="nowhere"), 2, Work())


def halves_of_named(subject: Subject, error: str, halving: int, truth: str, taken: str) -> np.ndarray:
    block, halves = dealt(errors_of(subject, error, truth, taken), halving + 1, 2)
    return halves[halving][block]


def test_two_versions_are_set_beside_each_other():
    rng = np.random.default_rng(9)
    n = 5_000
    columns = {"x": rng.uniform(size=n).round(3), "way": rng.choice(["cart", "boat"], n), "y": rng.integers(0, 2, n)}
    there = (columns["x"] > 0.7) & (columns["way"] == "boat")

    def version(chance: np.ndarray, seed: int):
        wrong = np.random.default_rng(seed).random(n) < chance
        scores = np.where(columns["y"].astype(bool) ^ wrong, 0.9, 0.1)
        places = {round(float(v), 6): i for i, v in enumerate(columns["key"])}
        return lambda rows: np.array([scores[places[round(float(v), 6)]] for v in rows["key"]])

    columns["key"] = np.arange(n, dtype=float)
    one = system(columns, version(0.1 + 0.4 * there, 1), ["key"], roles={"key": Role.ignored})
    two = system(columns, version(np.full(n, 0.12), 2), ["key"], roles={"key": Role.ignored})
    subject = Subject(
        one.spec, one.table, one.predictor, one.context, beside=Subject(one.spec, one.table, two.predictor, one.context)
    )
    result = search(subject, PocketsSettings(halvings=4), 1, Work())
    first = result.pockets[0]
    assert first.status == "confirmed" and first.beside and first.beside.verdict == "gone"
    assert first.beside.change.high < 0
    assert "newly_wrong" in result.errors
    turned = Subject(
        one.spec, one.table, two.predictor, one.context, beside=Subject(one.spec, one.table, one.predictor, one.context)
    )
    new = search(turned, PocketsSettings(error="newly_wrong", halvings=4), 1, Work())
    mask = result_rows(turned, new.pockets[0])
    assert new.pockets[0].status == "confirmed" and (mask & there).sum() > 0.7 * (mask | there).sum()


def test_blocks_of_the_partition_hold_every_row_once():
    subject, _ = planted(3, 6_000, there=True, base=0.2)
    result = search(subject, PocketsSettings(halvings=1), 4, Work())
    parts = {one.number: one for one in result.parts}
    assert len(parts) > 1 and parts[0].rows == result.rows_confirming
    for one in parts.values():
        children = [other for other in parts.values() if other.inside == one.number]
        if children:
            assert sum(child.rows for child in children) == one.rows
            assert children == sorted(children, key=lambda child: child.number)
        if one.segment is not None:
            other = ~halves_of(subject, 0, 4)
            mask = result_rows(subject, one)
            assert (mask & other).sum() == one.rows
            errors = errors_of(subject, "")
            assert one.value == pytest.approx(errors.values[mask & other].mean())


@given(st.floats(-1e9, 1e9), st.floats(1e-9, 1e6))
@settings(max_examples=200, deadline=None)
def test_the_roundest_number_lies_between(low, more):
    high = low + more
    if not low < high:
        return
    found = roundest(low, high)
    assert low <= found < high


def test_the_roundest_number_is_the_one_a_person_would_write():
    pairs = [(9.97, 10.04), (3.0, 4.0), (0.4999, 0.5003), (-0.031, -0.0295), (1e8, 1e8 + 1), (-3, 2)]
    assert [roundest(*one) for one in pairs] == [10.0, 3.0, 0.5, -0.03, 1e8, 0.0]


def test_findings_are_raised_from_confirmed_places_alone():
    subject, _ = planted(1, 9_000, there=True)
    result = search(subject, PocketsSettings(halvings=4), 51, Work())
    found = METHODS["pockets"].findings_in(result, subject.spec)
    sure = [one for one in result.pockets if one.status == "confirmed"]
    assert [one.group for one in found] == [one.described for one in sure] and sure
    assert all(
        one.kind == "weakness" and one.concerned == pocket.gap.inside.rows
        for one, pocket in zip(found, sure, strict=True)
    )


def test_a_place_must_be_so_many_times_as_dense():
    assert Asked(10, 0.5, 2.0, 1.0).times == 2.0
    subject, _ = planted(5, 9_000, there=True)
    strict = search(subject, PocketsSettings(times=3.0, halvings=3), 4, Work())
    for one in strict.pockets:
        half = halves_of(subject, one.halving, 4)
        errors, mask = errors_of(subject, ""), result_rows(subject, one)
        inside, outside = errors.values[half & mask].mean(), errors.values[half & ~mask].mean()
        assert inside >= 3.0 * outside - 1e-9


def test_places_of_before_are_read_in_the_half_that_did_not_find_them():
    subject, _ = planted(1, 9_000, there=True)
    found = search(subject, PocketsSettings(halvings=4), 51, Work())
    findings = METHODS["pockets"].findings_in(found, subject.spec)
    again = search(subject, PocketsSettings(halvings=2, **METHODS["pockets"].besides(findings)), 51, Work())
    sure = [one for one in found.pockets if one.status == "confirmed"]
    assert [one.gap for one in again.besides] == [one.gap for one in sure]
    measured = METHODS["pockets"].measured(again)
    for one in findings:
        assert measured[one.name].gap == one.gap and measured[one.name].told
        assert one.gap.within == (1 / 1.25, 1.25) and one.gap.scale == "ratio"
    gone = search(subject, PocketsSettings(halvings=1, besides=("0|nowhere=1", "3|t0=none")), 51, Work())
    assert [one.gap for one in gone.besides] == [None, None]
    with pytest.raises(Refused, match="a place is written as HALVING"):
        search(subject, PocketsSettings(besides=("n0>1",)), 51, Work())
