"""Printed figures of the table itself."""

from __future__ import annotations

from zerotilt.core import words
from zerotilt.core.data.columns import ColumnsResult
from zerotilt.core.data.concerns import ConcernsResult
from zerotilt.core.data.pairs import PairsResult
from zerotilt.core.meaning import Spec
from zerotilt.report.bars import bars
from zerotilt.report.figures import BRICK, VERDIGRIS, Drawing

SHOWN = 20


def concerns(result: ConcernsResult, spec: Spec) -> Drawing:
    """Of each concern the share of the rows that it is about."""
    shown = result.concerns[:SHOWN]
    names = [f"{one.title}: {words.listing([words.title(name) for name in one.columns[:1]])}" for one in shown]
    return bars(
        names,
        [(one.rows or 0) / max(one.of, 1) for one in shown],
        f"share of the {spec.wording.rows} it is about",
        colours=[BRICK] * len(shown),
    )


def columns(result: ColumnsResult, spec: Spec) -> Drawing:
    """What is missing in each column; where rows are told apart, how far its farthest part is from the others."""
    if result.parts:
        told = [one for one in result.columns if one.distance is not None][:SHOWN]
        names = [f"{words.title(one.name)}: {one.farthest}" for one in told]
        return bars(names, [one.distance or 0.0 for one in told], "distance from the other rows, 0 to 1")
    most = sorted(result.columns, key=lambda one: -one.missing)[:SHOWN]
    return bars(
        [words.title(one.name) for one in most],
        [one.missing / max(result.rows, 1) for one in most],
        f"share of {spec.wording.rows} in which it is missing",
        colours=[VERDIGRIS] * len(most),
    )


def pairs(result: PairsResult, spec: Spec) -> Drawing:
    """The pairs that go together most."""
    most = result.strongest[:SHOWN]
    return bars(
        [f"{words.title(one.first)} and {words.title(one.second)}" for one in most],
        [one.strength for one in most],
        "strength of association, 0 to 1",
    )
