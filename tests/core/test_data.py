"""The table itself: every column against a definition of its own; concerns on tables that have them and on tables that have not."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy import stats
from sklearn.metrics import roc_auc_score
from tests.core.systems import system

from zerotilt.core.data import foretold
from zerotilt.core.data.concern import RANKS, Gathered
from zerotilt.core.data.concerns import ConcernsSettings, find_concerns
from zerotilt.core.data.tested import shares_of_groups
from zerotilt.core.meaning import Context, Role, Task, Wording
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import apart
from zerotilt.core.stats.distributions import binomial_two_sided
from zerotilt.core.stats.intervals import adjust
from zerotilt.core.work import Work

WORDS = Wording()
FEATURES = ["x0", "x1", "x2", "lev"]


def clean(seed: int, n: int = 600, **more):
    """Columns that have nothing to do with each other."""
    rng = np.random.default_rng(seed)
    columns = {f"x{j}": rng.normal(size=n) for j in range(3)}
    columns["x0"] = np.where(rng.random(n) < 0.1, np.nan, columns["x0"])
    columns["lev"] = rng.choice(list("abcd"), n, p=[0.4, 0.3, 0.2, 0.1])
    columns["g"] = rng.choice(["p", "q", "r"], n, p=[0.5, 0.3, 0.2])
    columns["y"] = rng.integers(0, 2, n)
    columns |= {name: value(columns, rng) if callable(value) else value for name, value in more.items()}
    features = [name for name in [*FEATURES, *more] if name in columns and name not in ("g", "y")]
    return system(columns, lambda rows: 1 / (1 + np.exp(-np.nan_to_num(rows["x0"]))), features, roles={"g": Role.group})


def concerns(subject, **settings):
    return find_concerns(subject, ConcernsSettings(**settings), 0, Work())


def kinds(result) -> set[str]:
    return {one.kind for one in result.concerns}


def only(result, kind: str):
    found = [one for one in result.concerns if one.kind == kind]
    assert len(found) == 1, [one.sentence for one in result.concerns]
    return found[0]


def columns(subject, by: str = ""):
    method = METHODS["columns"]
    return method.compute(subject, method.settings(by=by), 0, Work())


@pytest.mark.parametrize("by", ["", "g", "lev", "x1", "(split)", "(decision)"])
def test_counts_are_those_of_the_rows_whatever_they_are_told_apart_by(by):
    subject = clean(3)
    result = columns(subject, by)
    seen = {one.name: one for one in result.columns}
    assert set(seen) == set(subject.table.names)
    if by != "(split)":
        assert result.rows == subject.n
    for one in seen.values():
        assert sum(one.counts) + one.other_rows + one.missing == result.rows
        if by and one.by_part and one.counts:
            assert np.array(one.by_part).sum(axis=0).tolist() == list(one.counts)
            assert sum(one.missing_by_part) == one.missing
    assert sum(result.part_rows) == (result.rows if by else 0)
    x = subject.table.numbers("x0")[subject.rows.numbers]
    if by != "(split)":
        known = x[np.isfinite(x)]
        expected = np.quantile(known, [0, 0.05, 0.25, 0.5, 0.75, 0.95, 1])
        np.testing.assert_allclose(seen["x0"].quantiles, expected)
        assert seen["x0"].mean == pytest.approx(known.mean())
        edges = np.array(seen["x0"].edges)
        cuts = edges[1:-1]
        assert list(seen["x0"].counts) == np.bincount(np.searchsorted(cuts, known, "right"), minlength=20).tolist()


def test_numbers_without_end_are_neither_missing_nor_in_a_mean():
    x = np.array([1.0, np.inf, 2.0, np.nan, 3.0, -np.inf, 10.0, np.inf])
    held = {"x": x, "all": np.full(8, np.inf), "y": np.arange(8) % 2}
    result = columns(system(held, lambda rows: np.full(len(rows["x"]), 0.5), ["x"]))
    seen = {one.name: one for one in result.columns}
    one = seen["x"]
    assert (one.missing, one.endless, one.distinct) == (1, 3, 4)
    assert (
        one.mean == 4.0 and one.quantiles[3] == 2.5 and one.quantiles[6] == 10.0
    )  # half of an even number: the middle
    assert list(one.counts) == [2, 1, 1, 3]  # the end bins hold what lies beyond
    assert (seen["all"].missing, seen["all"].endless, seen["y"].endless) == (0, 8, 0)
    text = METHODS["columns"].read(result, WORDS, METHODS["columns"].settings())
    assert "something is missing in 1 of them, most in x (12.5%)" in text.text
    assert "Numbers without end stand in x (3) and all (8)" in text.detail


def test_distances_are_kolmogorovs_and_total_variation():
    subject = clean(4)
    seen = {one.name: one for one in columns(subject, "g").columns}
    groups = subject.table.texts("g")[subject.rows.numbers]
    x, levels = subject.table.numbers("x1")[subject.rows.numbers], subject.table.texts("lev")[subject.rows.numbers]
    for name, expected in (
        ("x1", max(stats.ks_2samp(x[groups == g], x[groups != g]).statistic for g in "pqr")),
        (
            "lev",
            max(
                sum(abs((levels[groups == g] == v).mean() - (levels[groups != g] == v).mean()) for v in "abcd") / 2
                for g in "pqr"
            ),
        ),
    ):
        assert seen[name].distance == pytest.approx(expected)


def test_columns_of_one_row_each_of_one_value_of_nothing_and_of_texts():
    n = 64
    subject = clean(
        5, n,
        number=np.full(n, 7.0), empty=np.full(n, np.nan), name=np.array([f"n{i}" for i in range(n)]),
        level=np.where(np.arange(n) == 3, "once", "always"), huge=np.where(np.arange(n) == 5, 1e8, 0.0),
    )  # fmt: skip
    seen = {one.name: one for one in columns(subject, "g").columns}
    assert seen["number"].counts == (n,) and seen["number"].edges == (7.0, 7.0)
    assert seen["empty"].missing == n and seen["empty"].counts == ()
    assert seen["name"].levels == () and seen["name"].others == n and seen["name"].distance is None
    assert seen["level"].levels == ("always", "once") and seen["level"].counts == (n - 1, 1)
    assert seen["huge"].counts == (n - 1, 1)


def test_a_table_without_outcome_and_model_is_read_as_well():
    subject = clean(6)
    spec = subject.spec.model_copy(
        update={
            "columns": tuple(
                one.model_copy(update={"role": Role.ignored}) if one.name == "y" else one
                for one in subject.spec.columns
            )
        }
    )
    bare = replace(subject, spec=spec, predictor=None)
    assert len(columns(bare).columns) == len(subject.table.names)
    assert "(decision)" not in columns(bare).choices
    result = concerns(bare)
    assert "leaks (no column says what happened)" in result.left_out


def test_where_nothing_is_so_hardly_a_table_raises_a_tested_concern():
    """At most one in twenty: of sixty tables, more than seven would be a chance of one in a hundred."""
    raised = 0
    for seed in range(60):
        result = concerns(clean(seed, 300), population={"g=p": 0.5})
        raised += any(one.p_adjusted is not None for one in result.concerns)
    assert raised <= 7


def test_each_concern_is_found_where_it_is():
    def leak(of, rng):
        return of["y"] + rng.normal(size=len(of["y"])) * 0.05

    assert only(concerns(clean(1, after=leak)), "leak").columns == ("after",)
    same = only(concerns(clean(1, same=np.ones(600))), "constant")
    assert "the same value in all of" in same.sentence
    assert only(concerns(clean(1, code=np.arange(600.0))), "identifier").columns == ("code",)
    assert (
        only(
            concerns(clean(1, far=lambda of, rng: np.where(np.arange(600) == 9, 1e8, rng.normal(size=600)))), "far out"
        ).rows
        == 1
    )
    rare = only(concerns(clean(1, n=600, odd=np.where(np.arange(600) < 4, "z", "w"))), "rare levels")
    assert rare.rows is not None and rare.rows <= 4
    stand = only(concerns(clean(1, where=lambda of, rng: np.where(rng.random(600) < 0.9, of["g"], "q"))), "stand-in")
    assert "where (" in stand.sentence and stand.columns[:2] == ("g", "where")
    gone = lambda of, rng: np.where((of["g"] == "r") & (rng.random(600) < 0.6), np.nan, rng.normal(size=600))  # noqa: E731
    missing = only(concerns(clean(1, gone=gone)), "missing unevenly")
    assert missing.group == "r" and "gone" in missing.columns
    short = only(concerns(clean(1), population={"g=p": 0.8}), "share of a group")
    assert "80.0% of the population given" in short.sentence
    scarce = clean(1, y=lambda of, rng: (np.arange(600) % 40 == 0).astype(int))
    assert {"rare outcome", "few of a group"} <= kinds(concerns(scarce))


def halved(columns):
    """The same rows with a column that splits them, the second half held out."""
    half = len(columns["y"]) // 2
    parts = np.repeat(["train", "test"], half)
    roles = {"g": Role.group, "part": Role.split}
    split = {"holdout_values": ("test",), "training_values": ("train",)}
    return system(
        columns | {"part": parts}, lambda rows: 1 / (1 + np.exp(-np.nan_to_num(rows["x0"]))), FEATURES, roles, **split
    )


def test_rows_that_are_there_twice_contradict_each_other_or_stand_on_both_sides():
    subject = clean(2, 400)
    twice = {
        name: np.concatenate([subject.table.column(name).to_numpy(zero_copy_only=False)] * 2)
        for name in subject.table.names
    }
    twice["y"] = np.concatenate([twice["y"][:400], 1 - twice["y"][:400]])
    double = system(twice, lambda rows: 1 / (1 + np.exp(-np.nan_to_num(rows["x0"]))), FEATURES, roles={"g": Role.group})
    double = replace(double, context=Context(rows="all"))
    assert "rows in both" not in kinds(concerns(double))  # a draw of our own has no two sides
    found = concerns(halved(twice))
    assert only(found, "duplicated rows").rows == 400
    assert only(found, "contradicting rows").rows == 800
    assert "rows in both" in kinds(found)
    assert not {"duplicated rows", "contradicting rows", "rows in both"} & kinds(concerns(subject))


def test_coarse_columns_that_are_alike_by_chance_are_no_duplicates():
    rng = np.random.default_rng(8)
    n = 500
    held = {"a": rng.integers(0, 3, n), "b": rng.integers(0, 3, n), "y": rng.integers(0, 2, n)}
    subject = system(held, lambda rows: rows["a"] / 4, ["a", "b"])
    assert not {"duplicated rows", "contradicting rows"} & kinds(concerns(subject))


def test_areas_are_scikit_learns():
    rng = np.random.default_rng(0)
    for _ in range(20):
        y = rng.random(200) < 0.3
        scores = np.round(rng.normal(size=200) + y, 1)
        assert foretold.area(scores, y, 0.95).value == pytest.approx(roc_auc_score(y, scores))


def test_what_was_learnt_in_folds_varies_by_chance_twice_as_much_as_ranks_do():
    rng = np.random.default_rng(5)
    columns = [rng.integers(0, 12, 300) for _ in range(4)]
    areas, chances = [], []
    for seed in range(600):
        y = rng.random(300) < 0.4
        scores = foretold.all_together(columns, y[:, None], np.arange(300), seed)[:, 0]
        found = foretold.area(scores, y, 0.95).value
        areas.append((found - 0.5) / np.sqrt(301 / (12 * y.sum() * (~y).sum())))
        chances.append(foretold.by_chance(found, scores, y))
    assert np.var(areas) == pytest.approx(2, abs=0.35)
    # the level is kept: of 600, four standard errors
    for level in (0.1, 0.05, 0.01):
        assert np.mean(np.array(chances) <= level) <= level + 4 * np.sqrt(level * (1 - level) / 600)
    assert np.mean(np.array(chances) <= 0.1) > 0.04


def test_chances_of_areas_are_those_of_ranks_that_vary_twice_as_much():
    rng = np.random.default_rng(6)
    for _ in range(10):
        y, scores = rng.random(200) < 0.3, np.round(rng.normal(size=200), 1)
        ranks = stats.mannwhitneyu(
            scores[y], scores[~y], alternative="greater", use_continuity=False, method="asymptotic"
        )
        expected = stats.norm.sf(stats.norm.isf(ranks.pvalue) / np.sqrt(2))
        assert foretold.by_chance(roc_auc_score(y, scores), scores, y) == pytest.approx(expected, rel=1e-6)
    assert np.isnan(foretold.by_chance(0.5, scores, np.zeros(200, bool)))


def test_columns_that_know_nothing_foretell_nothing():
    rng = np.random.default_rng(1)
    areas = []
    for seed in range(40):
        kinds_of_rows, y = rng.integers(0, 30, 300), rng.random(300) < 0.4
        half = foretold.halves(300, seed)
        areas.append(foretold.area(foretold.by_one(kinds_of_rows, y, half), y, 0.95).value)
        together = foretold.all_together([kinds_of_rows, rng.integers(0, 9, 300)], y[:, None], np.arange(300), seed)
        areas.append(foretold.area(together[:, 0], y, 0.95).value)
    assert np.mean(areas) == pytest.approx(0.5, abs=0.02)


def test_tests_are_scipys():
    rng = np.random.default_rng(2)
    for _ in range(10):
        a, b = rng.normal(size=300), rng.normal(0.1, size=200)
        found, known = apart.numbers(a, b), stats.ks_2samp(a, b, method="asymp")
        assert found.distance == pytest.approx(known.statistic)
        assert found.p == pytest.approx(known.pvalue, abs=0.03)
        table = rng.integers(20, 60, (5, 2))
        assert apart.chi_squared(table) == pytest.approx(stats.chi2_contingency(table, correction=False).pvalue)
    assert np.isnan(apart.chi_squared(np.array([[1, 0], [0, 1]]))), "too few rows to test"
    assert np.isnan(apart.numbers(np.array([np.nan]), a).distance)


def test_a_number_and_classes_have_leaks_too():
    rng = np.random.default_rng(3)
    held = {"a": rng.normal(size=300), "b": rng.normal(size=300)}
    held["after"] = 3 * held["a"] + 0.01 * rng.normal(size=300)
    held["y"] = 3 * held["a"]
    number = system(held, lambda rows: rows["a"], ["b", "after"], task=Task.regression, event="")
    assert only(concerns(number), "leak").columns == ("after",)


def test_rare_groups_that_are_as_rare_as_in_the_population_raise_nothing():
    """Ten groups of half a percent each: the normal distribution rejects a fifth of tables for one row too many."""
    raised, many = 0, 100
    shares = {f"g{i}": 0.005 for i in range(10)}
    names = np.array([*shares, "rest"], dtype=object)
    for seed in range(many):
        rng = np.random.default_rng(seed)
        columns = {
            "x": rng.normal(size=400),
            "g": rng.choice(names, 400, p=[*shares.values(), 0.95]),
            "y": rng.integers(0, 2, 400).astype(str),
        }
        subject = system(
            columns, lambda rows: (1 / (1 + np.exp(-rows["x"])))[:, None], ["x"], context=Context(rows="all")
        )
        found = Gathered()
        shares_of_groups(subject, {f"g={name}": share for name, share in shares.items()}, found)
        raised += bool((adjust([one.p for one in found.suspicions]) <= 0.05).any())
    assert raised <= 0.05 * many


def test_the_exact_tails_are_those_of_the_distribution():
    for n, share in ((14, 0.3), (100, 0.005), (3000, 0.5)):
        for count in {0, 1, n // 3, n}:
            tails = stats.binom.cdf(count, n, share), stats.binom.sf(count - 1, n, share)
            assert binomial_two_sided(count, n, share) == pytest.approx(min(1, 2 * min(tails)), rel=1e-9)


def test_a_population_is_refused_where_it_names_nothing():
    for population, said in (
        ({"g": 0.2}, "names no group"),
        ({"nope=1": 0.2}, "names no group"),
        ({"g=p": 1.2}, "between 0 and 1"),
    ):
        with pytest.raises(Refused, match=said):
            concerns(clean(1), population=population)


@pytest.mark.parametrize("n", [4, 14])
def test_the_smallest_tables_are_read_without_a_word_too_many(n):
    for seed in range(8):
        for by in ("", "g", "(split)"):
            columns(replace(clean(seed, n), context=Context(rows="all")), by)
        result = concerns(replace(clean(seed, n), context=Context(rows="all")))
        assert all(one.kind in RANKS and one.sentence.endswith(".") for one in result.concerns)
        method = METHODS["concerns"]
        assert method.read(result, clean(seed, n).spec.wording, ConcernsSettings()).text


def test_planted_facts_are_among_the_concerns(demo_subject):
    """Stand-ins of home area (1), account age missing unevenly (6)."""
    found = concerns(demo_subject)
    assert any(
        one.kind == "stand-in" and "postal_district" in one.columns and "home_area" in one.columns
        for one in found.concerns
    )
    assert any(one.kind == "missing unevenly" and one.columns == ("account_age", "age_band") for one in found.concerns)


def together(subject, **settings):
    method = METHODS["pairs"]
    return method.compute(subject, method.settings(**settings), 0, Work())


def test_associations_are_scipys_and_the_order_holds_every_column():
    subject = clean(7)
    result = together(subject)
    rows = subject.rows.numbers
    x, y = subject.table.numbers("x1")[rows], subject.table.numbers("x2")[rows]
    place = {name: i for i, name in enumerate(result.names)}
    assert sorted(result.names) == sorted(subject.partable) and len(place) == len(result.names)
    strength = np.array(result.strengths)
    np.testing.assert_allclose(strength, strength.T)
    assert strength[place["x1"], place["x2"]] == pytest.approx(abs(stats.spearmanr(x, y).statistic))
    assert [one.strength for one in result.strongest] == sorted(
        (one.strength for one in result.strongest), reverse=True
    )
    measures = {frozenset((one.first, one.second)): one.measure for one in result.strongest}
    assert measures[frozenset(("x1", "x2"))] == "Spearman's ρ"
    assert measures[frozenset(("x1", "g"))] == "correlation ratio" and measures[frozenset(("lev", "g"))] == "Cramér's V"


def test_a_pair_is_drawn_by_what_its_columns_hold():
    subject = clean(7)
    rows = subject.rows.numbers
    numbers = together(subject, first="x0", second="x1").pair
    assert numbers is not None and numbers.kind == "numbers"
    assert sum(map(sum, numbers.counts)) + numbers.missing == subject.n
    levels = together(subject, first="lev", second="g").pair
    assert levels is not None and levels.kind == "levels"
    a, b = subject.table.texts("lev")[rows], subject.table.texts("g")[rows]
    known = np.array([[((a == r) & (b == c)).sum() for c in levels.columns_of] for r in levels.rows_of])
    np.testing.assert_array_equal(levels.counts, known)
    expected = stats.contingency.expected_freq(known)
    np.testing.assert_allclose(levels.residuals, (known - expected) / np.sqrt(expected))
    assert levels.p == pytest.approx(stats.chi2_contingency(known, correction=False).pvalue)
    boxes = together(subject, first="lev", second="x1").pair
    assert boxes is not None and boxes.kind == "boxes" and (boxes.first, boxes.second) == ("x1", "lev")
    x = subject.table.numbers("x1")[rows]
    for one in boxes.boxes:
        np.testing.assert_allclose(one.quantiles, np.quantile(x[a == one.level], [0.05, 0.25, 0.5, 0.75, 0.95]))


def test_pairs_of_odd_columns_are_read_or_refused_in_words():
    n = 40
    odd = clean(9, n, empty=np.full(n, np.nan), same=np.ones(n), many=np.array([f"n{i}" for i in range(n)]))
    for first in ("empty", "same", "many"):
        for second in ("x1", "lev", "g"):
            pair = together(odd, first=first, second=second).pair
            assert pair is not None and pair.rows == n and 0 <= pair.strength <= 1
    with pytest.raises(Refused, match="“nope” cannot be held"):
        together(odd, first="nope")


def test_many_small_groups_are_one_concern_and_a_single_row_is_none():
    rng = np.random.default_rng(0)
    many = clean(1, 400, code=np.array([f"c{i % 200}" for i in range(400)]))
    columns_of = tuple(
        one.model_copy(update={"role": Role.group}) if one.name == "code" else one for one in many.spec.columns
    )
    found = concerns(replace(many, spec=many.spec.model_copy(update={"columns": columns_of}), predictor=None))
    said = [one for one in found.concerns if one.kind == "few of a group" and one.columns == ("code",)]
    assert len(said) == 1 and "groups of code" in said[0].sentence
    held = {"a": rng.normal(size=2), "b": rng.normal(size=2), "y": np.array([0, 1])}
    one = system(held, lambda rows: np.full(len(rows["a"]), 0.5), ["a", "b"])
    assert not concerns(one).concerns
    none = found.model_copy(update={"tested": 0})
    read = METHODS["concerns"].read(none, many.spec.wording, ConcernsSettings())
    assert "Nothing could be tested." in read.detail


def test_a_level_of_nothing_but_a_space_has_a_name():
    blank = clean(1, 60, odd=np.where(np.arange(60) % 3 == 0, "", "full"))
    seen = {one.name: one for one in columns(blank, "odd").columns}
    assert "(blank)" in seen["odd"].levels and seen["x1"].farthest in ("(blank)", "full", "(missing)")


def test_a_shift_that_no_column_shows_by_itself_is_told_by_all_together():
    rng = np.random.default_rng(4)
    n = 1_200
    held = rng.random(n) < 0.4
    made = {f"m{j:02d}": rng.normal(size=n) + 0.2 * held for j in range(20)}
    made |= {"split": np.where(held, "kept", "seen"), "y": rng.integers(0, 2, n)}
    more = {"holdout_values": ("kept",), "training_values": ("seen",)}
    names = [name for name in made if name.startswith("m")]
    subject = system(made, lambda rows: 1 / (1 + np.exp(-rows["m00"])), names, roles={"split": Role.split}, **more)
    found = concerns(replace(subject, context=Context(rows="hold-out"))).concerns
    (one,) = (one for one in found if one.kind == "splits differ" and one.found is not None)
    assert one.found.low > 0.6 and "All features together tell held-out from training" in one.sentence
    assert len(one.columns) == 2 and one.of == n and one.rows == held.sum()
    # the same, shuffled: nothing is told
    made["split"] = rng.permutation(made["split"])
    still = system(made, lambda rows: 1 / (1 + np.exp(-rows["m00"])), names, roles={"split": Role.split}, **more)
    assert "splits differ" not in kinds(concerns(still))
