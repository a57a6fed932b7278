"""The rows told apart by any column: its levels, or thirds of its numbers."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import membership
from zerotilt.core.meaning import Kind
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject

MOST_PARTS = 7
OTHER = "(other)"


class Parts(NamedTuple):
    """Names of the parts, and the part of every row of the context, shape (n,)."""

    labels: list[str]
    codes: NDArray[np.int64]


def parts_of(subject: Subject, column: str) -> Parts:
    """Groups of a column as they are compared elsewhere; a number without borders of its own in thirds.

    Beyond seven the smallest are joined as "(other)".

    Raises
    ------
    Refused : the table has no such column.
    """
    if column not in subject.table.names:
        raise Refused(f"colour: the table has no column “{column}”.", todo="Choose one of its columns.")
    # a curve belongs to one part only, so cells that hold several levels are taken as they are
    spec = subject.spec.column(column).model_copy(update={"separator": ""})
    if spec.kind is Kind.numeric and subject.table.is_number(column) and not spec.cuts:
        values = subject.table.numbers(column)[subject.rows.numbers]
        known = values[np.isfinite(values)]
        if len(np.unique(known)) > MOST_PARTS:
            cuts = tuple(map(float, np.unique(np.quantile(known, [1 / 3, 2 / 3], method="nearest"))))
            spec = spec.model_copy(update={"cuts": cuts})
    columns = tuple(spec if one.name == column else one for one in subject.spec.columns)
    meaning = subject.spec.model_copy(update={"columns": columns})
    grouping = membership.grouping(meaning, subject.table, subject.rows.numbers, (column,))
    labels, codes = grouping.labels, grouping.codes
    sizes = np.bincount(codes, minlength=len(labels))
    kept = [i for i in range(len(labels)) if sizes[i]]
    if len(kept) > MOST_PARTS:
        largest = set(sorted(kept, key=lambda i: -sizes[i])[: MOST_PARTS - 1])
        kept = [i for i in kept if i in largest]
    place = np.full(len(labels), len(kept))
    place[kept] = np.arange(len(kept))
    codes = place[codes]
    names = [labels[i] for i in kept]
    return Parts([*names, OTHER] if (codes == len(kept)).any() else names, codes)
