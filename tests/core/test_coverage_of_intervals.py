"""Intervals on Drivers and Response hold what they promise: simulated again and again from a known truth."""

from __future__ import annotations

import numpy as np
import pytest
from tests.core.systems import system

from zerotilt.core.drivers import ranking, spread
from zerotilt.core.drivers.ranking_result import DriversSettings
from zerotilt.core.drivers.spread import SpreadSettings
from zerotilt.core.executor import LocalExecutor
from zerotilt.core.meaning import Context, Task
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.response import partial
from zerotilt.core.response.response_result import ResponseSettings
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

TIMES = 120
ALONE = Work(executor=LocalExecutor(1))
"""So small are the pieces that handing them out takes longer than they do."""


def first(f):
    return 2.0 * f["a"] + f["b"] ** 2


def second(f):
    return 1.5 * f["a"] + 0.5 * f["a"] * f["b"]


def drawn(seed: int, n: int = 150, together: bool = True) -> Subject:
    """Numbers from a known law, read by two models side by side."""
    rng = np.random.default_rng(seed)
    a, b = rng.normal(size=(2, n))
    columns = {"a": a, "b": b, "y": 2.0 * a + b**2 + rng.normal(size=n)}
    base = system(columns, first, ["a", "b"], task=Task.regression, event="")
    if not together:
        return base
    other = Subject(base.spec, base.table, FunctionPredictor(["a", "b"], second, Task.regression), base.context)
    return Subject(base.spec, base.table, base.predictor, base.context, other)


def inside(found, truth: float) -> bool:
    return found.low <= truth <= found.high


def test_the_difference_of_two_mean_curves_is_held_by_its_interval():
    held = 0
    for seed in range(TIMES):
        subject = drawn(seed)
        result = partial.respond(subject, ResponseSettings(feature="a", points=5), 1, ALONE)
        place = 2
        at = result.points[place].position
        # E over b of second − first at this a: 1.5 a + 0 − 2 a − 1
        held += inside(result.beside.difference[place], -0.5 * at - 1.0)
    assert 0.88 <= held / TIMES <= 0.99


def test_the_mean_curve_is_held_by_its_interval():
    held = 0
    for seed in range(TIMES):
        result = partial.respond(drawn(seed, together=False), ResponseSettings(feature="a", points=5), 1, ALONE)
        point = result.points[1]
        held += point.mean_low <= 2.0 * point.position + 1.0 <= point.mean_high
    assert 0.88 <= held / TIMES <= 0.99


def test_permutation_importance_is_held_by_its_interval():
    """Shuffling a in 2 a + b² + noise adds E (2 a − 2 a')² = 8 to the squared error."""
    held = 0
    for seed in range(TIMES):
        settings = DriversSettings(repeats=10, explained=2)
        result = ranking.rank(drawn(seed, 400, together=False), settings, seed, ALONE)
        held += inside(next(d.permutation for d in result.drivers if d.feature == "a"), 8.0)
    assert 0.88 <= held / TIMES <= 0.99


def test_the_difference_between_two_models_is_held_by_its_interval():
    """The other model lacks b² where y has it; what shuffling b adds there is known from its own terms.

    With second(a, b) = 1.5 a + 0.5 a b and y = 2 a + b² + e, shuffling b to b' changes the squared error by
    E[(y − s')² − (y − s)²] = E[0.25 a² (b'² − b²)] + 2 E[y · 0.5 a (b − b')] − 2 E[1.5 a · 0.5 a (b − b')] = 0.
    Shuffling b in the first adds E (b² − b'²)² = 4, so the difference is −4.
    """
    held, wide = 0, []
    for seed in range(TIMES):
        result = ranking.rank(drawn(seed), DriversSettings(repeats=10, explained=2), seed, ALONE)
        found = next(d for d in result.drivers if d.feature == "b").beside.difference
        held += inside(found, -4.0)
        wide.append(found.high - found.low)
    assert held / TIMES >= 0.84
    assert np.median(wide) < 6


def test_a_gap_is_claimed_where_there_is_none_no_more_often_than_promised():
    """Parts drawn by chance: the surest gap of twenty looked at must not be claimed above its level."""
    claimed = 0
    for seed in range(TIMES):
        rng = np.random.default_rng(seed)
        n = 240
        columns = {
            "x": rng.normal(size=n),
            "z": rng.normal(size=n),
            "part": np.array(["p", "q"], dtype=object)[rng.integers(0, 2, n)],
            "y": rng.normal(size=n),
        }
        subject = system(
            columns, lambda f: f["x"] * f["z"], ["x", "z"], task=Task.regression, event="", context=Context(rows="all")
        )
        result = spread.spread_out(subject, SpreadSettings(feature="x", colour="part", sampled=n, walks=8), 1, ALONE)
        claimed += result.parted.low > 0
    assert claimed / TIMES <= 0.1


@pytest.mark.parametrize("gap", [1.0, 3.0])
def test_a_gap_that_is_there_is_held_by_its_interval(gap):
    held = 0
    for seed in range(40):
        rng = np.random.default_rng(seed)
        n = 300
        part = np.array(["p", "q"], dtype=object)[rng.integers(0, 2, n)]
        columns = {"x": rng.choice([0.0, 1.0], n), "part": part, "y": rng.normal(size=n)}

        def moved(f, gap=gap):
            return gap * f["x"] * (f["part"] == "p")

        subject = system(columns, moved, ["x", "part"], task=Task.regression, event="", context=Context(rows="all"))
        settings = SpreadSettings(feature="x", colour="part", sampled=n)
        result = spread.spread_out(subject, settings, 1, ALONE)
        # exact contributions: among p the share known of x adds up with half of the product; they do not vary at one x
        mean = columns["x"].mean()
        share = (part == "p").mean()
        of_p = [gap * ((x - mean) * (1 + share) / 2) for x in (0.0, 1.0)]
        of_q = [gap * ((x - mean) * share / 2) for x in (0.0, 1.0)]
        widest = max(abs(p - q) for p, q in zip(of_p, of_q, strict=True))
        held += abs(result.parted.value - widest) < 0.2 * gap
    assert held >= 36
