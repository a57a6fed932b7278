"""Compile every kernel once, so that nobody waits for it later: ``python -m zerotilt.core.warm``.

Compiled code is kept on disk beside the sources (or where NUMBA_CACHE_DIR
says); a process that finds it there loads it in a fraction of a second.
"""

from __future__ import annotations

import numpy as np

from zerotilt.core.case.odd import nearest_of_all
from zerotilt.core.contributions.controlled import solve_all
from zerotilt.core.distance import nearest, space
from zerotilt.core.drivers.own import split_reduction
from zerotilt.core.groups import tally
from zerotilt.core.groups.paired_metrics import placements, spread_of
from zerotilt.core.groups.readout import ranked_by
from zerotilt.core.output import Link
from zerotilt.core.players.columns import along
from zerotilt.core.pockets import boxes
from zerotilt.core.pockets.cells import Cells
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.structure import Structure
from zerotilt.core.stats import calibration, intervals
from zerotilt.core.stats.paired import tango
from zerotilt.core.trees import curves, pairs, table_plan, tables
from zerotilt.core.trees.ensemble import LEQ, Trees, add_up, mask_of
from zerotilt.core.work import Work


def warm() -> None:
    """Run each kernel on a stump, in both number types that models come in."""
    for number in (np.float32, np.float64):
        _run(number)
    along(np.zeros(1, np.int64), np.zeros(1), np.ones(1), 1)
    yes = np.array([True, False])
    tally.areas(tally.Ranked.of(np.zeros(2), yes, None), np.zeros(2, np.int64), 1)
    tally.count(tally.Packed(np.zeros((1, 2), np.int8), np.zeros((1, 2)), np.zeros(0)), np.zeros(2, np.int64), 1)
    intervals.mee(1.0, 2.0, 1.0, 2.0)
    intervals.koopman(1.0, 2.0, 1.0, 2.0)
    intervals.area(1.0, 0.0, 2.0, 2.0)
    tango(1, 0, 2)
    placements(*ranked_by(np.zeros(2)), yes, np.ones(2), np.zeros(2, np.int64), 1)
    spread_of(np.zeros(2), yes, np.ones(2), np.zeros(2, np.int64), 1)
    calibration.with_interval(yes, np.array([0.5, 0.4]), None, 0)
    solve_all(np.ones((1, 1, 1)), np.ones((1, 1)), 0.0, np.zeros((1, 1)))
    few = Frame({"x": np.array([0.0, 1.0, np.nan])})
    where = space(few)
    nearest(where, few)
    nearest(where, few, few)
    nearest_of_all(np.zeros((2, 1)), np.array([True]), 1, Work())
    _search()


def _search() -> None:
    """The search for pockets, over four rows of one column."""
    codes, runs = np.array([0, 0, 1, 1], np.uint8), np.array([[0, 0], [1, 1]])
    grid = boxes.Grid.of([Cells("x", "number", codes, 2, runs, np.ones(2, np.int64), (0.5,))])
    one = np.ones(1)
    halves = boxes.Halves(np.ones((1, 1), bool), 4 * one, 0 * one, one, one)
    asked = boxes.Asked(1, 1.0, 1.0, 0.0)
    sets = np.array([[0, 1, 1]])
    boxes.densest(grid, sets, np.zeros(4, np.uint8), np.array([0.0, 0.0, 1.0, 1.0]), halves, asked, Work())


def _run(number: type) -> None:
    trees = Trees(
        roots=np.array([0], np.int32),
        column=np.array([0], np.int32),
        threshold=np.array([0.5], number),
        mode=np.array([LEQ], np.int8),
        track=np.array([False]),
        yes=np.array([-1], np.int32),
        no=np.array([-2], np.int32),
        first=np.zeros(2, np.int32),
        members=np.zeros(0, number),
        leaves=np.array([[1.0], [2.0]]),
        base=np.zeros(1),
    )
    owner, encoded, weights = np.zeros(1, np.int32), np.array([[0.0], [1.0]], number), np.full(2, 0.5)
    everything = np.flatnonzero(table_plan.by_table(trees, owner, 1e6, 1_000)[0])
    plan = table_plan.plan(trees, owner, everything, 1)
    tables.filled(trees, plan, tables.counted(trees, plan, encoded, weights), 0, 1).look_up(encoded)
    pairs.explain(trees, owner, everything, encoded, encoded, weights, 0, 1)
    curves.sweep(trees, encoded, curves.axes(trees, owner, [encoded]))
    add_up(trees.landed(encoded), everything, trees.leaves)
    values, goes, (first, last) = encoded[:, 0].copy(), np.empty(2, bool), trees.first
    mask_of(values, trees.mode[0], trees.track[0], trees.threshold[0], trees.members, first, last, goes)
    split_reduction(trees, trees.held(encoded, weights), 1, 0)
    link: Link = "identity"
    structure = Structure(None, owner, trees, None, trees.base, link)  # type: ignore[arg-type]  # nothing is encoded
    structure.sums_of(encoded)
    rows = np.arange(2)
    structure.mixed_sums(encoded, encoded, rows, rows, np.ones((2, 1), bool))
    structure.walked_sums(encoded, encoded, rows, rows, np.zeros((2, 1), np.int64))
    line = Structure(None, owner, None, np.ones((1, 1)), trees.base, link)  # type: ignore[arg-type]
    line.walked_sums(encoded, encoded, rows, rows, np.zeros((2, 1), np.int64))


if __name__ == "__main__":
    warm()
