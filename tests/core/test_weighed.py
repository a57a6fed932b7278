"""Which figures row weights count in, and that each of them says so once."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from tests.core.systems import system

from zerotilt.core.evidence import Digests, compute
from zerotilt.core.meaning import Context, Role
from zerotilt.core.methods import METHODS, result_of
from zerotilt.core.weighed import Weighing
from zerotilt.core.work import Work

ONE_CASE = {"row": 3}
ASKED = {
    "ladder": ONE_CASE, "values": ONE_CASE, "tried": ONE_CASE | {"edits": {"x": "2"}}, "profiles": ONE_CASE,
    "nearest": ONE_CASE, "change": ONE_CASE, "alike": ONE_CASE, "difference": ONE_CASE | {"other": 5},
    "surrogate": ONE_CASE, "checks": ONE_CASE, "person": ONE_CASE, "flip": {"feature": "g"},
    "expectations": {"expected": {"x": "falls"}}, "expected": {"feature": "x", "expected": "falls"},
}  # fmt: skip
"""Settings where the first ones say nothing, or are not enough."""
TRAINED = ("own_parts", "without", "one_tree", "repaired")
"""What takes a model's own file; read elsewhere."""


def subject_of(weighted: bool, n: int = 400):
    rng = np.random.default_rng(0)
    x, z = rng.normal(size=(2, n))
    g, h = rng.choice(["a", "b", "c"], n, p=[0.5, 0.3, 0.2]), rng.choice(["u", "v"], n)

    def chance(rows):
        return 1 / (1 + np.exp(-(rows["x"] + 0.5 * rows["z"] * (rows["g"] == "a") - 0.6 * (rows["g"] == "b"))))

    y = (rng.random(n) < 1 / (1 + np.exp(-x))).astype(int)
    columns = {"x": x, "z": z, "g": g, "h": h, "y": y, "w": rng.uniform(0.2, 3, n) * (1 + 2 * y)}
    roles = {"w": Role.weight if weighted else Role.ignored, "h": Role.group}
    found = system(columns, chance, ["x", "z", "g"], roles, context=Context(rows="all"))
    grouped = [column.model_copy(update={"grouped": column.name == "g"}) for column in found.spec.columns]
    return replace(found, spec=found.spec.model_copy(update={"columns": tuple(grouped)}))


@pytest.fixture(scope="module")
def both():
    return subject_of(True), subject_of(False)


@pytest.mark.parametrize("name", [name for name in METHODS if name not in TRAINED])
def test_what_says_that_it_is_weighted_is_and_what_does_not_is_not(both, name):
    method = METHODS[name]
    settings = method.settings.model_validate(ASKED.get(name, {}))
    found = [result_of(method, subject, settings, 1, Work()).model_dump_json() for subject in both]
    assert (found[0] != found[1]) == method.weighs


@pytest.mark.parametrize("name", ["tilt", "performance", "drivers", "cases"])
def test_a_weighted_figure_says_by_what_and_as_how_many_rows_it_counts(both, name):
    weighted, plain = both
    digests = Digests(table="0", spec=weighted.spec.digest(), model=None)
    settings = METHODS[name].settings()
    found = compute(weighted, digests, name, settings, 1, Work())
    w = weighted.rows.mass
    said = f"Weighted by w: as precise as {round(w.sum() ** 2 / (w**2).sum())} rows of equal weight."
    assert found.read(weighted.spec).detail.count(said) == METHODS[name].weighs
    assert "eighted by" not in compute(plain, digests, name, settings, 1, Work()).read(plain.spec).detail
    # of before this was kept: at least that it is so
    before = found.model_copy(update={"weighing": None}).read(weighted.spec).detail
    assert ("Weighted by w." in before) == METHODS[name].weighs


def test_weights_that_are_all_alike_take_nothing_away_and_none_at_all_leaves_nothing():
    assert Weighing.by("w", np.full(50, 0.3)).effective == pytest.approx(50)
    assert Weighing.by("w", np.zeros(3)).effective == 0


def test_rows_that_weigh_nothing_are_said():
    found = Weighing.by("w", np.array([0.0, 2.0, 2.0, 0.0, 0.0, 2.0]))
    assert (found.effective, found.nothing) == (pytest.approx(3), 3)
    assert found.said("claim", "claims") == (
        "Weighted by w: as precise as 3 claims of equal weight. 3 claims weigh nothing and count in no figure."
    )
    assert "nothing" not in Weighing.by("w", np.ones(4)).said("claim", "claims")
    assert Weighing.by("w", np.array([1.0, 1.0, 2.0])).said("row", "rows").endswith("3 rows of equal weight.")
