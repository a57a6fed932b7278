"""Whether a result that was computed again is what it was, and by how much it differs."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any, NamedTuple

from zerotilt.core import words
from zerotilt.core.attached import MEMBER

ROUNDING = 1e-9
"""Of a number's size: what differs by less is the same to rounding, as other processors and libraries sum."""
MOST_SHOWN = 3


class Difference(NamedTuple):
    """One number or word that is not what it was."""

    where: str
    before: Any
    now: Any

    @property
    def size(self) -> float:
        """By how much; infinite where one of the two is no number."""
        if _number(self.before) and _number(self.now):
            return abs(self.now - self.before)
        return math.inf


class Compared(NamedTuple):
    """A result held against the one before."""

    values: int
    """Numbers and words in it."""
    differences: tuple[Difference, ...]
    rounding: int
    """Numbers that differ by rounding alone."""

    @property
    def sentence(self) -> str:
        if not self.differences:
            rounded = f"; {_differ(self.rounding, 'number')} by rounding alone" if self.rounding else ""
            return f"the same in all of {words.plural(self.values, 'value')}{rounded}"
        worst = sorted(self.differences, key=lambda one: -one.size)[:MOST_SHOWN]
        shown = "; ".join(f"{one.where}: {_said(one.before)} before, {_said(one.now)} now" for one in worst)
        finite = [one.size for one in self.differences if math.isfinite(one.size)]
        most = f", by at most {max(finite):.3g}" if finite else ""
        few = len(self.differences)
        return f"{words.count(few)} of {words.plural(self.values, 'value')} {'differs' if few == 1 else 'differ'}{most} ({shown})"


def compared(before: Any, now: Any) -> Compared:
    """Every number and word of a result against the one before; lists by place, records by name."""
    found = list(_leaves(before, now, ()))
    differing = [one for one, same in found if not same and not _rounded(one)]
    rounding = sum(not same and _rounded(one) for one, same in found)
    return Compared(len(found), tuple(differing), rounding)


def _leaves(before: Any, now: Any, where: tuple[str, ...]) -> Iterator[tuple[Difference, bool]]:
    if any(one is None and other in ({}, []) for one, other in ((before, now), (now, before))):
        return  # nothing, and a list of nothing
    if isinstance(before, dict) and isinstance(now, dict):
        # a table that goes with a result is told by its size and digest, which other libraries write otherwise
        told = {"digest", "size"} if before.get("held") == MEMBER else set()
        for name in (one for one in dict.fromkeys([*before, *now]) if one not in told):
            yield from _leaves(before.get(name), now.get(name), (*where, str(name)))
    elif isinstance(before, list) and isinstance(now, list):
        for place in range(max(len(before), len(now))):
            pair = [one[place] if place < len(one) else None for one in (before, now)]
            yield from _leaves(pair[0], pair[1], (*where, str(place + 1)))
    else:
        yield Difference(" / ".join(where), before, now), before == now and type(before) is type(now)


def _differ(count: int, what: str) -> str:
    return f"{words.plural(count, what)} {'differs' if count == 1 else 'differ'}"


def _number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def _rounded(one: Difference) -> bool:
    return _number(one.before) and _number(one.now) and one.size <= ROUNDING * max(abs(one.before), abs(one.now), 1.0)


def _said(value: Any) -> str:
    if isinstance(value, dict | list):
        return f"{words.count(len(value))} entries"
    return "nothing" if value is None else f"{value:.9g}" if isinstance(value, float) else str(value)[:60]
