"""Which rows are read, and what really happened in them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import segments, words
from zerotilt.core.meaning import Role, RowSet, Spec
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.core.tasks import kind_of


def _unknown(spec: Spec) -> str:
    """What is not known where no column tells who was trained on; of errors only where there are any to be told."""
    return "whether the model was trained on these very rows is not known" + (
        ", and where it was, its errors are larger than told" if spec.knows_outcome else ""
    )


NAMES = {"hold-out": "held-out", "training": "training", "all": "all"}


def counted(number: int, which: str, word: str) -> str:
    """So many rows of a row set, as a phrase: "3,600 held-out claims", "12,000 claims"."""
    return f"{words.count(number)} {word}" if which == "all" else f"{words.count(number)} {NAMES[which]} {word}"


def called(split: str, word: str, segment: str = "") -> str:
    """A row set as a phrase: "held-out claims", "held-out claims in by telephone"."""
    return f"{split} {word}{f' in {segment}' if segment else ''}"


def known(spec: Spec, table: Table) -> NDArray[np.bool_]:
    """Which rows can be read, shape (rows,): those whose outcome is known; all where no column holds one."""
    return kind_of(spec.task).outcome(spec, table)[1] if spec.knows_outcome else np.ones(table.rows, bool)


def select(spec: Spec, table: Table, rows: RowSet) -> NDArray[np.int64]:
    """Row numbers of a row set, ascending. Rows whose outcome is missing are left out.

    Without a split column the hold-out is a seeded draw of ``spec.holdout_share``.

    Raises
    ------
    Refused : there are none.
    """
    which, segment = rows.split, rows.segment
    chosen = known(spec, table)
    found = np.flatnonzero(chosen if which == "all" else chosen & held_out(spec, table, which))
    if segment is not None:
        found = found[segments.members(segment, spec, table, found)]
    if not len(found):
        within = f" in “{segment.name}” ({segments.described(segment)})" if segment else ""
        some = "rows" if which == "all" else f"{NAMES[which]} rows"
        with_outcome = " with a known outcome" if spec.knows_outcome else ""
        raise Refused(f"There are no {some}{with_outcome}{within}.", todo="Choose other rows.")
    return found


def nothing_trained(spec: Spec) -> bool:
    """Whether predictions were recorded and no column splits the rows: nothing is trained or held out here, and all are
    read."""
    recorded = any(spec.with_role(role) for role in (Role.score, Role.decision))
    return recorded and not spec.with_role(Role.split)


def split_known(spec: Spec) -> bool:
    """Whether a column says which rows were held out; without one, training and hold-out are a draw of our own."""
    return bool(spec.with_role(Role.split))


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


def describe(spec: Spec, rows: RowSet) -> str:
    """How the rows were chosen, in words."""
    which, segment = rows.split, rows.segment
    if segment is not None:
        return f"{describe(spec, RowSet(split=which))}; of these “{segment.name}”: {segments.described(segment)}"
    if which == "all":
        every = "all rows with a known outcome" if spec.knows_outcome else "all rows"
        if spec.with_role(Role.split):
            return f"{every}; training rows are among them, on which a model does better than on others"
        if nothing_trained(spec):
            return f"{every}; the predictions were recorded, and {_unknown(spec)}"
        return f"{every}; the table has no split column: {_unknown(spec)}"
    split = spec.only(Role.split)
    if split is not None:
        values = spec.holdout_values if which == "hold-out" else spec.training_values
        return f"rows whose {words.title(split.name)} is {words.listing([f'“{value}”' for value in values])}"
    share = spec.holdout_share if which == "hold-out" else 1 - spec.holdout_share
    return f"a seeded random draw of {share:.0%} of the rows (seed {spec.seed}); the table has no split column: {_unknown(spec)}"


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
    return names_of(spec, table, np.array([row]))[0]


def names_of(spec: Spec, table: Table, rows: NDArray[np.int64]) -> list[str]:
    """Identifiers of some rows, in their order; "row 1,204" where a row has none."""
    identifiers = spec.with_role(Role.identifier)
    values = table.texts_of(identifiers[0].name, rows) if identifiers else [None] * len(rows)
    return [
        str(value) if value is not None else f"row {words.count(int(row) + 1)}"
        for row, value in zip(rows, values, strict=True)
    ]
