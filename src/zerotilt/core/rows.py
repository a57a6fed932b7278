"""Which rows are read, and what really happened in them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import segments, words
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Role, Segment, Spec, Task
from zerotilt.core.table import Table

NAMES = {"hold-out": "held-out", "training": "training", "all": "all"}


def counted(number: int, which: str, word: str) -> str:
    """So many rows of a row set, as a phrase: "3,600 held-out claims", "12,000 claims"."""
    return f"{words.count(number)} {word}" if which == "all" else f"{words.count(number)} {NAMES[which]} {word}"


def outcome(spec: Spec, table: Table) -> tuple[NDArray, NDArray[np.bool_]]:
    """What really happened, and whether it is known; both of shape (rows,).

    An event: whether it happened (bool). Classes: their number in :func:`classes`
    (int64). A number: itself (float64).

    Raises
    ------
    Refused : the outcome has one class, more than two where an event is meant,
        not the event value, or is no number where one is meant.
    """
    column = spec.outcome
    where = f"column “{column.name}”"
    if spec.task is Task.regression:
        numbers = table.numbers(column.name)
        known = np.isfinite(numbers)
        if not known.any():
            raise Refused("The outcome is missing in every row.", where=where, todo="Choose another outcome column.")
        return np.where(known, numbers, 0.0), known
    values = table.texts(column.name)
    known = np.array([value is not None for value in values])
    levels = classes(spec, table)
    listed = words.listing([f"“{level}”" for level in levels[:6]]) + (" …" if len(levels) > 6 else "")
    if len(levels) == 1:
        raise Refused(
            f"The outcome has one class only ({listed}); there is nothing to tell apart.",
            where=where,
            todo="Choose another outcome column or add rows of the other class.",
        )
    if spec.task is not Task.binary:
        number = {level: i for i, level in enumerate(levels)}
        return np.array([number.get(value, 0) for value in values], np.int64), known
    if len(levels) > 2:
        raise Refused(
            f"The outcome has {len(levels)} classes ({listed}); this audit is of two.",
            where=where,
            todo="Choose a column with two values, or join classes before uploading.",
        )
    if (event := match_level(spec.event, list(levels))) is None:
        raise Refused(
            f"The event value “{spec.event}” is not in the outcome column; it holds {listed}.",
            where=where,
            todo="Choose one of these values as the event.",
        )
    return values == event, known


def classes(spec: Spec, table: Table) -> tuple[str, ...]:
    """The outcome's classes: in their declared order where they have one, else by name.

    Raises
    ------
    Refused : the outcome is missing in every row.
    """
    levels = sorted({value for value in table.texts(spec.outcome.name) if value is not None})
    if not levels:
        raise Refused(
            "The outcome is missing in every row.",
            where=f"column “{spec.outcome.name}”",
            todo="Choose another outcome column.",
        )
    order = [level for level in spec.outcome.order if level in levels]
    return (*order, *(level for level in levels if level not in order))


def match_level(value: str, levels: list[str]) -> str | None:
    """The level a person means by ``value``: the same text, or the same truth value or number written otherwise."""
    if value in levels:
        return value
    folded = [level for level in levels if level.lower() == value.lower()]
    if len(folded) == 1:
        return folded[0]
    try:
        number = words.value_text(float(value))
    except ValueError:
        return None
    return number if number in levels else None


def select(spec: Spec, table: Table, which: str, segment: Segment | None = None) -> NDArray[np.int64]:
    """Row numbers of the context, ascending. Rows with no outcome are left out, and those outside the segment.

    Without a split column the hold-out is a seeded draw of ``spec.holdout_share``.
    """
    known = outcome(spec, table)[1]
    chosen = known if which == "all" else known & held_out(spec, table, which)
    found = np.flatnonzero(chosen)
    if segment is not None:
        found = found[segments.members(segment, table, found)]
    if not len(found):
        within = f" in “{segment.name}” ({segments.described(segment)})" if segment else ""
        some = "rows" if which == "all" else f"{NAMES[which]} rows"
        raise Refused(f"There are no {some} with a known outcome{within}.", todo="Choose other rows.")
    return found


def nothing_trained(spec: Spec) -> bool:
    """Whether predictions were recorded and no column splits the rows: nothing was trained on any of them here, and all
    are read."""
    recorded = any(spec.with_role(role) for role in (Role.score, Role.decision))
    return recorded and not spec.with_role(Role.split)


def held_out(spec: Spec, table: Table, which: str) -> NDArray[np.bool_]:
    """Mask of the hold-out or of the training rows, shape (rows,)."""
    split = spec.only(Role.split)
    if split is not None:
        wanted = spec.holdout_values if which == "hold-out" else spec.training_values
        return np.isin(table.texts(split.name).astype(str), [str(value) for value in wanted])
    drawn = np.random.default_rng(spec.seed).permutation(table.rows)[: round(table.rows * spec.holdout_share)]
    held = np.zeros(table.rows, dtype=bool)
    held[drawn] = True
    return held if which == "hold-out" else ~held


def describe(spec: Spec, which: str, segment: Segment | None = None) -> str:
    """How the rows were chosen, in words."""
    if segment is not None:
        return f"{describe(spec, which)}; of these “{segment.name}”: {segments.described(segment)}"
    if which == "all":
        if spec.with_role(Role.split):
            return "all rows with a known outcome; training rows are among them, on which a model does better than on others"
        if nothing_trained(spec):
            return "all rows with a known outcome; the predictions were recorded, so nothing was trained on them here"
        return "all rows with a known outcome"
    split = spec.only(Role.split)
    if split is not None:
        values = spec.holdout_values if which == "hold-out" else spec.training_values
        return f"rows whose {words.title(split.name)} is {words.listing([f'“{value}”' for value in values])}"
    share = spec.holdout_share if which == "hold-out" else 1 - spec.holdout_share
    return (
        f"a seeded random draw of {share:.0%} of the rows (seed {spec.seed}); the table has no split column, so it is "
        "not known which rows the model was trained on"
    )


def weights(spec: Spec, table: Table) -> NDArray[np.float64] | None:
    """Row weights, shape (rows,), or None when no column has that role."""
    column = spec.only(Role.weight)
    if column is None:
        return None
    values = table.numbers(column.name)
    bad = np.flatnonzero(~np.isfinite(values) | (values < 0))
    if len(bad):
        raise Refused(
            f"A row weight is missing or negative in {words.plural(len(bad), 'row')}, first in row {words.count(int(bad[0]) + 1)}.",
            where=f"column “{column.name}”",
            todo="Mend the weights or give the column another role.",
        )
    if not values.sum():
        raise Refused(
            "All row weights are zero.", where=f"column “{column.name}”", todo="Choose another weight column."
        )
    return values


def name(spec: Spec, table: Table, row: int) -> str:
    """The identifier of a row where the table has one, else its number from 1."""
    identifiers = spec.with_role(Role.identifier)
    value = table.texts(identifiers[0].name)[row] if identifiers else None
    return value if value is not None else f"row {words.count(row + 1)}"
