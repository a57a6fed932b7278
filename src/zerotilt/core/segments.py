"""Rows that meet conditions: segments under a name, and in words."""

from __future__ import annotations

import re
from datetime import date

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.meaning import Condition, Role, Segment, Spec
from zerotilt.core.refusal import Refused
from zerotilt.core.table import NO, YES, Table


def members(segment: Segment, spec: Spec, table: Table, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which of the rows meet the conditions, or were picked; shape (n,).

    Raises
    ------
    Refused : a range is asked of a column that holds no numbers or no days, or the table lacks a column.
    """
    if (lacking := unfit(segment, table)) is not None:
        raise lacking
    found = np.zeros(len(rows), bool) if segment.blocks else np.ones(len(rows), bool)
    known: dict[Condition, NDArray[np.bool_]] = {}
    for block in segment.blocks:
        meets = np.ones(len(rows), bool)
        for condition in block:
            if condition not in known:
                known[condition] = meeting(condition, table, rows)
            meets &= known[condition]
        found |= meets
    return found & _picked(segment, spec, table, rows) if segment.picked else found


def _picked(segment: Segment, spec: Spec, table: Table, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Rows by their identifier; by their number, from 1, where they have none."""
    numbers = [one.removeprefix("row ").replace(",", "") for one in segment.picked]
    by_number = np.isin((rows + 1).astype(str), numbers)
    identifiers = spec.with_role(Role.identifier)
    if not identifiers:
        return by_number
    names = table.texts(identifiers[0].name)[rows]
    unnamed = np.array([value is None for value in names], bool)
    named = np.isin(np.array([value or "" for value in names], dtype=str), segment.picked)
    return np.where(unnamed, by_number, named)


def unfit(segment: Segment, table: Table) -> Refused | None:
    """Why a segment cannot be read of a table; None where it can."""
    lacking = [name for name in segment.columns if name not in table.names]
    if lacking:
        return Refused(
            f"The segment “{segment.name}” asks about {words.listing([f'“{name}”' for name in lacking])}, which this "
            f"table does not have.",
            where=f"segment “{segment.name}”",
            todo="Change its conditions in Data, or read other rows.",
        )
    for block in segment.blocks:
        for one in block:
            if one.ranged and not table.is_number(one.column):
                wanted, todo = "A range was", "Name its levels instead."
            elif one.dated and not table.is_date(one.column):
                wanted, todo = "Days were", "Name its levels or a range of numbers instead."
            else:
                continue
            holds = "no numbers" if one.ranged else "none"
            return Refused(
                f"{wanted} asked of “{one.column}”, which holds {holds}.", where=f"column “{one.column}”", todo=todo
            )
    return None


EPOCH = date(1970, 1, 1)


def meeting(condition: Condition, table: Table, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which of the rows meet one condition that fits the table, shape (n,)."""
    name = condition.column
    found = np.zeros(len(rows), bool)
    if condition.levels or condition.missing:
        levels, codes = table.coded(name)
        named = np.isin(levels.astype(str), [one for level in condition.levels for one in _meant(level, table, name)])
        wanted = np.append(named, condition.missing)
        found |= wanted[codes[rows]]
    if condition.ranged:
        found |= _between(
            table.numbers(name)[rows], condition.over, condition.at_least, condition.under, condition.up_to
        )
    if condition.dated:
        first, last = ((day - EPOCH).days if day is not None else None for day in (condition.since, condition.until))
        found |= _between(table.numbers(name)[rows], None, first, None, last)
    return ~found if condition.negated else found


def _meant(level: str, table: Table, name: str) -> tuple[str, ...]:
    """The texts of a column's cells that a person means by a level: of a number, a day or a truth value all that are the
    same value, however they are written; else the text as it is.

    >>> import pyarrow as pa
    >>> made = Table(pa.table({"age": [30, 31], "flag": [True, False]}))
    >>> _meant("30.0", made, "age"), _meant("yes", made, "flag"), _meant("thirty", made, "age")
    (('30',), ('True',), ('thirty',))
    """
    text = level.strip()
    if table.is_number(name):
        try:
            # of whole numbers one beyond what a float holds keeps its digits
            whole = table.is_whole(name) and re.fullmatch(r"[+-]?\d{1,20}", text)
            return (str(int(text)) if whole else words.value_text(float(text)),)
        except (ValueError, OverflowError):
            return (level,)
    if table.is_truth(name) and text.lower() in YES | NO:
        return (str(text.lower() in YES),)
    if table.is_date(name) and (written := re.fullmatch(r"(\d{4})-(\d{1,2})-(\d{1,2})", text)):
        try:
            return (date(*map(int, written.groups())).isoformat(),)
        except ValueError:
            return (level,)
    return (level,)


def _between(values: NDArray[np.float64], over, at_least, under, up_to) -> NDArray[np.bool_]:
    within = ~np.isnan(values)
    for end, compare in ((over, np.greater), (at_least, np.greater_equal), (under, np.less), (up_to, np.less_equal)):
        if end is not None:
            within &= compare(values, end)
    return within


def described(segment: Segment, joined: str = "or") -> str:
    """The conditions in words: "channel is telephone, parcel weight over 10"; how many were picked."""
    picked = [f"{words.plural(len(set(segment.picked)), 'row')} picked one by one"] if segment.picked else []
    found = "; or ".join(", ".join(said(one, joined) for one in block) for block in segment.blocks)
    return ", ".join([*([found] if found else []), *picked])


def only(segment: Segment) -> str:
    """Which rows they are, after "only": "rows whose channel is telephone", "5 rows picked one by one"."""
    source = f" ({segment.source})" if segment.source else ""
    return f"{'rows whose ' if segment.conditions else ''}{described(segment)}{source}"


def said(condition: Condition, joined: str = "or") -> str:
    """One condition in words: "parcel weight over 10 and up to 20 or missing", "channel is not telephone".

    >>> said(Condition(column="parcel_weight", at_least=10, under=20)), said(Condition(column="channel", missing=True, negated=True))
    ('parcel weight from 10 and under 20', 'channel not missing')
    """
    ends = (
        ("over", condition.over), ("from", condition.at_least), ("from", condition.since),
        ("under", condition.under), ("up to", condition.up_to), ("up to", condition.until),
    )  # fmt: skip
    ranged = " and ".join(f"{word} {_end(end)}" for word, end in ends if end is not None)
    of_levels = words.listing(list(condition.levels), joined)
    levels = f"is {'not ' if condition.negated else ''}{of_levels}" if of_levels else ""
    parts = [levels, ranged, "missing" if condition.missing else ""]
    text = " or ".join(part for part in parts if part)
    if condition.negated and not levels:
        text = f"not {text}"
    return f"{words.title(condition.column)} {text}"


def _end(end: float | date) -> str:
    return end.isoformat() if isinstance(end, date) else f"{end:.15g}".replace("-", "−")
