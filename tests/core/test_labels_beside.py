"""Labels and decisions side by side: labels are called different no more often than promised, and weigh."""

from __future__ import annotations

import numpy as np
import pytest
from tests.core.systems import system

from zerotilt.core.groups.sides import SidesSettings, say, set_beside
from zerotilt.core.meaning import Context, Role, Wording
from zerotilt.core.work import Work


def table(seed: int, n: int = 600, tilt: float = 0.0, groups: int = 8, weights: bool = False):
    rng = np.random.default_rng(seed)
    columns = {"x": rng.normal(size=n), "y": np.zeros(n)}
    for name in ("a", "b", "c"):
        columns[name] = rng.integers(0, groups, n).astype(str).astype(object)
    p = 0.5 - tilt * (columns["a"] == "0")
    columns["y"] = (rng.random(n) < p).astype(int).astype(str)
    if weights:
        columns["w"] = rng.integers(0, 4, n).astype(float)
    return columns


def subject_of(columns):
    made = system(
        columns,
        lambda rows: (1 / (1 + np.exp(-rows["x"])))[:, None],
        ["x"],
        {"w": Role.weight, "s": Role.split},
        context=Context(rows="all"),
    )
    told = tuple(one.model_copy(update={"grouped": one.name in ("a", "b", "c")}) for one in made.spec.columns)
    return type(made)(made.spec.model_copy(update={"columns": told}), made.table, made.predictor, made.context)


def test_labels_that_depend_on_no_group_are_said_to_differ_in_one_of_twenty_tables():
    said = sum(
        "The labels themselves differ"
        in say(set_beside(subject_of(table(seed)), SidesSettings(), 0, Work()), Wording(), SidesSettings()).detail
        for seed in range(60)
    )
    assert said <= 7  # 21 gaps a table: a third of the tables where each is told by its own interval


def test_labels_that_are_tilted_are_said_to_be():
    result = set_beside(subject_of(table(1, 2000, tilt=0.3, groups=4)), SidesSettings(), 0, Work())
    tilted = [one for one in result.gaps if one.labels_differ]
    assert tilted and {one.attribute for one in tilted} == {"a"}
    assert "The labels themselves differ for" in say(result, Wording(), SidesSettings()).detail


@pytest.mark.parametrize("seed", range(3))
def test_a_row_that_weighs_two_is_that_row_twice_in_the_shares_of_splits(seed):
    columns = table(seed, 300, weights=True)
    columns["s"] = np.where(np.arange(300) % 3, "here", "there").astype(object)
    result = set_beside(subject_of(columns), SidesSettings(), 0, Work())
    mass, good = columns["w"], columns["y"] == "1"
    assert len(result.splits) == 2 * 3 * 8
    for one in result.splits:
        inside = columns["s"] == one.split
        mine = inside & (columns[one.attribute] == one.group)
        assert one.rows == mine.sum()
        assert one.share.value == pytest.approx(mass[mine].sum() / mass[inside].sum())
        assert one.outcome.value == pytest.approx(mass[mine & good].sum() / mass[mine].sum())
        assert one.share.low < one.share.value < one.share.high
