"""Thresholds against every setting there is, in plain NumPy."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from tests.core.systems import system

from zerotilt.core import membership
from zerotilt.core.groups import thresholds
from zerotilt.core.groups.threshold_result import ThresholdSettings
from zerotilt.core.groups.threshold_search import NEAR
from zerotilt.core.meaning import NOBODY, Context, GroupThreshold, Role, Rule
from zerotilt.core.work import Work


def scored(seed: int, n: int = 90, groups: int = 2, single: bool = False, **more):
    rng = np.random.default_rng(seed)
    s = np.round(rng.beta(2, 2, n), 2)
    if single:
        s = s.astype(np.float32).astype(float)
    columns = {"g": rng.choice(list("pqr")[:groups], n), "s": s, "y": (rng.random(n) < s).astype(int)}
    return system(columns, roles={"g": Role.group, "s": Role.score}, **more)


def every_setting(subject, false_positive: float, false_negative: float):
    """Of each group: rates and cost at each of its thresholds that differ, nobody included."""
    g = subject.table.texts("g")
    out = []
    for label in dict.fromkeys(membership.grouping(subject.spec, subject.table, subject.rows.numbers, ("g",)).labels):
        mine = g == label
        y, s = subject.rows.outcome[mine], subject.predictions.scores[mine]
        rows = []
        for cut in [*np.unique(s), np.inf]:
            d = s >= cut
            rows.append(
                {
                    "selection rate": d.mean(),
                    "true positive rate": d[y].mean(),
                    "false positive rate": d[~y].mean(),
                    "accuracy": (d == y).mean(),
                    "cost": (false_positive * (d & ~y).sum() + false_negative * (~d & y).sum()) / subject.n,
                }
            )
        out.append(rows)
    return out


@pytest.mark.parametrize("groups", [2, 3])
@pytest.mark.parametrize("seed", range(8))
def test_each_aim_costs_least_of_all_settings_that_reach_it(seed, groups):
    subject = scored(seed, 90 if groups == 2 else 60, groups)
    false_negative = [1.0, 0.4, 3.0][seed % 3]
    found = thresholds.thresholds_of(subject, ThresholdSettings(false_negative=false_negative), 1, Work())
    by_name = {one.name: one for one in found.settings}
    parts = every_setting(subject, 1.0, false_negative)
    for aim, held in thresholds.AIMS.items():
        if held is None:
            continue
        near, widths = [], []
        for rows in itertools.product(*parts):
            rates = [row[held] for row in rows]
            width = max(rates) - min(rates)
            widths.append(width)
            if width <= NEAR + 1e-12:
                near.append(sum(row["cost"] for row in rows))
        one = by_name[aim]
        if near:
            assert one.cost == pytest.approx(min(near)), aim
            assert one.gaps[held] <= NEAR + 1e-9
            assert one.finer == pytest.approx(0, abs=1e-12)  # scores of two digits: thousandths are all there is
        else:
            assert one.gaps[held] == pytest.approx(min(widths)), aim
            assert "nearer the scores do not allow" in one.how


@pytest.mark.parametrize("seed", range(6))
def test_both_error_rates_of_two_groups_are_as_equal_as_any_setting_makes_them(seed):
    subject = scored(seed)
    found = thresholds.thresholds_of(subject, ThresholdSettings(), 1, Work())
    by_name = {one.name: one for one in found.settings}
    wanted = by_name["least cost, one for all"].selection_rate
    shares = [
        float((subject.table.texts("g") == label).mean()) for label in (one.group for one in found.current.groups)
    ]
    best = min(
        max(
            abs(a["true positive rate"] - b["true positive rate"]),
            abs(a["false positive rate"] - b["false positive rate"]),
        )
        for a, b in itertools.product(*every_setting(subject, 1, 1))
        if abs(shares[0] * a["selection rate"] + shares[1] * b["selection rate"] - wanted) <= NEAR
    )
    gaps = by_name["both error rates"].gaps
    assert max(gaps["true positive rate"], gaps["false positive rate"]) == pytest.approx(best)


@pytest.mark.parametrize("seed", range(5))
def test_finer_thresholds_are_told_of_where_they_cost_less(seed):
    rng = np.random.default_rng(seed)
    n = 400
    s = 0.5 + 0.002 * rng.beta(2, 2, n)  # all within two thousandths
    columns = {"g": rng.choice(["p", "q"], n), "s": s, "y": (rng.random(n) < (s - 0.5) / 0.002).astype(int)}
    subject = system(columns, roles={"g": Role.group, "s": Role.score})
    found = thresholds.thresholds_of(subject, ThresholdSettings(), 1, Work())
    one = next(one for one in found.settings if one.name == "equal selection rates")
    parts = every_setting(subject, 1, 1)
    rates = [np.array([row["selection rate"] for row in rows]) for rows in parts]
    costs = [np.array([row["cost"] for row in rows]) for rows in parts]
    near = np.abs(rates[0][:, None] - rates[1][None, :]) <= NEAR + 1e-12
    least = (costs[0][:, None] + costs[1][None, :])[near].min()
    assert one.finer == pytest.approx(one.cost - least)
    assert one.finer > 0.01


def test_nobody_can_be_predicted_although_a_score_is_one():
    n = 40
    columns = {"g": np.repeat(["p", "q"], 20), "s": np.ones(n), "y": np.r_[1, np.zeros(n - 1)].astype(int)}
    subject = system(columns, roles={"g": Role.group, "s": Role.score})
    found = thresholds.thresholds_of(subject, ThresholdSettings(false_positive=5.0), 1, Work())
    one = found.settings[0]
    assert one.rule.threshold == NOBODY
    assert one.selection_rate == 0 and one.cost == pytest.approx(1 / n)
    ruled = system(columns, roles={"g": Role.group, "s": Role.score}, context=Context(rows="all", rule=one.rule))
    assert not ruled.decisions.predicted.any()


@pytest.mark.parametrize("single", [True, False])
def test_a_score_that_equals_the_threshold_reaches_it_in_its_own_precision(single):
    """0.7 in single precision lies a little under 0.7: shown as 70.0%, it is decided as 70.0%."""
    s = np.array([0.7, 0.3, 0.1, 0.69, 0.71, 0.2])
    s = s.astype(np.float32).astype(float) if single else s
    columns = {"g": list("ppqqpq"), "s": s, "y": [1, 0, 1, 0, 1, 0]}
    for threshold in (0.7, 0.3, 0.1):
        subject = system(columns, roles={"g": Role.group, "s": Role.score}, threshold=threshold)
        assert subject.decisions.predicted.tolist() == (np.round(s, 3) >= threshold).tolist()
        rule = Rule(threshold=0.5, columns=("g",), thresholds=(GroupThreshold(group="p", threshold=threshold),))
        ruled = system(columns, roles={"g": Role.group, "s": Role.score}, context=Context(rows="all", rule=rule))
        expected = np.where(ruled.table.texts("g") == "p", np.round(s, 3) >= threshold, s >= 0.5)
        assert ruled.decisions.predicted.tolist() == expected.tolist()
    found = thresholds.thresholds_of(subject, ThresholdSettings(), 1, Work())
    places = {place for one in found.histograms for place in one.places}
    assert places == {700, 300, 100, 690, 710, 200}
    assert found.current.groups[0].threshold == 0.1
