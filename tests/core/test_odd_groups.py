"""Groups with names like our own words, borders that agree in four digits, and values far from zero."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats
from tests.core.systems import system

from zerotilt.core import membership
from zerotilt.core.groups import given, thresholds, tilt
from zerotilt.core.groups.disparity import TiltSettings
from zerotilt.core.groups.given_result import GivenSettings
from zerotilt.core.groups.threshold_result import ThresholdSettings
from zerotilt.core.meaning import ColumnSpec, Context, GroupThreshold, Kind, Role, Rule, Spec, Task
from zerotilt.core.membership import JOIN, MISSING, OTHER
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays
from zerotilt.core.work import Work


def grouped(columns, *names, **specs):
    table = from_arrays(columns)
    spec = Spec(
        columns=tuple(
            ColumnSpec(
                name=name,
                kind=Kind.numeric if table.is_number(name) else Kind.categorical,
                role=Role.outcome if name == "y" else Role.group,
                **specs.get(name, {}),
            )
            for name in table.names
        ),
        event="1",
    )
    rows = np.arange(table.rows)
    return membership.grouping(spec, table, rows, names or (table.names[0],)), spec, table


def test_levels_called_like_our_own_words_are_groups_of_their_own():
    found, _, _ = grouped({"g": [MISSING, None, OTHER, "a", f"a{JOIN}b", None]})
    assert len(set(found.labels)) == len(found.labels) == 5
    assert found.codes.tolist()[1] == found.codes.tolist()[5]
    assert len(set(found.codes.tolist())) == 5


def test_crossings_of_levels_that_hold_the_joining_sign_keep_apart():
    columns = {"g": [f"x{JOIN}y", "x", "x"], "h": ["z", f"y{JOIN}z", "w"]}
    found, _, _ = grouped(columns, "g", "h")
    assert len(set(found.labels)) == 3


def test_columns_that_hold_the_joining_sign_are_found():
    _, spec, _ = grouped({f"a{JOIN}b": ["1", "2"], "b": ["1", "2"], "c": ["1", "2"]})
    assert membership.columns_of(spec, f"a{JOIN}b") == (f"a{JOIN}b",)
    assert membership.columns_of(spec, JOIN.join((f"a{JOIN}b", "c"))) == (f"a{JOIN}b", "c")
    assert membership.columns_of(spec, JOIN.join(("b", "c"))) == ("b", "c")


@pytest.mark.parametrize("around", [0.0, 1e6, 1e8, -1e6])
@pytest.mark.parametrize("seed", range(4))
def test_bins_have_names_of_their_own_that_are_their_borders(around, seed):
    values = around + np.random.default_rng(seed).normal(size=500)
    found, _, table = grouped({"g": values})
    assert len(found.labels) == len(set(found.labels)) == 4
    borders = membership.borders(table, "g")
    for label, low, high in zip(found.labels, [-np.inf, *borders], [*borders, np.inf], strict=True):
        mine = found.mask(found.labels.index(label))
        assert mine.tolist() == ((values > low) & (values <= high)).tolist()
        for border in (low, high):
            assert np.isinf(border) or str(border) in label or f"{border:.0f}" in label
    assert min(np.bincount(found.codes)) >= 100


def test_a_bin_is_the_same_whichever_rows_are_read():
    values = np.random.default_rng(0).normal(size=400) + 1e6
    _, spec, table = grouped({"g": values, "y": np.arange(400) % 2})
    whole = membership.grouping(spec, table, np.arange(400), ("g",))
    part = membership.grouping(spec, table, np.arange(0, 400, 3), ("g",))
    assert part.labels == whole.labels
    assert part.codes.tolist() == whole.codes[::3].tolist()


def test_a_rule_kept_for_bins_gives_what_it_promised():
    rng = np.random.default_rng(2)
    n = 800
    size = 1e6 + rng.normal(size=n)
    s = rng.random(n).round(3)
    columns = {"size": size, "s": s, "y": (rng.random(n) < s).astype(int)}
    roles = {"size": Role.group, "s": Role.score}
    subject = system(columns, roles=roles)
    found = thresholds.thresholds_of(subject, ThresholdSettings(false_negative=0.3), 1, Work())
    kept = next(one for one in found.settings if one.name == "least cost, one a group")
    ruled = system(columns, roles=roles, context=Context(rows="all", rule=kept.rule))
    assert ruled.decisions.favoured.mean() == pytest.approx(kept.selection_rate)
    after = thresholds.thresholds_of(ruled, ThresholdSettings(false_negative=0.3), 1, Work()).current
    assert after.cost == pytest.approx(kept.cost)


def test_a_bin_without_rows_is_no_group():
    found, _, _ = grouped({"g": [1.0, 2.0, 9.0]}, g={"cuts": (1.5, 5.0, 7.0, 20.0)})
    assert found.labels == ("up to 1.5", "over 1.5 to 5", "over 7 to 20")


def test_of_many_ordered_levels_the_rarest_are_joined():
    rng = np.random.default_rng(3)
    order = tuple(f"step {i:02d}" for i in range(40))
    sizes = rng.permutation(np.r_[np.full(12, 2), np.full(28, 30)])
    values = np.repeat(order, sizes)
    found, _, _ = grouped({"g": values}, g={"order": order})
    assert len(found.labels) == 30 and found.labels[-1] == OTHER
    kept = [one for one in found.labels if one != OTHER]
    assert kept == sorted(kept)
    assert all(size == 30 for level, size in zip(order, sizes, strict=True) if level not in kept) is False
    assert {level for level, size in zip(order, sizes, strict=True) if size == 30} <= set(kept)


@pytest.mark.parametrize("reference", ["largest", "all others"])
@pytest.mark.parametrize("apart", [0.0, 1e8])
@pytest.mark.parametrize("seed", range(3))
def test_means_of_groups_far_from_zero_and_from_one_another_keep_their_digits(seed, apart, reference):
    rng = np.random.default_rng(seed)
    n = 300
    g = np.repeat(["p", "q", "r"], 100)
    values = 1e8 + apart * (g == "q") + rng.normal(size=n)
    columns = {"g": g, "s": values, "y": values + rng.normal(size=n)}
    subject = system(columns, roles={"g": Role.group, "s": Role.score}, task=Task.regression, event="")
    found = tilt.compare_groups(subject, TiltSettings(reference=reference), 1, Work())
    for one in found.groups:
        own = values[g == one.group]
        half = one.metrics["mean_prediction"]
        assert half.value == pytest.approx(own.mean(), rel=1e-14)
        assert half.high - half.low == pytest.approx(2 * stats.t.ppf(0.975, 99) * own.std(ddof=1) / 10, rel=0.03)
    if reference == "all others" and not apart:
        gap = next(d for d in found.disparities if d.group == "p" and d.metric == "mean_prediction").difference
        assert gap.high - gap.low == pytest.approx(2 * 1.98 * np.sqrt(1 / 100 + 1 / 200), rel=0.2)


@pytest.mark.parametrize("around", [0.0, 1e8])
def test_means_given_other_columns_keep_their_digits(around):
    rng = np.random.default_rng(1)
    n = 600
    k = rng.choice(["k1", "k2"], n)
    g = np.where(rng.random(n) < np.where(k == "k1", 0.3, 0.7), "p", "q")
    s = around + (k == "k1") * 5.0 + (g == "p") * 2.0 + rng.normal(size=n)
    columns = {"g": g, "k": k, "s": s, "y": s}
    subject = system(columns, roles={"g": Role.group, "k": Role.group, "s": Role.score}, task=Task.regression, event="")
    asked = GivenSettings(attribute="g", group="p", reference="q", columns=("k",))
    found = given.compare_given(subject, asked, 1, Work())
    parts = [(s[(k == one) & (g == "p")], s[(k == one) & (g == "q")]) for one in ("k1", "k2")]
    weight = np.array([len(a) * len(b) / (len(a) + len(b)) for a, b in parts])
    gaps = np.array([a.mean() - b.mean() for a, b in parts])
    errors = np.array([a.var(ddof=1) / len(a) + b.var(ddof=1) / len(b) for a, b in parts])
    expected, half = weight @ gaps / weight.sum(), 1.96 * np.sqrt(weight**2 @ errors) / weight.sum()
    assert found.pooled.difference.value == pytest.approx(expected, rel=1e-6)
    assert found.pooled.difference.high - expected == pytest.approx(half, rel=1e-4)


@pytest.mark.parametrize("seed", range(12))
def test_no_gap_is_explained_where_there_is_none(seed):
    rng = np.random.default_rng(seed)
    n = 1_500
    columns = {
        "g": rng.choice(["p", "q"], n),
        "k": rng.choice(list("abc"), n),
        "m": rng.choice(list("uvwxyz"), n),
        "s": rng.random(n),
        "y": rng.integers(0, 2, n),
    }
    subject = system(columns, roles={name: Role.group for name in ("g", "k", "m")} | {"s": Role.score})
    asked = GivenSettings(attribute="g", group="p", reference="q")
    found = given.compare_given(subject, asked, 1, Work())
    interval = found.plain.ratio
    if interval.low <= 1 <= interval.high:
        assert found.verdict in ("no gap", "appears")
        assert found.shrinks is None and all(one.shrinks is None for one in found.candidates)
        said = given.say(found, subject.spec.wording, asked)
        assert "turns round" not in said.text and "takes away" not in said.detail
        if found.verdict == "no gap":
            assert "There is no gap between p and q to explain" in said.text


@pytest.mark.parametrize("task", [Task.binary, Task.regression])
@pytest.mark.parametrize("weighted", [False, True])
def test_one_comparison_has_one_interval(task, weighted):
    """Groups and Given other columns say the same of the plain gap."""
    rng = np.random.default_rng(5)
    n = 500
    g = rng.choice(["p", "q"], n)
    s = np.clip(rng.random(n) - 0.1 * (g == "p"), 0, 1)
    columns = {"g": g, "k": rng.choice(list("ab"), n), "s": s, "y": (rng.random(n) < s).astype(int)}
    roles = {"g": Role.group, "k": Role.group, "s": Role.score}
    if weighted:
        columns["w"], roles["w"] = rng.lognormal(size=n), Role.weight
    more = {"task": task, "event": ""} if task is Task.regression else {}
    subject = system(columns, roles=roles, **more)
    key = "mean_prediction" if task is Task.regression else "selection_rate"
    compared = tilt.compare_groups(subject, TiltSettings(attributes=("g",)), 1, Work())
    one = next(d for d in compared.disparities if d.metric == key)
    asked = GivenSettings(attribute="g", group=one.group, reference=one.reference, columns=("k",))
    plain = given.compare_given(subject, asked, 1, Work()).plain
    assert plain.difference == one.difference
    if task is Task.binary:
        assert plain.ratio == one.ratio
    assert plain.p_value == pytest.approx(one.p_value)


def test_a_rule_names_groups_by_their_labels_also_where_these_are_quoted():
    columns = {"g": [MISSING, "a", MISSING, "a"], "s": [0.6, 0.6, 0.4, 0.4], "y": [1, 0, 1, 0]}
    rule = Rule(threshold=0.5, columns=("g",), thresholds=(GroupThreshold(group=f"“{MISSING}”", threshold=0.3),))
    subject: Subject = system(columns, roles={"g": Role.group, "s": Role.score}, context=Context(rows="all", rule=rule))
    assert subject.decisions.predicted.tolist() == [True, True, True, False]
