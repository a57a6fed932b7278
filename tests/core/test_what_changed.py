"""What changed between two versions, row by row: counts by force, the paired interval by simulation, and what is said."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.optimize import brentq, minimize_scalar
from tests.core.systems import spec_of

from zerotilt.core.meaning import Alongside, Context, Role, Task, Wording
from zerotilt.core.methods import METHODS
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.remedies.changed import ChangedSettings, what_changed
from zerotilt.core.stats.paired import mcnemar, tango
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays
from zerotilt.core.work import Work


def tango_by_force(b: int, c: int, n: int, z: float = 1.959963985) -> tuple[float, float]:
    """The score interval from the likelihood itself: for every gap the most likely rates, found numerically."""

    def score(gap: float) -> float:
        def unlikely(q: float) -> float:
            parts = [(b, q + gap), (c, q), (n - b - c, 1 - 2 * q - gap)]
            return -sum(k * np.log(max(p, 1e-300)) for k, p in parts if k)

        low, high = max(0.0, -gap) + 1e-12, (1 - gap) / 2 - 1e-12
        q = minimize_scalar(unlikely, bounds=(low, high), method="bounded", options={"xatol": 1e-13}).x
        return (b - c - n * gap) / np.sqrt(n * (2 * q + gap * (1 - gap)))

    gap = (b - c) / n
    return brentq(lambda one: score(one) - z, -1 + 1e-6, gap), brentq(lambda one: score(one) + z, gap, 1 - 1e-6)


@pytest.mark.parametrize(("b", "c", "n"), [(12, 5, 100), (3, 0, 40), (0, 9, 50), (30, 31, 200), (1, 1, 14)])
def test_the_interval_is_tangos(b, c, n):
    span = tango(b, c, n)
    low, high = tango_by_force(b, c, n)
    assert float(span.low) == pytest.approx(low, abs=1e-4) and float(span.high) == pytest.approx(high, abs=1e-4)
    assert float(mcnemar(b, c)) == pytest.approx(float(mcnemar(c, b)))
    assert (float(span.low) > 0 or float(span.high) < 0) == bool(mcnemar(b, c) < 0.05)


def test_nothing_moved_is_not_taken_for_certain():
    span = tango(0, 0, 20)
    assert float(span.value) == 0 and float(span.low) == pytest.approx(-0.1611, abs=1e-3) == -float(span.high)
    assert float(mcnemar(0, 0)) == 1.0 and np.isnan(tango(0, 0, 0).low)


@pytest.mark.parametrize(("new", "mended", "n"), [(0.1, 0.1, 60), (0.15, 0.05, 100), (0.02, 0.01, 400), (0.3, 0.2, 40)])
def test_the_interval_holds_the_true_difference_as_often_as_it_says(new, mended, n):
    rng = np.random.default_rng(1)
    counts = rng.multinomial(n, [new, mended, 1 - new - mended], 4_000)
    span = tango(counts[:, 0], counts[:, 1], n)
    held = ((span.low <= new - mended) & (new - mended <= span.high)).mean()
    assert 0.93 <= held <= 0.985
    if new == mended:
        assert (mcnemar(counts[:, 0], counts[:, 1]) <= 0.05).mean() <= 0.065


def two(columns: dict, first, second, task: Task = Task.binary, roles=None, **more) -> Subject:
    table = from_arrays(columns)
    spec = spec_of(table, {"y": Role.outcome} | (roles or {}), **({"task": task} | more))
    models = [FunctionPredictor(("x",), one, task) for one in (first, second)]
    beside = Subject(spec, table, models[1], Context(rows="all"))
    return Subject(spec, table, models[0], Context(rows="all", alongside=Alongside(model="other")), beside)


def invented(seed: int = 1, n: int = 2_000):
    """A second version that is right where the first was wrong in the north, and wrong anew on the isles."""
    rng = np.random.default_rng(seed)
    x = np.arange(n, dtype=float)
    home = rng.choice(["north", "isles", "rock"], n, p=[0.7, 0.29, 0.01])
    y = rng.integers(0, 2, n)
    wrong = rng.random(n) < 0.25
    mended = wrong & (home == "north") & (rng.random(n) < 0.5)
    new = ~wrong & (home == "isles") & (rng.random(n) < 0.2)
    first = np.where(wrong, 1 - y, y) * 0.8 + 0.1
    second = np.where((wrong & ~mended) | new, 1 - y, y) * 0.8 + 0.1
    subject = two(
        {"x": x, "home": home, "y": y},
        lambda rows: first[rows["x"].astype(int)],
        lambda rows: second[rows["x"].astype(int)],
        roles={"home": Role.group},
    )
    return subject, home, mended, new, first, second


def told(result) -> str:
    reading = METHODS["changed"].read(
        result, Wording(row="claim", rows="claims", favourable="settled"), ChangedSettings()
    )
    return " ".join([reading.text, reading.detail, *reading.points])


def test_rows_are_counted_by_what_became_of_them():
    subject, home, mended, new, first, second = invented()
    result = what_changed(subject, ChangedSettings(), 1, Work())
    assert (result.whole.mended, result.whole.new, result.whole.rows) == (mended.sum(), new.sum(), 2_000)
    groups = {one.group: one for one in result.groups[1:]}
    for name, one in groups.items():
        mine = home == name
        assert (one.rows, one.mended, one.new) == (mine.sum(), (mended & mine).sum(), (new & mine).sum())
        assert one.change.value == pytest.approx(((new & mine).sum() - (mended & mine).sum()) / mine.sum())
        assert one.gained == ((second >= 0.5) & (first < 0.5) & mine).sum()
        assert one.lost == ((second < 0.5) & (first >= 0.5) & mine).sum()
    assert [groups[one].verdict for one in ("isles", "north", "rock")] == ["worse", "better", "too few"]
    assert result.groups[0] == result.whole and result.groups[1].group == "isles"
    text = told(result)
    assert (
        f"Of 2,000 claims, {mended.sum()} are right with the version alongside that were wrong, and {new.sum()} are wrong that were right"
        in text
    )
    assert "It is worse for home isles." in text and "1 group has fewer than 30 rows" in text and "nan" not in text


def test_two_versions_that_say_the_same_change_nothing():
    _, home, *_, first, _ = invented()
    y = (np.random.default_rng(1).random(2_000) < 0.5).astype(int)
    score = lambda rows: first[rows["x"].astype(int)]  # noqa: E731
    same = two({"x": np.arange(2_000.0), "home": home, "y": y}, score, score, roles={"home": Role.group})
    result = what_changed(same, ChangedSettings(), 1, Work())
    assert result.whole.mended == result.whole.new == 0 and result.whole.change.low < 0 < result.whole.change.high
    assert {one.verdict for one in result.groups} <= {"not told apart", "too few"}
    assert "For no group by itself is it worse beyond chance." in told(result)


def test_numbers_come_nearer_or_go_farther_off():
    rng = np.random.default_rng(3)
    n = 500
    y, home = rng.normal(size=n), rng.choice(["north", "isles"], n)
    near, far = y + rng.normal(0, 0.2, n), y + rng.normal(0, 1, n)
    subject = two(
        {"x": np.arange(float(n)), "home": home, "y": y},
        lambda rows: far[rows["x"].astype(int)],
        lambda rows: near[rows["x"].astype(int)],
        Task.regression,
        roles={"home": Role.group},
        event="",
    )
    result = what_changed(subject, ChangedSettings(), 1, Work())
    off = np.abs(near - y) - np.abs(far - y)
    assert not result.shares and not result.decides
    assert (result.whole.new, result.whole.mended) == ((off > 0).sum(), (off < 0).sum())
    assert result.whole.change.value == pytest.approx(off.mean()) and result.whole.verdict == "better"
    assert "come nearer with the version alongside" in told(result)


def test_weights_count_and_rows_of_none_do_not():
    subject, home, mended, new, *_ = invented()
    w = np.where(np.arange(2_000) % 3 == 0, 0.0, 1.0 + (home == "isles"))
    first, second = subject.model, subject.second.model
    columns = {"x": np.arange(2_000.0), "home": home, "y": subject.rows.outcome.astype(int), "w": w}
    weighed = two(columns, first._function, second._function, roles={"home": Role.group, "w": Role.weight})
    result = what_changed(weighed, ChangedSettings(), 1, Work())
    assert (result.whole.mended, result.whole.rows) == ((mended & (w > 0)).sum(), (w > 0).sum())
    assert result.whole.change.value == pytest.approx(np.average(new.astype(float) - mended, weights=w))


def test_where_nothing_is_alongside_it_is_said_what_to_choose():
    subject, *_, first, _ = invented()
    alone = Subject(subject.spec, subject.table, subject.predictor, Context(rows="all"))
    result = what_changed(alone, ChangedSettings(), 1, Work())
    assert result.whole is None and all(one.change.value is None for one in result.groups)
    assert result.groups[0].error == pytest.approx(((first >= 0.5) != subject.rows.outcome).mean())
    assert "No other version is read alongside: choose one" in told(result)
