"""A level, or a column, may hold the sign by which crossings are written."""

from __future__ import annotations

import numpy as np
import pytest
from tests.core.systems import system

from zerotilt.core.findings import Finding, Gap, gathered
from zerotilt.core.groups.lattice import LatticeSettings, crossings_of
from zerotilt.core.groups.tilt import METHOD as TILT
from zerotilt.core.meaning import Context
from zerotilt.core.membership import JOIN, columns_named, grouping, written
from zerotilt.core.work import Work


def nasty(seed: int = 0, n: int = 900):
    rng = np.random.default_rng(seed)
    columns = {
        "x": rng.normal(size=n),
        "a": rng.choice([f"p{JOIN}q", "r", JOIN.strip(), "other"], n).astype(object),
        "b": rng.choice(["u", f"v{JOIN}w", f"q{JOIN}u"], n).astype(object),
        f"c{JOIN}d": rng.choice([0.0, 1.0], n),
    }
    columns["y"] = rng.integers(0, 2, n).astype(str)

    def score(rows):
        return (1 / (1 + np.exp(-(rows["x"] - 1.5 * (rows["a"] == "r")))))[:, None]

    made = system(columns, score, ["x", "a"], context=Context(rows="all"))
    told = tuple(one.model_copy(update={"grouped": one.name not in ("x", "y")}) for one in made.spec.columns)
    spec = made.spec.model_copy(update={"columns": told, "intersections": (("a", "b"), ("a", f"c{JOIN}d"))})
    return type(made)(spec, made.table, made.predictor, made.context), columns


@pytest.mark.parametrize("deepest", [1, 2, 3])
def test_crossings_of_such_levels_are_those_of_their_rows(deepest):
    subject, columns = nasty()
    result = crossings_of(subject, LatticeSettings(deepest=deepest), 0, Work())
    texts = {name: np.array([written(str(one)) for one in subject.table.texts(name)]) for name in columns}
    for node in result.nodes:
        mine = np.ones(subject.n, bool)
        for column, level in zip(node.columns, node.levels, strict=True):
            mine &= texts[column] == level
        assert node.rows == mine.sum() > 0
    singles = sum(len(set(texts[name])) for name in result.columns)
    assert sum(node.depth == 1 for node in result.nodes) == singles


def test_columns_of_such_names_are_found_in_an_attribute():
    subject, _ = nasty()
    name = f"c{JOIN}d"
    assert columns_named(subject.spec, f"a{JOIN}{name}") == ("a", name) and columns_named(subject.spec, name) == (name,)
    made = grouping(subject.spec, subject.table, subject.rows.numbers, ("a", name))
    assert set(made.levels) == {(level, number) for level in {one for one, _ in made.levels} for number in "01"}
    found = TILT.findings_in(TILT.compute(subject, TILT.settings(), 0, Work()), subject.spec)
    assert found and {one.columns for one in found} <= {("a",), ("b",), (name,), ("a", "b"), ("a", name)}


def finding(columns, group, off) -> Finding:
    gap = Gap(scale="ratio", value=off, low=off - 0.3, high=off + 0.3, within=(0.8, 1.25))
    return Finding(
        name=f"{columns}: {group}", kind="disparity", statement="s", columns=columns, group=group, reference="all",
        metric="selection_rate", rows=100, about=f"{columns}: {group}", called="selection rate", concerned=50, gap=gap,
    )  # fmt: skip


@pytest.mark.parametrize(
    ("columns", "group", "column", "level"),
    [
        (("a", "b"), f"p{JOIN}q{JOIN}u", "a", f"p{JOIN}q"),
        (("a", "b"), f"p{JOIN}q{JOIN}u", "b", "u"),
        (("a", "sex"), f"r{JOIN}sex 1", "sex", "1"),  # a number stands with its column in a crossing, alone without
        (("a", "b", "sex"), f"r{JOIN}v{JOIN}w{JOIN}sex 0", "b", f"v{JOIN}w"),
    ],
)
def test_what_is_so_in_the_larger_group_takes_its_crossings_with_it(columns, group, column, level):
    larger, crossing = finding((column,), level, 1.8), finding(columns, group, 1.9)
    assert len(gathered([larger, crossing])) == 1
    assert len(gathered([finding((column,), "else", 1.8), crossing])) == 2
    assert len(gathered([finding(("z",), level, 1.8), crossing])) == 2
