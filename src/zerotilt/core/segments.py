"""Rows that meet conditions: segments under a name."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Condition, Segment
from zerotilt.core.table import Table


def members(segment: Segment, table: Table, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which of the rows meet every condition, shape (n,).

    Raises
    ------
    Refused : a range is asked of a column that holds no numbers.
    """
    found = np.ones(len(rows), dtype=bool)
    for condition in segment.conditions:
        found &= _meets(condition, table, rows)
    return found


def _meets(condition: Condition, table: Table, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    levels, codes = table.coded(condition.column)
    codes = codes[rows]
    found = (codes < 0) if condition.missing else np.zeros(len(rows), bool)
    if condition.levels:
        wanted = np.append(np.isin(levels.astype(str), condition.levels), False)
        found |= wanted[codes]
    if condition.over is not None or condition.up_to is not None:
        if not table.is_number(condition.column):
            raise Refused(
                f"A range was asked of “{condition.column}”, which holds no numbers.",
                where=f"column “{condition.column}”",
                todo="Name its levels instead.",
            )
        values = table.numbers(condition.column)[rows]
        within = np.isfinite(values)
        if condition.over is not None:
            within &= values > condition.over
        if condition.up_to is not None:
            within &= values <= condition.up_to
        found |= within
    return found


def described(segment: Segment) -> str:
    """The conditions in words: "channel is telephone, parcel weight over 10"."""
    return ", ".join(_said(one) for one in segment.conditions)


def _said(condition: Condition) -> str:
    parts = []
    if condition.levels:
        parts.append(f"is {words.listing(list(condition.levels))}")
    if condition.over is not None:
        parts.append(f"over {condition.over:g}")
    if condition.up_to is not None:
        parts.append(f"{'and ' if condition.over is not None else ''}up to {condition.up_to:g}")
    text = " ".join(parts)
    if condition.missing:
        text = f"{text} or missing" if text else "missing"
    return f"{words.title(condition.column)} {text}"
