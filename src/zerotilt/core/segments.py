"""Rows that meet conditions: segments under a name."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.meaning import Condition, Role, Segment, Spec
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table


def members(segment: Segment, spec: Spec, table: Table, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which of the rows meet every condition, or were picked; shape (n,).

    Raises
    ------
    Refused : a range is asked of a column that holds no numbers.
    """
    found = np.ones(len(rows), dtype=bool)
    if segment.picked:
        found &= _picked(segment, spec, table, rows)
    for condition in segment.conditions:
        found &= _meets(condition, table, rows)
    return found


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
    """The conditions in words: "channel is telephone, parcel weight over 10"; how many were picked."""
    picked = [f"{words.plural(len(set(segment.picked)), 'row')} picked one by one"] if segment.picked else []
    return ", ".join([*(_said(one) for one in segment.conditions), *picked])


def only(segment: Segment) -> str:
    """Which rows they are, after "only": "rows whose channel is telephone", "5 rows picked one by one"."""
    if segment.picked and not segment.conditions:
        return described(segment)
    return f"rows whose {described(segment)}"


_WRITTEN = re.compile(r"^(?P<column>.+?)\s*(?P<sign><=|>|=)\s*(?P<value>.*)$")


def parsed(text: str, names: Sequence[str]) -> Condition:
    """A condition as it is typed: "channel=telephone|app", "parcel_weight>10", "parcel_weight<=20", "channel=" for missing.

    >>> parsed("parcel_weight > 10", ["parcel_weight"]).over
    10.0
    >>> parsed("channel=telephone|app", ["channel"]).levels
    ('telephone', 'app')

    Raises
    ------
    Refused : it cannot be read, or names no column.
    """
    # a column whose own name holds a sign is tried first
    own = next((name for name in sorted(names, key=len, reverse=True) if text.startswith(name)), None)
    found = _WRITTEN.match(f"c{text[len(own) :]}" if own else text)
    if own and found is not None and found["column"] != "c":
        found = None  # something stands between the column and the sign
    column = own or (found["column"] if found else text)
    if found is None or column not in names:
        raise Refused(
            f"“{text}” was given as a condition; it is written as column=level, column>number or column<=number, with a "
            f"column of the table.",
            where=f"column “{column}”" if found else None,
            todo="Check the spelling; quote it in a shell.",
        )
    value = found["value"].strip()
    if found["sign"] == "=":
        return Condition(column=column, levels=tuple(value.split("|")) if value else (), missing=not value)
    try:
        number = float(value)
    except ValueError:
        raise Refused(
            f"“{text}” was given as a condition; “{value}” is no number.", where=f"column “{column}”"
        ) from None
    return Condition(column=column, **{"over" if found["sign"] == ">" else "up_to": number})


def read_aloud(text: str) -> str:
    """A condition as it is typed, in words; as it stands where it cannot be read.

    >>> read_aloud("channel=telephone|app"), read_aloud("parcel_weight>10"), read_aloud("account_age=")
    ('channel is telephone or app', 'parcel weight over 10', 'account age missing')
    """
    found = _WRITTEN.match(text)
    if found is None:
        return text
    column, value = words.title(found["column"].strip()), found["value"].strip()
    if found["sign"] != "=":
        return f"{column} {'over' if found['sign'] == '>' else 'up to'} {value}"
    return f"{column} is {' or '.join(value.split('|'))}" if value else f"{column} missing"


def typed(conditions: Sequence[str], picked: Sequence[str], names: Sequence[str], name: str = "") -> Segment:
    """A segment by conditions as they are typed, or by picked rows; called by its conditions where it has no name."""
    return Segment(
        name=name or ", ".join(conditions) or "picked rows",
        conditions=tuple(parsed(one, names) for one in conditions),
        picked=tuple(picked),
    )


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
