"""A weight of two is the row twice, in every method; a weight of nothing is no row."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from tests.core.systems import system

from zerotilt.core.contributions.ladder import LadderSettings, ladder_of
from zerotilt.core.counterfactuals.flip import FlipSettings, flip
from zerotilt.core.drivers import by_part, expectations, loss_shapley, ranking, spread
from zerotilt.core.groups import given, lattice, opened, performance, score_gap, sides, thresholds, tilt
from zerotilt.core.meaning import Context, Kind, Role, Task
from zerotilt.core.response import accumulated, expected, interactions, partial, surface
from zerotilt.core.work import Work

N = 60


def chance(rows):
    odd = np.array([len(str(one)) % 2 for one in rows["grade"]])
    return 1 / (1 + np.exp(-(rows["a"] - 1 + odd * rows["a"] / 2)))


def two(seed: int = 3, task: Task = Task.binary):
    """The same rows twice over: with whole weights (some of them nothing), and written out that often."""
    rng = np.random.default_rng(seed)
    times = rng.integers(0, 4, N)
    columns = {
        "a": rng.integers(0, 4, N).astype(float),
        "grade": rng.choice(["A", "BB", "CCC"], N),
        "home": rng.choice(["harbour", "uplands"], N),
        "sort": rng.choice(["p", "q", "r"], N),
    }
    odd = np.array([len(one) % 2 for one in columns["grade"]])
    score = 1 / (1 + np.exp(-(columns["a"] - 1 + odd * columns["a"] / 2)))
    columns["y"] = (rng.random(N) < score).astype(int) if task is Task.binary else score * 10 + rng.normal(size=N)
    roles = {"home": Role.group, "sort": Role.group}
    f = chance if task is Task.binary else lambda rows: 10 * chance(rows)
    more = {"event": "1"} if task is Task.binary else {"task": task, "event": ""}
    more |= {"context": Context(rows="all")}
    weighed = system(columns | {"w": times.astype(float)}, f, ["a", "grade"], roles | {"w": Role.weight}, **more)
    written = system(
        {name: np.repeat(values, times) for name, values in columns.items()}, f, ["a", "grade"], roles, **more
    )
    return _in_order(weighed), _in_order(written)


def _in_order(subject):
    """Levels in an order of their own, since by size they would stand in another."""
    orders = {"grade": ("A", "BB", "CCC"), "sort": ("p", "q", "r"), "home": ("harbour", "uplands")}
    changed = tuple(
        one.model_copy(update={"kind": Kind.ordered, "order": orders[one.name]}) if one.name in orders else one
        for one in subject.spec.columns
    )
    return replace(subject, spec=subject.spec.model_copy(update={"columns": changed}))


def numbers(value) -> list:
    """Everything a result says but intervals, p-values and counts of rows, which rows written twice do change."""
    left_out = {"low", "high", "mean_low", "mean_high", "rows", "rows_read", "rows_scored", "of", "count", "explained",
                "rows_explained", "background", "evaluations", "support", "why", "p_value", "p_adjusted", "status", "error",
                "rows_walked", "walked", "tested", "rows_group", "rows_reference", "curve_rows", "curves", "curve_parts",
                "density", "rug", "outside", "verdict", "notes", "listed", "gained", "lost", "odds_ratio", "p_alike",
                "compared", "policy", "corrected", "histograms", "gain", "lose", "few", "finer", "cells", "bars", "curve",
                "calibration", "worst", "settled", "scarce", "loss_depends", "every_pair", "linked", "frontier", "splits",
                "parted", "parted_at", "associated", "shapley_why", "weighted", "minimum_rows", "change", "kolmogorov_smirnov",
                "at", "only_here", "rows_of_both", "far_share", "agreement", "ranks", "threshold", "reach", "dominant",
                "calibration_error", "skipped", "first_share"}  # fmt: skip
    if isinstance(value, dict):
        if value.get("metric") == "calibration_error":  # its bins are of equal numbers of rows
            return []
        if (
            "judged" in value
        ):  # a ratio with a rate of zero, or of an interval that reaches zero, goes by the rows there are
            left_out = left_out | {"ratio"}
        return [(key, numbers(inner)) for key, inner in sorted(value.items()) if key not in left_out]
    if isinstance(value, list | tuple):
        named = [one for one in value if isinstance(one, dict) and "group" in one and "attribute" in one]
        if named:  # largest tilt first would be another order
            value = sorted(named, key=lambda one: (one["attribute"], one["group"], one.get("metric", "")))
        return [numbers(inner) for inner in value]
    return [value]


def flat(value) -> list:
    return [one for inner in value for one in flat(inner)] if isinstance(value, list | tuple) else [value]


ALL = 10_000
METHODS = {
    "performance": (performance.perform, performance.PerformanceSettings()),
    "ranking": (ranking.rank, ranking.DriversSettings(rows=ALL, explained=ALL)),
    "by group": (by_part.by_part, by_part.ByPartSettings(column="home", rows=ALL)),
    "spread": (spread.spread_out, spread.SpreadSettings(feature="a", rows=ALL, sampled=ALL)),
    "loss Shapley": (loss_shapley.share_out, loss_shapley.LossShapleySettings(rows=ALL, background=ALL)),
    "expectations": (expectations.check_all, expectations.ExpectationsSettings(expected={"a": "falls"}, rows=ALL)),
    "response": (partial.respond, partial.ResponseSettings(feature="a", rows=ALL, colour="home")),
    "response of levels": (partial.respond, partial.ResponseSettings(feature="grade", rows=ALL)),
    "accumulated, levels": (accumulated.accumulate, accumulated.AleSettings(feature="grade", rows=ALL)),
    "expected": (expected.check_expected, expected.ExpectedSettings(feature="a", expected="falls", rows=ALL)),
    "surface": (surface.survey, surface.SurfaceSettings(first="a", second="grade", rows=ALL)),
    "flip": (flip, FlipSettings(feature="grade")),
    "tilt": (tilt.compare_groups, tilt.TiltSettings(reference="all others")),
    "lattice": (lattice.crossings_of, lattice.LatticeSettings()),
    "opened": (opened.open_group, opened.OpenedSettings(attribute="home", group="uplands", reference="harbour")),
    "given": (given.compare_given, given.GivenSettings(attribute="home", group="uplands", reference="harbour", columns=("sort",))),
    "sides": (sides.set_beside, sides.SidesSettings()),
    "thresholds": (thresholds.thresholds_of, thresholds.ThresholdSettings(attribute="sort")),
    "score gap": (score_gap.gap_of_scores, score_gap.ScoreGapSettings(attribute="home", group="uplands", reference="harbour", explained=ALL)),
}  # fmt: skip


@pytest.mark.parametrize("name", METHODS)
def test_a_weight_of_two_is_the_row_twice(name):
    method, settings = METHODS[name]
    found = [numbers(method(one, settings, 1, Work()).model_dump()) for one in two()]
    weighed, written = (flat(one) for one in found)
    assert len(weighed) == len(written)
    for a, b in zip(weighed, written, strict=True):
        assert a == (pytest.approx(b, rel=1e-6, abs=1e-9) if isinstance(b, float) else b)


@pytest.mark.parametrize("name", ["performance", "ranking", "response", "accumulated, levels", "tilt", "given"])
def test_the_same_of_a_number(name):
    method, settings = METHODS[name]
    weighed, written = (
        flat(numbers(method(one, settings, 1, Work()).model_dump())) for one in two(task=Task.regression)
    )
    for a, b in zip(weighed, written, strict=True):
        assert a == (pytest.approx(b, rel=1e-6, abs=1e-9) if isinstance(b, float) else b)


def test_contributions_are_against_weighed_rows():
    weighed, written = two()
    row = int(np.flatnonzero(weighed.rows.mass)[0])
    found = [ladder_of(one, LadderSettings(row=at), 1, Work()) for one, at in ((weighed, row), (written, 0))]
    assert found[0].baseline == pytest.approx(found[1].baseline)
    assert {r.feature: r.contribution for r in found[0].rungs} == pytest.approx(
        {r.feature: r.contribution for r in found[1].rungs}
    )


def test_interactions_weigh_their_rows():
    """Draws of all rows: H² of weighed rows is that of the rows written out."""
    weighed, written = two()
    found = [
        interactions.pair_up(one, interactions.InteractionsSettings(rows=500, draws=2), 1, Work())
        for one in (weighed, written)
    ]
    assert found[0].pairs[0].strength.value == pytest.approx(found[1].pairs[0].strength.value)
    assert found[0].pairs[0].size == pytest.approx(found[1].pairs[0].size)


def test_rows_that_weigh_nothing_are_too_few():
    """Forty rows a group of which twelve weigh anything: under the policy's thirty."""
    rng = np.random.default_rng(0)
    n = 80
    columns = {"g": np.repeat(["p", "q"], 40), "s": rng.random(n), "y": rng.integers(0, 2, n)}
    columns["w"] = np.tile(np.r_[np.ones(12), np.zeros(28)], 2)
    subject = system(columns, roles={"g": Role.group, "s": Role.score, "w": Role.weight})
    found = tilt.compare_groups(subject, tilt.TiltSettings(), 1, Work())
    assert {one.status for one in found.disparities} == {"too_few"}
    assert all(group.metrics["selection_rate"].of == 12 for group in found.groups)


@pytest.mark.parametrize("share", [0.3, 0.6])
def test_alike_groups_of_which_many_rows_weigh_nothing_are_not_flagged(share):
    flagged = 0
    for seed in range(30):
        rng = np.random.default_rng(seed)
        n = 600
        s = rng.random(n)
        columns = {"g": rng.choice(["p", "q", "r"], n), "s": s, "y": (rng.random(n) < s).astype(int)}
        columns["w"] = (rng.random(n) > share) * rng.lognormal(size=n)
        subject = system(columns, roles={"g": Role.group, "s": Role.score, "w": Role.weight})
        found = tilt.compare_groups(subject, tilt.TiltSettings(), 1, Work())
        flagged += any(one.status == "flagged" for one in found.disparities)
    assert flagged <= 5
