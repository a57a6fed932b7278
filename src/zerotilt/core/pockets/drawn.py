"""Errors of several sets of rows as bars with their intervals."""

from __future__ import annotations

from collections.abc import Sequence

from zerotilt.core.drawing import Bars
from zerotilt.core.stats.estimates import Estimate


def bars_of(rows: Sequence[tuple[str, Estimate]], label: str) -> Bars:
    """One bar a set of rows, those left out in which the error is not defined."""
    known = [(name, one, one.value) for name, one in rows if one.value is not None]
    return Bars(
        names=tuple(name for name, _, _ in known),
        values=tuple(value for _, _, value in known),
        label=label,
        spans=tuple(
            (value if one.low is None else one.low, value if one.high is None else one.high) for _, one, value in known
        ),
    )
