"""What is said of single rows, of the context or not, with a model or with recorded predictions."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import NamedTuple

import numpy as np

from zerotilt.core import words
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject


class Row(NamedTuple):
    row: int
    name: str
    decision: str
    """In the audit's words, or the class; a number's prediction in its unit."""
    output: float | None
    """On the scale that is read; None where only decisions were recorded."""
    outcome: str | None
    """What happened, as it stands in the table."""


@dataclass(frozen=True)
class Told:
    """Rows of one table."""

    subject: Subject

    @cached_property
    def _whole(self) -> Subject:
        """The same read over all rows of the table."""
        context = self.subject.context.model_copy(update={"rows": "all", "segment": None})
        return replace(self.subject, context=context, alike=None, beside=None)

    def of(self, row: int) -> Row:
        """One row of the table, numbered from 0.

        Raises
        ------
        Refused : it is none of those that can be read.
        """
        subject, place = self.subject, self._place(self.subject, row)
        if place is None:
            subject = self._whole
            place = self._place(subject, row)
        if place is None:
            raise Refused(
                f"Nothing can be said of row {words.count(row + 1)}: its outcome is missing.",
                todo="Choose another case.",
            )
        read = subject.read_output
        output = None if read is None else float(read[place])
        if subject.kind.decides:
            decision = subject.decisions.named(int(subject.decisions.taken[place]))
        else:
            decision = words.quantity(float(subject.predictions.values[place]), subject.spec.wording.unit)
        outcome = None
        if subject.spec.knows_outcome:
            outcome = subject.table.texts_of(subject.spec.outcome.name, np.array([row]))[0]
        return Row(row, subject.editor.name_of(row), decision, output, outcome)

    @staticmethod
    def _place(subject: Subject, row: int) -> int | None:
        at = int(np.searchsorted(subject.rows.numbers, row))
        return at if at < subject.n and subject.rows.numbers[at] == row else None
