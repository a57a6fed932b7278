"""What is predicted for the rows of a context, by a model or as it was recorded."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import levels, words
from zerotilt.core.context_rows import Rows
from zerotilt.core.meaning import ColumnSpec, Kind, Role
from zerotilt.core.predictors import Frame, Predictor
from zerotilt.core.predictors.structure import Structure
from zerotilt.core.refusal import Refused
from zerotilt.core.tasks import kind_of

STRUCTURE_ROWS = 20_000
STEADY_ROWS = 200
SAY_WHAT = "Say in Intake which of the outcome's values each decision stands for, or write them with these values."
NO_MODEL = "This needs a model that can be asked about new rows; the audit has recorded scores or decisions only."


@dataclass(frozen=True)
class Predictions:
    """All arrays have shape (n,) unless said. Nothing here depends on which class is read."""

    rows: Rows
    predictor: Predictor | None

    @property
    def recorded(self) -> bool:
        """Whether they stand in the table, and no model is asked."""
        return self.predictor is None

    @property
    def model(self) -> Predictor:
        """The model.

        Raises
        ------
        Refused : there is none.
        """
        if self.predictor is None:
            raise Refused(NO_MODEL, todo="Upload the model as ONNX in Intake.")
        return self.predictor

    @property
    def classes(self) -> tuple[str, ...]:
        return self.rows.classes

    @cached_property
    def frame(self) -> Frame:
        """The model's inputs; refused with the reason where there is no model."""
        return self.model.frame(self.rows.table, self.rows.numbers)

    def features_of(self, numbers: NDArray[np.int64]) -> Frame:
        """What some rows of the table are told apart by: the model's inputs; without a model, the columns marked as features.

        Raises
        ------
        Refused : there are none.
        """
        table = self.rows.table
        if self.predictor is not None:
            return self.predictor.frame(table, numbers)
        marked = [one for one in self.rows.spec.with_role(Role.feature) if one.kind not in (Kind.text, Kind.bytes)]
        if not marked:
            raise Refused("No column is marked as a feature.", todo="Mark in Intake what a case is described by.")
        return Frame(
            {
                one.name: table.numbers(one.name)[numbers]
                if table.is_number(one.name) or table.is_date(one.name)
                else np.array([value or "" for value in table.texts_of(one.name, numbers)], dtype=object)
                for one in marked
            }
        )

    @cached_property
    def features(self) -> Frame:
        """The same of the rows of the context."""
        return self.frame if self.predictor is not None else self.features_of(self.rows.numbers)

    @cached_property
    def outputs(self) -> NDArray[np.float64]:
        """The model's outputs, shape (n, k)."""
        return self.model.outputs(self.frame)

    def require_steady(self) -> None:
        """Refuse a model that says something else about the same rows when asked again."""
        if (found := self._unsteady) is not None:
            raise found

    @cached_property
    def _unsteady(self) -> Refused | None:
        few = self.frame.take(slice(0, STEADY_ROWS))
        first, again = self.model.outputs(few), self.model.outputs(few)
        off = np.abs(first - again)
        reach = max(float(np.abs(first).max(initial=0)), 1e-12)
        if off.max(initial=0) <= 1e-6 * reach:
            return None
        changed = int((off > 1e-6 * reach).any(axis=1).sum())
        return Refused(
            f"The model gives other numbers when asked again: {changed} of {words.plural(few.rows, 'row')} changed, "
            f"by up to {off.max():.3g}.",
            where="the model",
            todo="Export it without randomness (dropout, sampling), so that an explanation is of one model.",
        )

    @cached_property
    def structure(self) -> tuple[Structure | None, str]:
        """Trees and linear terms of the model, checked on rows of the table; or why there are none."""
        table = self.rows.table
        places = np.arange(table.rows)
        if len(places) > STRUCTURE_ROWS:
            places = np.sort(np.random.default_rng(0).choice(places, STRUCTURE_ROWS, replace=False))
        return self.model.structure(self.model.frame(table, places))

    def find_structure(self) -> None:
        """Read the model's structure on rows of the whole table, before it is asked about a few."""
        _ = self.structure

    @cached_property
    def scores(self) -> NDArray[np.float64] | None:
        """Probability of the event, None where only decisions were recorded.

        Raises
        ------
        Refused : the audit is not of an event.
        """
        kind_of(self.rows.spec.task).needs_event()
        if self.predictor is not None:
            return self.outputs[:, 0]
        column = self.rows.spec.only(Role.score)
        return None if column is None else _scores(self.rows, column.name)[self.rows.numbers]

    @property
    def required_scores(self) -> NDArray[np.float64]:
        """The same, for what cannot do without.

        Raises
        ------
        Refused : only decisions were recorded.
        """
        if self.scores is None:
            raise Refused(
                "Only decisions were recorded; without scores no threshold can be moved.",
                todo="Upload the model, or a table with its scores.",
            )
        return self.scores

    @cached_property
    def single(self) -> bool:
        """Whether scores are numbers of single precision, as most model files give them."""
        return self.scores is not None and bool((self.scores.astype(np.float32) == self.scores).all())

    @cached_property
    def values(self) -> NDArray[np.float64]:
        """The predicted numbers.

        Raises
        ------
        Refused : there are none, or one is missing.
        """
        if self.predictor is not None:
            return self.outputs[:, 0]
        column = self.rows.spec.only(Role.score)
        if column is None:
            raise Refused(
                "There is nothing to compare with the outcome: no model and no recorded prediction.",
                todo="Upload a model, or mark a column of predictions as score.",
            )
        found = self.rows.table.numbers(column.name)[self.rows.numbers]
        if not np.isfinite(found).all():
            raise Refused(
                f"The prediction is missing in {words.plural(int((~np.isfinite(found)).sum()), 'row')}.",
                where=f"column “{column.name}”",
                todo="Fill the predictions or leave those rows out.",
            )
        return found

    @cached_property
    def decisions(self) -> tuple[list[str], NDArray[np.int64]]:
        """The recorded decisions: the values there are, and of each row which one.

        Raises
        ------
        Refused : no column holds decisions, or it cannot be used.
        """
        column = self.rows.spec.only(Role.decision)
        if column is None:
            raise Refused(
                "There is nothing to compare with the outcome: no model, no recorded score, no recorded decision.",
                todo="Upload a model, or mark a column as score or decision.",
            )
        values, codes = self._checked(column)
        return values, codes[self.rows.numbers]

    def _checked(self, column: ColumnSpec) -> tuple[list[str], NDArray[np.int64]]:
        """A decision column: every row decided, by the event and one other value, or by known classes."""
        spec, classes = self.rows.spec, self.classes
        where = f"column “{column.name}”"
        found, codes = self.rows.table.coded(column.name)
        absent = np.flatnonzero(codes < 0)
        if len(absent):
            raise Refused(
                f"The decision is missing in {words.plural(len(absent), 'row')}, first in row "
                f"{words.count(int(absent[0]) + 1)}.",
                where=where,
                todo="Fill the decisions or leave those rows out.",
            )
        meant = [levels.meant(spec, str(level)) for level in found]
        values = list(dict.fromkeys(meant))
        codes = np.array([values.index(value) for value in meant], np.int64)[codes]
        if classes:
            if unknown := [level for level in values if level not in classes]:
                raise Refused(
                    f"The decision “{unknown[0]}” is none of the classes {words.listing(list(classes))}.",
                    where=where,
                    todo=SAY_WHAT,
                )
        elif len(values) > 2 or (len(values) == 2 and levels.match_level(spec.event, values) is None):
            raise Refused(
                f"The decisions are {words.listing([f'“{level}”' for level in sorted(values)[:5]])}; expected "
                f"“{spec.event}” for the event and one other value.",
                where=where,
                todo=SAY_WHAT,
            )
        return values, codes


def _scores(rows: Rows, name: str) -> NDArray[np.float64]:
    """A score column, checked: every row a number from 0 to the highest score there can be; as shares of that."""
    where, top = f"column “{name}”", rows.spec.score_top
    values = rows.table.numbers(name)
    absent = np.flatnonzero(~np.isfinite(values))
    if len(absent):
        raise Refused(
            f"The score is missing in {words.plural(len(absent), 'row')}, first in row {words.count(int(absent[0]) + 1)}.",
            where=where,
            todo="Fill the scores or leave those rows out.",
        )
    outside = np.flatnonzero((values < 0) | (values > top))
    if len(outside):
        first = int(outside[0])
        raise Refused(
            f"The score is outside 0 to {top:g} in {words.plural(len(outside), 'row')}, first in row {words.count(first + 1)} "
            f"({values[first]:g}).",
            where=where,
            todo="Say in Intake what scores run to, or give them as the probability of the event.",
        )
    return values / top
