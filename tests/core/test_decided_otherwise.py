"""Remedies at the decision, and repaired values beside the real ones: by force, in both directions, in the smallest cases."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from scipy.stats import ks_2samp
from tests.core.systems import system

from zerotilt.core.meaning import Context, Role, Rule, Task, Wording
from zerotilt.core.membership import JOIN
from zerotilt.core.refusal import Refused
from zerotilt.core.remedies.band import BandSettings, band
from zerotilt.core.remedies.band import say as say_band
from zerotilt.core.remedies.corrected import CorrectedSettings, corrected
from zerotilt.core.remedies.corrected import say as say_corrected
from zerotilt.core.remedies.repaired import SHARES, RepairedSettings, repaired
from zerotilt.core.remedies.repaired import say as say_repaired
from zerotilt.core.stats import intervals
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

WORDS = Wording(row="claim", rows="claims", favourable="settled at once")


def desk(
    seed: int = 1,
    n: int = 400,
    takes_home: bool = True,
    favourable: str = "event",
    weights: bool = False,
    cut: float = 0.5,
):
    """A desk whose score falls for the isles; a few claims have no home."""
    rng = np.random.default_rng(seed)
    home = rng.choice(["north", "isles", ""], n, p=[0.6, 0.35, 0.05]).astype(object)
    x = rng.normal(size=n)
    y = (x + rng.normal(0, 0.7, n) > 0).astype(int)
    columns = {"x": x, "home": home, "y": y.astype(str)}
    if weights:
        columns["w"] = rng.choice([0.0, 1.0, 2.0], n)

    def score(rows):
        tilt = 0.8 * (rows["home"] == "isles") if takes_home else 0.0
        return (1 / (1 + np.exp(-(rows["x"] - tilt) * 1.5)))[:, None]

    made = system(
        columns,
        score,
        ["x", "home"] if takes_home else ["x"],
        {"w": Role.weight},
        context=Context(rows="all", rule=Rule(threshold=cut)),
        favourable=favourable,
    )
    told = tuple(one.model_copy(update={"grouped": one.name == "home"}) for one in made.spec.columns)
    return type(made)(made.spec.model_copy(update={"columns": told}), made.table, made.predictor, made.context)


@pytest.mark.parametrize("weights", [False, True])
@pytest.mark.parametrize("favourable", ["event", "other"])
def test_the_band_is_decided_as_it_says(favourable, weights):
    subject = desk(favourable=favourable, weights=weights, cut=0.4)
    result = band(subject, BandSettings(width=0.1), 0, Work())
    home, mass = np.array([one or "" for one in subject.table.texts("home")]), subject.rows.mass
    score = subject.predictions.scores
    favoured = (score >= 0.4) if favourable == "event" else (score < 0.4)
    share = {one: np.average(favoured[home == one], weights=mass[home == one]) for one in ("north", "isles")}
    assert result.worse_off == min(share, key=share.get)
    inside = np.abs(score - np.float32(0.4)) <= 0.1
    after = np.where(inside, home == result.worse_off, favoured)
    right = (np.array(subject.table.texts("y")) == "1") == (favourable == "event")
    for one in result.groups:
        mine = home == ("" if one.group == "(missing)" else one.group)
        for way, told, among in (
            ("before", favoured, mine),
            ("favouring", after, mine),
            ("outside", favoured, mine & ~inside),
        ):
            rates = getattr(one, way)
            assert rates.rows == (among & (mass > 0)).sum()
            assert rates.favoured.value == pytest.approx(np.average(told[among], weights=mass[among]))
            assert rates.wrong.value == pytest.approx(np.average((told != right)[among], weights=mass[among]))
    assert result.chosen.turned == ((after != favoured) & (mass > 0)).sum()
    assert result.chosen.inside == pytest.approx(np.average(inside, weights=mass))
    none = next(one for one in result.steps if one.width == 0)
    assert none.turned == 0 and none.gap == result.gap and none.gap_outside == result.gap


def test_what_the_band_does_is_said_with_its_price():
    said = say_band(band(desk(), BandSettings(width=0.1), 0, Work()), WORDS, BandSettings(width=0.1))
    text = "".join(span.text for span in said.headline)
    assert (
        "have a score within 0.10 of the threshold. Decided there in favour of home isles, the gap to north in the selection rate"
        in text
    )
    assert "The share decided otherwise than the outcome" in text and "The gap is smallest at" in said.detail


def test_a_band_without_scores_groups_or_an_event_is_refused():
    with pytest.raises(Refused, match="No column is marked as a group"):
        subject = desk()
        plain = tuple(one.model_copy(update={"grouped": False}) for one in subject.spec.columns)
        band(
            type(subject)(
                subject.spec.model_copy(update={"columns": plain}), subject.table, subject.predictor, subject.context
            ),
            BandSettings(),
            0,
            Work(),
        )
    number = system(
        {"x": [1.0, 2.0], "home": ["a", "b"], "y": [1.0, 2.0]},
        lambda rows: rows["x"][:, None],
        ["x"],
        task=Task.regression,
        event="",
    )
    for method, settings in ((band, BandSettings()), (corrected, CorrectedSettings())):
        with pytest.raises(Refused, match="compares an event with its absence"):
            method(number, settings, 0, Work())


@pytest.mark.parametrize("favourable", ["event", "other"])
def test_corrected_decisions_are_those_of_the_same_rows_as_of_the_reference(favourable):
    subject = desk(favourable=favourable)
    result = corrected(subject, CorrectedSettings(), 0, Work())
    home = np.array([one or "" for one in subject.table.texts("home")])
    x = subject.table.numbers("x")
    tilt = 0.8 if result.reference == "isles" else 0.0
    moved = 1 / (1 + np.exp(-(x - tilt) * 1.5))
    score = subject.predictions.scores

    def good(one):
        return (one >= 0.5) if favourable == "event" else (one < 0.5)

    after = np.where(home == result.reference, good(score), good(moved))
    turned = np.flatnonzero(after != good(score))
    assert result.changed == len(turned) > 10 and [one.row for one in result.cases] == list(turned[:200])
    assert all(
        one.gained == after[one.row] and one.score_after == pytest.approx(moved[one.row], abs=1e-6)
        for one in result.cases
    )
    for one in result.groups:
        mine = home == ("" if one.group == "(missing)" else one.group)
        assert one.gained - one.lost == after[mine].sum() - good(score)[mine].sum()
        assert one.after.favoured.value == pytest.approx(after[mine].mean())
    said = say_corrected(result, WORDS, CorrectedSettings())
    assert f"With home alone set to {result.reference}, " in said.headline[0].text


def coded(columns: dict, takes: list[str], **grouped: dict):
    """A desk whose score falls by sex and age; columns are groups as ``grouped`` says."""
    made = system(
        columns,
        lambda rows: (1 / (1 + np.exp(-(rows["x"] - 0.9 * (rows["sex"] == 1) + 0.02 * (rows["age"] - 40)))))[:, None],
        takes,
        context=Context(rows="all"),
    )
    told = tuple(one.model_copy(update=grouped.get(one.name, {})) for one in made.spec.columns)
    crossed = [tuple(grouped)] if len(grouped) > 1 else []
    spec = made.spec.model_copy(update={"columns": told, "intersections": tuple(crossed)})
    return type(made)(spec, made.table, made.predictor, made.context)


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("way", ["a number", "bins", "a crossing"])
def test_a_group_that_is_a_number_a_range_or_a_crossing_is_set_too(way, seed):
    rng = np.random.default_rng(seed)
    n = 800
    columns = {
        "x": rng.normal(size=n),
        "sex": rng.integers(0, 2, n).astype(float),
        "age": rng.integers(18, 80, n).astype(float),
        "y": rng.integers(0, 2, n).astype(str),
    }
    marks = {
        "a number": {"sex": {"grouped": True}},
        "bins": {"age": {"grouped": True, "cuts": (30.0, 45.0, 60.0)}},
        "a crossing": {"sex": {"grouped": True}, "age": {"grouped": True, "cuts": (45.0,)}},
    }[way]
    subject = coded(columns, ["x", "sex", "age"], **marks)
    attribute = " · ".join(marks) if len(marks) > 1 else ""
    result = corrected(subject, CorrectedSettings(attribute=attribute.replace(" · ", JOIN)), 0, Work())
    moved = dict(columns)
    inside = np.ones(n, bool)
    if "sex" in marks:
        code = float(result.set_to["sex"])
        moved["sex"] = np.full(n, code)
        inside &= columns["sex"] == code
    if "age" in marks:
        edges = [-np.inf, *marks["age"]["cuts"], np.inf]
        value = float(result.set_to["age"])
        low, high = next((a, b) for a, b in itertools.pairwise(edges) if a < value <= b)
        inside &= (columns["age"] > low) & (columns["age"] <= high)
        moved["age"] = np.full(n, value)
    if way == "bins":  # the middle one of the reference's rows
        assert value == np.sort(columns["age"][inside])[(inside.sum() - 1) // 2]
    score = subject.model.outputs(subject.frame)[:, 0] >= 0.5
    z = moved["x"] - 0.9 * (moved["sex"] == 1) + 0.02 * (moved["age"] - 40)
    after = np.where(inside, score, 1 / (1 + np.exp(-z)) >= 0.5)
    assert result.taken and result.changed == (after != score).sum() > 20
    assert sum(one.gained for one in result.groups) == (after & ~score).sum()
    said = say_corrected(result, WORDS, CorrectedSettings())
    assert f"alone set to {result.reference}, {result.changed} decisions" in said.headline[0].text
    assert ("the middle of those rows" in said.detail) == ("age" in marks)


def test_of_a_crossing_that_the_model_takes_in_part_that_part_is_set_and_said():
    rng = np.random.default_rng(5)
    n = 600
    columns = {"x": rng.normal(size=n), "sex": rng.integers(0, 2, n).astype(float), "age": rng.integers(0, 2, n) * 1.0}
    columns["y"] = rng.integers(0, 2, n).astype(str)
    subject = coded(columns, ["x", "sex", "age"], sex={"grouped": True}, area={})
    made = system(
        columns,
        lambda rows: (1 / (1 + np.exp(-(rows["x"] - 0.9 * (rows["sex"] == 1)))))[:, None],
        ["x", "sex"],
        context=Context(rows="all"),
    )
    told = tuple(one.model_copy(update={"grouped": one.name in ("sex", "age")}) for one in subject.spec.columns)
    spec = made.spec.model_copy(update={"columns": told, "intersections": (("sex", "age"),)})
    result = corrected(
        type(made)(spec, made.table, made.predictor, made.context),
        CorrectedSettings(attribute=f"sex{JOIN}age"),
        0,
        Work(),
    )
    assert list(result.set_to) == ["sex"] and result.changed > 20
    assert (
        say_corrected(result, WORDS, CorrectedSettings())
        .headline[0]
        .text.startswith(f"With sex alone set to that of {result.reference}, ")
    )


def test_a_model_that_does_not_take_the_group_changes_nothing_and_that_is_said():
    result = corrected(desk(takes_home=False), CorrectedSettings(), 0, Work())
    assert not result.taken and result.changed == 0 and result.gap == result.gap_after
    assert (
        "The model does not take home, so no decision"
        in say_corrected(result, WORDS, CorrectedSettings()).headline[0].text
    )


def two_homes(decided: dict[str, tuple[int, int]], reference: str = "") -> Subject:
    """Claims of some homes: of each how many are decided for the event, and how many are not."""
    home, score = [], []
    for name, (up, down) in decided.items():
        home += [name] * (up + down)
        score += [0.9] * up + [0.1] * down
    columns = {"home": np.array(home, object), "score": np.array(score), "y": (np.array(score) > 0.5).astype(int)}
    made = system(columns, roles={"score": Role.score}, favourable="event", context=Context(rows="all"))
    told = tuple(
        one.model_copy(update={"grouped": True, "reference": reference or None}) if one.name == "home" else one
        for one in made.spec.columns
    )
    return Subject(made.spec.model_copy(update={"columns": told}), made.table, made.predictor, made.context)


@pytest.mark.parametrize("reference", ["", "isles", "north"])
@pytest.mark.parametrize("sizes", [(30, 60), (60, 30)])
def test_groups_that_get_it_as_often_are_still_two(reference, sizes):
    isles, north = ((half, half) for half in (size // 2 for size in sizes))
    found = band(two_homes({"isles": isles, "north": north}, reference), BandSettings(), 0, Work())
    held = reference or ("isles" if sizes[0] > sizes[1] else "north")
    assert (found.compared, found.worse_off) == (held, "north" if held == "isles" else "isles")
    want = intervals.mee(sizes[0] // 2, sizes[0], sizes[1] // 2, sizes[1])
    assert found.gap.low == pytest.approx(float(-want.high if found.worse_off == "north" else want.low))


def test_a_small_group_is_held_against_where_there_is_no_other():
    found = band(two_homes({"isles": (2, 6), "north": (20, 80)}), BandSettings(), 0, Work())
    assert (found.worse_off, found.compared) == ("north", "isles")
    found = band(two_homes({"isles": (1, 7), "north": (20, 80)}), BandSettings(), 0, Work())
    assert (found.worse_off, found.compared) == ("isles", "north")


def test_one_group_alone_has_no_gap():
    subject = desk()
    rows = np.flatnonzero(np.array([one or "" for one in subject.table.texts("home")]) == "north")
    alone = type(subject)(subject.spec, subject.table.among(rows), subject.predictor, subject.context)
    result = band(alone, BandSettings(), 0, Work())
    assert result.worse_off == result.compared
    assert "there is no gap that a band could lessen" in say_band(result, WORDS, BandSettings()).headline[0].text
    assert (
        say_corrected(corrected(alone, CorrectedSettings(), 0, Work()), WORDS, CorrectedSettings()).headline[1].text
        == ""
    )


def skew(n: int = 900):
    rng = np.random.default_rng(2)
    home = rng.choice(["north", "isles"], n)
    few = rng.random(n) < np.where(home == "isles", 0.8, 0.3)
    return system(
        {
            "wide": rng.normal(size=n) + 2.0 * (home == "isles"),
            "few": few.astype(float),
            "home": home,
            "y": rng.choice(["0", "1"], n),
        },
        lambda rows: np.full((rows.rows, 1), 0.5),
        ["wide"],
    )


def test_distances_before_and_after_are_told_and_any_row():
    subject = skew()
    result = repaired(subject, RepairedSettings(by="home", row=5), 0, Work())
    home, wide = np.array(subject.table.texts("home")), subject.table.numbers("wide").astype(np.float32)
    first, second = result.features
    assert (first.feature, second.feature) == ("wide", "few")
    assert first.apart == pytest.approx(ks_2samp(wide[home == "isles"], wide[home == "north"]).statistic)
    assert first.apart_after < 0.1 < first.apart and second.apart_after > 0.1
    isles = next(one for one in first.groups if one.group == "isles")
    assert isles.before == pytest.approx(np.quantile(wide[home == "isles"], SHARES), abs=1e-5)
    assert first.value == pytest.approx(wide[5], abs=1e-6) and result.row_group == home[5]
    half = repaired(subject, RepairedSettings(by="home", row=5, level=0.5), 0, Work()).features[0]
    assert half.value_after == pytest.approx((first.value + first.value_after) / 2, abs=1e-5)
    said = say_repaired(result, WORDS, RepairedSettings())
    assert said.headline[0].text.startswith(
        "Moved 100% of the way, wide, in which groups of home are farthest apart, goes from"
    )
    assert "Few keeps a distance: many claims share a value" in said.detail
    # where nothing was moved, or hardly a value is shared, that is not the reason
    still = second.model_copy(update={"moved": 0.0})
    apart = second.model_copy(update={"shared": 0.01})
    for feature, why in ((still, "it is not moved, since groups have too few values"), (apart, "fits these less well")):
        detail = say_repaired(
            result.model_copy(update={"features": (first, feature)}), WORDS, RepairedSettings()
        ).detail
        assert why in detail and "share a value" not in detail


@pytest.mark.parametrize(
    ("settings", "message"),
    [
        ({"by": "wide"}, "is no column of levels"),
        ({"by": ""}, "no column of levels makes groups"),
        ({"by": "home", "row": 10_000}, "the table has 900 rows"),
    ],
)
def test_repairs_that_cannot_be_are_refused(settings, message):
    with pytest.raises(Refused, match=message):
        repaired(skew(), RepairedSettings(**settings), 0, Work())
