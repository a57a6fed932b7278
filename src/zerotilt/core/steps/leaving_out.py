"""Columns that a candidate does not take, whatever else it takes."""

from __future__ import annotations

from zerotilt.core import words
from zerotilt.core.steps.remedy import Control, Remedy

REMEDY = Remedy(
    name="left_out",
    title="columns left out",
    where="columns",
    settings=tuple[str, ...],
    nothing=(),
    said=lambda columns: f"trained without {words.listing([words.title(one) for one in columns])}",
    does="Columns are not taken.",
    assumes="It takes for granted that what a model does not see does not count: where others stand in for it, as Data says, the "
    "gap stays or grows, and it can no longer be checked what the column itself does.",
    hurts="Whoever was helped by the column loses that.",
    law="To leave out a group column is asked for by law in many places, and rarely enough.",
    written="left_out = [...]",
    form={"left_out": Control("trained without", "columns")},
)
