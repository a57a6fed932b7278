"""Errors that a model's own scores foretell: counted outcome by outcome, simulated, and what follows for severity."""

from __future__ import annotations

import numpy as np
import pytest
from tests.core.systems import system

from zerotilt.core.findings import gathered
from zerotilt.core.meaning import Context, Role, Task, Wording
from zerotilt.core.pockets.confirmed import gap_of
from zerotilt.core.pockets.errors import errors_of
from zerotilt.core.pockets.found import search
from zerotilt.core.pockets.result import PocketsSettings
from zerotilt.core.pockets.said import gap_from, gap_said, weaknesses
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


def scored(
    rng: np.random.Generator, chance: np.ndarray, score: np.ndarray, columns: dict | None = None, **more
) -> Subject:
    """Recorded scores of an event that happens with another or the same chance."""
    happened = (rng.random(len(chance)) < chance).astype(int)
    roles = {"s": Role.score} | more.pop("roles", {})
    return system({**(columns or {"x": chance}), "s": score, "y": happened}, roles=roles, **more)


@pytest.mark.parametrize("way", ["error_rate", "log_loss", "absolute_error"])
@pytest.mark.parametrize("threshold", [0.5, 0.2])
def test_what_scores_foretell_is_the_mean_over_both_outcomes(way, threshold):
    rng = np.random.default_rng(3)
    s = rng.uniform(0.001, 0.999, 400)
    subject = scored(rng, s, s, threshold=threshold)
    kind, predicted, decided = subject.kind, subject.predictions, subject.decisions
    yes, no = (kind.wrong(way, np.full(400, one), predicted, decided).values for one in (True, False))
    assert kind.foretold(way, predicted, decided) == pytest.approx(s * yes + (1 - s) * no, abs=1e-12)


def test_of_classes_it_is_the_chance_of_the_others():
    rng = np.random.default_rng(4)
    x = rng.normal(size=300)
    p = np.exp(np.column_stack([x, -x, 0.5 * x**2]))
    p /= p.sum(axis=1, keepdims=True)

    def model(f):
        made = np.exp(np.column_stack([f["x"], -f["x"], 0.5 * f["x"] ** 2]))
        return made / made.sum(axis=1, keepdims=True)

    y = np.array(["a", "b", "c"])[[rng.choice(3, p=one) for one in p]]
    plain = system({"x": x, "y": y}, task=Task.several, event="")
    predictor = FunctionPredictor(["x"], model, Task.several, ["a", "b", "c"])
    subject = Subject(plain.spec, plain.table, predictor, plain.context)
    kind, predicted, decided = subject.kind, subject.predictions, subject.decisions
    for way in ("error_rate", "log_loss"):
        each = [kind.wrong(way, np.full(300, c), predicted, decided).values for c in range(3)]
        assert kind.foretold(way, predicted, decided) == pytest.approx((p.T * np.array(each)).sum(axis=0), abs=1e-9)
    assert kind.foretold("missed_favourable", predicted, decided) is None


def test_decisions_and_rates_of_one_outcome_foretell_nothing():
    rng = np.random.default_rng(5)
    y = rng.integers(0, 2, 200)
    decisions = system({"x": rng.random(200), "y": y, "d": y[::-1].copy()}, roles={"d": Role.decision})
    assert errors_of(decisions, "error_rate").foretold is None
    subject = scored(rng, rng.random(200), rng.random(200))
    for way in ("false_positive_rate", "false_negative_rate", "missed_favourable"):
        errors = errors_of(subject, way)
        found = gap_of(errors, np.arange(errors.m) < errors.m // 2, errors.values, 0.95)
        assert errors.foretold is None and found.foretold is None and found.beyond is None


@pytest.mark.parametrize("weighted", [False, True])
@pytest.mark.parametrize("n", [30, 300])
@pytest.mark.parametrize("way", ["error_rate", "log_loss"])
def test_of_a_right_model_the_interval_holds_nothing_as_often_as_it_says(way, n, weighted):
    held = []
    for seed in range(400):
        rng = np.random.default_rng(seed)
        s = rng.uniform(0.25, 0.75, 2 * n)
        weights = {"w": rng.uniform(0.5, 1.5, 2 * n)} if weighted else {}
        subject = scored(rng, s, s, {"x": s, **weights}, roles={"w": Role.weight} if weighted else {})
        errors = errors_of(subject, way)
        off = gap_of(errors, np.arange(2 * n) < n, errors.values, 0.95).beyond
        held.append(off.low <= 0 <= off.high)
    assert 0.92 <= np.mean(held) <= 0.98


def places(subject: Subject):
    result = search(subject, PocketsSettings(), 1, Work())
    return result, gathered(tuple(weaknesses(result, subject.spec)))


def near_the_threshold(seed: int, calibrated: bool) -> Subject:
    """A place whose chances lie at the threshold: a right model errs there as often as it says; a wrong one says it is sure."""
    rng = np.random.default_rng(seed)
    n = 12_000
    place, other = rng.choice(["harbour", "inland"], n, p=[0.25, 0.75]), rng.normal(size=n)
    sure = np.where(rng.random(n) < 0.5, 0.95, 0.05)
    unsure = np.where(rng.random(n) < 0.5, 0.66, 0.34)
    chance = np.where(place == "harbour", unsure, sure)
    score = chance if calibrated else np.where(place == "harbour", np.where(unsure > 0.5, 0.95, 0.05), sure)
    return scored(rng, chance, score, {"place": place, "other": other})


@pytest.mark.parametrize("seed", range(3))
def test_a_pocket_at_the_threshold_of_a_right_model_is_no_severe_finding(seed):
    result, facts = places(near_the_threshold(seed, calibrated=True))
    assert len(facts) == 1 and facts[0].severity == "low"
    one = result.pockets[0]
    assert one.gap.ratio.value > 3 and one.gap.foretold == pytest.approx(0.34, abs=0.01)
    assert "and the difference may be chance: decisions are uncertain there." in facts[0].statement
    assert "off what the scores foretell" in facts[0].why


@pytest.mark.parametrize("seed", range(3))
def test_the_same_errors_where_the_model_was_sure_are_severe(seed):
    result, facts = places(near_the_threshold(seed, calibrated=False))
    assert len(facts) == 1 and facts[0].severity == "high"
    one = result.pockets[0]
    assert one.gap.foretold == pytest.approx(0.05, abs=0.01) and one.gap.beyond.low > 0.2
    assert "higher" in facts[0].statement and "so the scores are not right there." in facts[0].statement
    gap = gap_from(one.gap, result)
    assert gap.value == pytest.approx(one.gap.inside.value / one.gap.foretold)
    assert gap.low == pytest.approx(1 + one.gap.beyond.low / one.gap.foretold)


def test_a_model_that_is_less_sure_than_it_could_be_is_told_so():
    rng = np.random.default_rng(7)
    n = 4_000
    subject = scored(rng, np.full(n, 0.95), np.full(n, 0.6), {"x": rng.random(n)}, context=Context(rows="all"))
    errors = errors_of(subject, "error_rate")
    result, _ = places(subject)
    said = gap_said("x is low", gap_of(errors, np.arange(n) < n // 2, errors.values, 0.95), result, Wording())
    assert "The scores themselves foretell 40.0%; it is 3" in said and "points lower (" in said
