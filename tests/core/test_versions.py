"""Versions beside each other: every difference against the rows themselves, and claims where there is no difference."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from sklearn.metrics import roc_auc_score
from tests.core import zoo
from tests.core.systems import spec_of

from zerotilt.core.groups.paired_metrics import paired
from zerotilt.core.groups.readout import Lens, Readout, read
from zerotilt.core.meaning import Condition, Context, Role, Segment, Task, Wording
from zerotilt.core.membership import Grouping
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.remedies.versions import VersionsSettings, say, versions_compared
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays
from zerotilt.core.work import Work


def versions(
    seed: int = 1, n: int = 600, weights: bool = False, task: Task = Task.binary, alike: bool = False
) -> Subject:
    """A version and two others: one that is worse for the isles, and one that is a little noise."""
    rng = np.random.default_rng(seed)
    home = rng.choice(["north", "isles", "uplands"], n, p=[0.6, 0.3, 0.1])
    x = rng.normal(size=n)
    y = x + rng.normal(0, 0.8, n)
    columns = {"x": x, "home": home, "y": y if task is Task.regression else (y > 0).astype(int).astype(str)}
    if weights:
        columns["w"] = rng.choice([0.0, 1.0, 3.0], n)
    table = from_arrays(columns)
    told = {} if task is Task.regression else {"event": "1"}
    spec = spec_of(table, {"y": Role.outcome, "w": Role.weight}, task=task, **told)
    spec = spec.model_copy(
        update={
            "columns": tuple(one.model_copy(update={"grouped": one.name == "home"}) for one in spec.columns),
            "segments": (Segment(name="low", conditions=(Condition(column="x", under=-0.5),)),),
        }
    )
    shake = {
        "base": 0.3 * rng.normal(size=n),
        "a little noise": 0.3 * rng.normal(size=n),
        "bad": 3.0 * (home == "isles"),
    }
    outputs = {
        name: (x + off if task is Task.regression else 1 / (1 + np.exp(-(x + off) * 2))) for name, off in shake.items()
    }

    def subject(name: str) -> Subject:
        predictor = FunctionPredictor(
            ("x",), lambda rows: outputs[name][:, None], task, ("0", "1") if task is Task.binary else ()
        )
        return Subject(spec, table, predictor, Context(rows="all", model_named=name))

    others = {"a little noise": subject("a little noise")} | ({} if alike else {"bad": subject("bad")})
    return replace(subject("base"), others=others)


def told(subject: Subject):
    return versions_compared(subject, VersionsSettings(), 0, Work())


@pytest.mark.parametrize("weights", [False, True])
def test_every_difference_is_that_of_the_rows(weights):
    subject = versions(weights=weights)
    result = told(subject)
    home = np.array(subject.table.texts("home"))
    mass = subject.rows.mass
    y = subject.rows.outcome.astype(bool)
    rates = {
        "selection_rate": (lambda d: d, lambda d: y | True),
        "accuracy": (lambda d: d == y, lambda d: y | True),
        "true_positive_rate": (lambda d: d, lambda d: y),
        "false_positive_rate": (lambda d: d, lambda d: ~y),
        "positive_predictive_value": (lambda d: y, lambda d: d),
    }
    checked = 0
    for one in result.values:
        if one.attribute not in ("", "home") or one.version == "base":
            continue
        rows = (home == one.group) if one.group else np.ones(len(home), bool)
        found = []
        for version in (subject, subject.others[one.version]):
            d, score = version.decisions.favoured, version.predictions.scores
            if one.metric in rates:
                hit, among = (part(d) for part in rates[one.metric])
                found.append(np.average(hit[rows & among], weights=mass[rows & among]))
            elif one.metric == "auc":
                found.append(roc_auc_score(y[rows], score[rows], sample_weight=mass[rows]))
            elif one.metric == "brier_score":
                found.append(np.average((score - y)[rows] ** 2, weights=mass[rows]))
            else:
                break
        else:
            checked += 1
            assert one.change.value == pytest.approx(found[1] - found[0], abs=1e-9)
            assert one.value.value == pytest.approx(found[1], abs=1e-9)
    assert checked == 2 * 4 * 7


def test_the_difference_of_areas_has_delongs_variance():
    """DeLong et al. (1988) by definition: placements of every pair."""
    subject = versions(n=160)
    here, there = read(subject, ["auc"]), read(subject.others["a little noise"], ["auc"])
    found = paired(here, there, Grouping((), ("",), np.zeros(160, np.int64)), 0.95)["auc"]
    y = here.happened
    placed = []
    for one in (here, there):
        wins = (one.scores[y][:, None] > one.scores[~y]) + 0.5 * (one.scores[y][:, None] == one.scores[~y])
        placed.append((wins.mean(axis=1), wins.mean(axis=0)))
    parts = [placed[1][side] - placed[0][side] for side in (0, 1)]
    error = np.sqrt(sum(part.var(ddof=1) / len(part) for part in parts))
    value = placed[1][0].mean() - placed[0][0].mean()
    assert float(found.interval.value[0]) == pytest.approx(value)
    assert float(found.interval.high[0]) - value == pytest.approx(1.99 * error, rel=0.02)


def test_what_is_worse_for_some_is_said_and_noise_is_not_claimed():
    result = told(versions())
    by = {(one.version, one.metric, one.group): one for one in result.values}
    assert result.versions == ("base", "a little noise", "bad")
    assert (
        by["bad", "accuracy", "isles"].verdict == "worse" and by["bad", "selection_rate", "isles"].verdict == "higher"
    )
    assert by["bad", "accuracy", "north"].verdict in ("better", "not told apart")
    assert by["a little noise", "accuracy", ""].verdict == "not told apart"
    assert {one.group for one in result.values if one.attribute == "(segments)"} == {"low"}
    said = say(result, Wording(), VersionsSettings())
    text = "".join(span.text for span in said.headline)
    assert text.startswith("Base has a log loss of ") and "bad is worse" in text.lower()
    assert any("Bad is worse for home isles" in point for point in said.points)


def test_numbers_are_compared_too():
    result = told(versions(task=Task.regression))
    by = {(one.version, one.metric, one.group): one for one in result.values}
    assert result.metric == "mae" and by["bad", "mae", "isles"].verdict == "worse"
    base, bad = by["base", "rmse", "isles"].value.value, by["bad", "rmse", "isles"]
    assert bad.change.value == pytest.approx(bad.value.value - base) and bad.change.low > 0


def test_one_version_alone_and_versions_that_cannot_be_read_are_said():
    alone = replace(versions(), others={"of other columns": Refused("It takes a column that is not there.")})
    result = told(alone)
    assert result.versions == ("base",) and result.compared == 0
    said = say(result, Wording(), VersionsSettings())
    assert "no other version to hold against it" in "".join(span.text for span in said.headline)
    result = told(replace(versions(), others={**alone.others, **versions().others}))
    assert (
        "Of other columns is not read: It takes a column that is not there."
        in say(result, Wording(), VersionsSettings()).detail
    )


def test_models_are_held_against_recorded_decisions_in_what_decisions_have():
    found = versions()
    columns = {one: found.table.column(one) for one in ("x", "home", "y")}
    columns["d"] = np.where(np.asarray(columns["x"], float) > 0.3, "1", "0")
    table = from_arrays(columns)
    spec = spec_of(table, {"y": Role.outcome, "d": Role.decision}, event="1")
    outputs = 1 / (1 + np.exp(-2 * np.asarray(columns["x"], float)))
    predictor = FunctionPredictor(("x",), lambda rows: outputs[:, None], Task.binary, ("0", "1"))
    recorded = Subject(spec, table, None, Context(rows="all"))
    subject = replace(recorded, others={"trees": Subject(spec, table, predictor, Context(rows="all"))})
    result = versions_compared(subject, VersionsSettings(metric="auc"), 0, Work())
    assert "auc" not in result.metrics and result.metric == "accuracy"
    assert {one.version for one in result.values} == {"what is recorded", "trees"}
    said = say(result, Wording(), VersionsSettings(metric="auc")).headline
    assert said[0].text.startswith("What is recorded has an accuracy of ")


def test_groups_of_too_few_rows_are_not_judged():
    result = told(versions(n=60))
    few = [one for one in result.values if one.group == "uplands"]
    assert few and all(one.verdict == "too few" and one.p is None for one in few if one.rows < 30)


def test_a_difference_is_claimed_seldom_where_there_is_none():
    claimed: dict[str, list[float]] = {}
    for seed in range(160):
        subject = versions(seed, n=150, alike=True)
        here, there = (read(one) for one in (subject, subject.others["a little noise"]))
        for key, one in paired(here, there, Grouping((), ("",), np.zeros(150, np.int64)), 0.95).items():
            claimed.setdefault(key, []).append(float(one.p[0]))
    for key, found in claimed.items():
        if key not in ("base_rate",):
            assert (np.array(found) <= 0.05).mean() <= 0.105, key  # 5% and three standard errors


@pytest.mark.parametrize("weighted", [False, True])
def test_rates_of_different_denominators_claim_seldom_and_hold(weighted):
    """Precision of two ways of deciding, alike by construction, over many tables at once."""
    rng = np.random.default_rng(3)
    n, draws = 120, 1_500
    claims = 0
    for _ in range(draws):
        y = rng.random(n) < 0.5
        d = [np.where(rng.random(n) < 0.8, y, rng.random(n) < 0.5) for _ in range(2)]
        mass = rng.choice([0.5, 2.0], n) if weighted else None
        keys = read(versions(n=60), ["positive_predictive_value"]).lenses[0].keys
        sides = [Readout((Lens(y, one, one, keys),), {}, mass) for one in d]
        p = paired(*sides, Grouping((), ("",), np.zeros(n, np.int64)), 0.95)["positive_predictive_value"].p[0]
        claims += p <= 0.05
    assert 0.03 <= claims / draws <= 0.067


RATES = ["positive_predictive_value", "true_positive_rate", "selection_rate", "accuracy"]


@pytest.mark.parametrize("weighted", [False, True])
@pytest.mark.parametrize(("n", "moves"), [(20, 0.1), (20, 0.4), (60, 0.1), (200, 0.1), (200, 0.4)])
def test_intervals_of_paired_rates_have_a_width_and_hold_in_small_groups(n, moves, weighted):
    """Versions that decide few rows otherwise: in most small groups none at all, of which nothing follows."""
    rng = np.random.default_rng(n + weighted)
    k, keys = 400, read(versions(n=60), RATES).lenses[0].keys

    def drawn(many):
        y = rng.random(many) < 0.5
        first = np.where(rng.random(many) < 0.8, y, rng.random(many) < 0.5)
        second = np.where(rng.random(many) < moves, rng.random(many) < 0.5, first)
        mass = rng.choice([0.5, 1.0, 3.0], many) if weighted else None
        return [Readout((Lens(y, one, one, keys),), {}, mass) for one in (first, second)]

    truth = paired(*drawn(400_000), Grouping((), ("",), np.zeros(400_000, np.int64)), 0.95)
    codes = np.repeat(np.arange(k), n)
    found = paired(*drawn(n * k), Grouping((), tuple(map(str, range(k))), codes), 0.95)
    for key, one in found.items():
        value, low, high = one.interval
        known = np.isfinite(value)
        true = float(truth[key].interval.value[0])
        assert (high[known] > low[known]).all(), key
        # where next to nothing differs an interval of whole rows holds more often than it says, never less
        assert ((low <= true) & (true <= high))[known].mean() >= 0.91, key
        assert (one.p[known] <= 0.05).mean() <= 0.09 or abs(true) > 0.02, key


@pytest.mark.parametrize("weighted", [False, True])
@pytest.mark.parametrize("way", ["noise", "few move", "few move one way"])
def test_intervals_of_paired_means_and_areas_hold_in_small_groups(way, weighted):
    """Where few rows move far, a small group holds none of them by chance: how far such rows move is known of the others."""
    rng = np.random.default_rng(len(way) + weighted)

    def chance(value):
        return 1 / (1 + np.exp(-1.5 * value))

    def drawn(many):
        x = rng.normal(size=many)
        y = rng.random(many) < chance(x)
        first = x + 0.3 * rng.normal(size=many)
        few = rng.random(many) < 0.08
        second = {
            "noise": x + 0.3 * rng.normal(size=many),
            "few move": np.where(few, 2 * rng.normal(size=many), first),
            "few move one way": np.where(few, first + 3, first),
        }[way]
        mass = np.exp(0.6 * rng.normal(size=many)) if weighted else None
        return [
            Readout((), {"brier_score": (s - y) ** 2, "mean_score": s}, mass, scores=s, happened=y, area=True)
            for s in (chance(first), chance(second))
        ]

    whole = 600_000
    truth = paired(*drawn(whole), Grouping((), ("",), np.zeros(whole, np.int64)), 0.95)
    for n, k in ((10, 1_500), (20, 1_500), (60, 1_500), (200, 600)):
        codes = np.repeat(np.arange(k), n)
        for key, one in paired(*drawn(n * k), Grouping((), tuple(map(str, range(k))), codes), 0.95).items():
            value, low, high = one.interval
            known = np.isfinite(value)
            true = float(truth[key].interval.value[0])
            # of few rows it holds more often than it says: what they may be without is allowed for
            assert ((low <= true) & (true <= high))[known].mean() >= 0.925, (key, n)
            assert n < 60 or way != "noise" or ((low <= true) & (true <= high))[known].mean() <= 0.995, (key, n)


def test_one_group_that_differs_in_its_denominator_changes_no_other():
    rng = np.random.default_rng(4)
    n, keys = 80, read(versions(n=60), ["positive_predictive_value"]).lenses[0].keys
    y, d = rng.random(2 * n) < 0.5, rng.random(2 * n) < 0.6
    other = d.copy()
    codes = np.repeat([0, 1], n)
    other[np.flatnonzero(codes == 1)[:5]] ^= True
    sides = [Readout((Lens(y, one, one, keys),), {}, None) for one in (d, other)]
    both = paired(*sides, Grouping((), ("a", "b"), codes), 0.95)["positive_predictive_value"]
    alone = [Readout((Lens(y[:n], one[:n], one[:n], keys),), {}, None) for one in (d, other)]
    own = paired(*alone, Grouping((), ("a",), codes[:n]), 0.95)["positive_predictive_value"]
    for end in range(3):
        assert both.interval[end][0] == own.interval[end][0]
    assert float(own.interval.high[0]) > 0  # the score interval of no difference has a width


@pytest.mark.parametrize("name", ["random forest", "random forest, three classes", "random forest of a number"])
def test_every_change_is_the_value_less_the_bases_whatever_is_predicted(name):
    task, model, columns = zoo.made(name)
    base = zoo.subject_of(model, columns, task, grouped="channel")
    shaken = base.predictions.outputs + np.random.default_rng(1).normal(0, 0.1, base.predictions.outputs.shape)
    if task is not Task.regression:
        shaken = np.clip(shaken, 0.01, None)
        shaken = np.clip(shaken, 0.01, 0.99) if shaken.shape[1] == 1 else shaken / shaken.sum(axis=1, keepdims=True)
    predictor = FunctionPredictor(base.predictor.inputs, lambda rows: shaken, task, base.classes)
    result = told(replace(base, others={"other": Subject(base.spec, base.table, predictor, base.context)}))
    at = {(one.version == "other", one.metric, one.attribute, one.group): one for one in result.values}
    checked = 0
    for one in result.values:
        if one.version == "other" and one.change.value is not None:
            was = at[False, one.metric, one.attribute, one.group].value.value
            assert one.change.value == pytest.approx(one.value.value - was, abs=1e-9), one.metric
            assert one.change.low is None or one.change.low <= one.change.value <= one.change.high
            checked += 1
    assert checked >= 4 * len(result.metrics) * 0.8
