"""One tree against its rows: who comes where, what is asked in the columns people know, and where a case goes."""

from __future__ import annotations

import re

import numpy as np
import pytest
from tests.core import zoo
from tests.core.systems import system

from zerotilt.core.drivers.one_tree import OneTreeSettings, one_tree, picture, say
from zerotilt.core.meaning import Wording
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work


def subject(name: str):
    task, model, columns = zoo.made(name)
    return zoo.subject_of(model, columns, task)


def read(of, **settings):
    return one_tree(of, OneTreeSettings(**settings), 0, Work())


@pytest.mark.parametrize("name", zoo.TREES)
def test_rows_part_at_every_split_and_ends_add_up_to_the_trees_own_sum(name):
    of = subject(name)
    structure, _ = of.predictions.structure
    result = read(of, depth=8)
    nodes = {(one.parent, one.side): one for one in result.nodes}
    for place, one in enumerate(result.nodes):
        if not one.leaf and not one.folded:
            yes, no = nodes[place, "yes"], nodes[place, "no"]
            assert yes.rows + no.rows == one.rows and yes.share + no.share == pytest.approx(one.share)
    # what the first tree gives every row, walked by the model's own arithmetic
    trees = structure.trees
    encoded = structure.encode(of.frame)
    leaves = trees.landed(encoded)[:, 0]
    first = trees.leaves[leaves, of.column]
    assert result.nodes[0].value == pytest.approx(first.mean(), abs=1e-6) and result.nodes[0].rows == zoo.ROWS
    assert result.trees == len(trees.roots) and result.nodes[0].case is False
    assert say(result, Wording(), OneTreeSettings()).headline[0].text.startswith(("Tree 1 of", "The tree asks"))
    assert sum(picture(read(of), of.spec).values) == pytest.approx(1)


def test_questions_are_asked_in_the_columns_people_know():
    """Levels that are encoded, and numbers with gaps that are filled: the rows that meet the words are those that go."""
    of = subject("random forest")
    for tree in range(1, 13):
        result = read(of, tree=tree, depth=8)
        for one in result.nodes:
            if one.leaf or one.folded or one.parent is not None:
                continue
            told = re.fullmatch(r"(\w+) (is not|is|is at most|is over) (.+)", one.condition)
            yes = next(each for each in result.nodes if each.parent == 0 and each.side == "yes")
            column = of.frame[one.feature]
            if column.dtype.kind == "f":
                limit = float(re.search(r"-?−?[\d.]+", told[3])[0].replace("−", "-"))
                meets = np.where(np.isnan(column), "or missing" in one.condition, column <= limit)
                assert abs(meets.sum() - yes.rows) <= 3  # the limit is written in a few digits
            else:
                levels = re.split(r", | or ", told[3])
                meets = np.isin(column.astype(str), levels) == (told[2] == "is")
                assert meets.sum() == yes.rows


def test_a_case_goes_one_way_and_a_folded_part_is_opened():
    of = subject("decision tree")
    result = read(of, row=7, depth=8)
    way = [one for one in result.nodes if one.case]
    assert [one.depth for one in way] == list(range(len(way))) and way[-1].leaf
    structure, _ = of.predictions.structure
    leaf = structure.trees.landed(structure.encode(of.frame))[7, 0]
    assert way[-1].id == -leaf - 1
    short = read(of, depth=1, row=7)
    folded = next(one for one in short.nodes if one.folded and one.case)
    opened = read(of, depth=8, row=7, start=folded.id)
    assert opened.nodes[0].rows == folded.rows and opened.nodes[0].case and opened.nodes[0].parent is None
    assert opened.nodes[0].value == pytest.approx(folded.value, abs=1e-9)
    assert {one.id for one in opened.nodes} < {one.id for one in result.nodes}
    assert folded.folded == len(opened.nodes) - 1


def test_what_cannot_be_drawn_is_refused_in_words():
    with pytest.raises(Refused, match="has no trees that can be drawn"):
        read(subject("logistic regression"))
    with pytest.raises(Refused, match="has no trees that can be drawn"):
        read(system({"x": [0.0, 1.0] * 30, "y": ["0", "1"] * 30}, lambda rows: rows["x"][:, None], ["x"]))
    of = subject("decision tree")
    with pytest.raises(Refused, match="the model has 1 tree"):
        read(of, tree=2)
    with pytest.raises(Refused, match="has no split 5000"):
        read(of, start=5_000)
    with pytest.raises(Refused):
        read(of, row=10_000)
