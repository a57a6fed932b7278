"""What a candidate is worth on rows that it was not trained on: every metric by fold, and by group within each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.measure import Counted, of_whole
from zerotilt.core.groups.metrics import of_set, of_task
from zerotilt.core.groups.readout import read
from zerotilt.core.meaning import Context, Role, Spec
from zerotilt.core.membership import Grouping
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.stats.calibration import calibration_error
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.tasks import kind_of

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
LEFT_OUT = ("calibration_error",)
"""What is told of folds and groups without an interval of its own, which takes a simulation."""
Values = dict[str, float | None]


class GroupOfFold(Frozen):
    """The metrics of one group in the rows that a fold validates."""

    attribute: str
    group: str
    rows: int
    values: Values


class FoldMeasured(Frozen):
    """One fold: metrics by name, of the rows that were held out and of those that were trained on."""

    rows: int
    validation: Values
    training: Values
    groups: tuple[GroupOfFold, ...]


class AsideMeasured(Frozen):
    """The rows that were put aside, by the model that was trained on all others."""

    rows: int
    values: Values
    groups: tuple[GroupOfFold, ...]


class LearntGroup(Frozen):
    """What a group was to the model that learnt: rows and events as recorded, and as drawn and weighed by remedies."""

    attribute: str
    group: str
    rows: int
    events: int = Field(description="Rows with the event; of other outcomes none is told")
    drawn: float = Field(description="What its rows weigh in training, on a scale on which all weigh what they are")
    drawn_events: float


class Limited(Frozen):
    """What training under limits came to, on the rows that were trained on."""

    tolerance: float
    largest: float = Field(description="How far the farthest group is from all")
    models: int = Field(description="Whose scores are averaged")
    trained: int
    error: float = Field(description="What its decisions cost")
    by_lot_error: float = Field(description="What they would cost if lots decided which model decides")
    by_lot_largest: float


class Validated(Frozen):
    """What is kept of a candidate besides its model."""

    folds: tuple[FoldMeasured, ...]
    test: AsideMeasured | None = Field(description="Null where no rows were put aside, or nobody looked yet")
    rows: int = Field(description="Rows that it was trained and validated on")
    learnt: tuple[LearntGroup, ...] = Field(default=(), description="By group, where an event is predicted")
    found_among: int = Field(default=1, description="Recipes that were tried on the same folds to find it")
    limited: Limited | None = Field(default=None, description="Where it was trained under limits")


def of_used(spec: Spec, table: Table, outputs: Floats, classes: Sequence[str]) -> Subject:
    """All rows of a table with outputs that are there already, shape (rows, k); split and recorded predictions are nothing."""
    apart = (Role.split, Role.score, Role.decision)
    columns = tuple(one.model_copy(update={"role": Role.ignored}) if one.role in apart else one for one in spec.columns)
    used = spec.model_copy(
        update={
            "columns": columns,
            "holdout_values": (),
            "training_values": (),
            "model_inputs": (),
            "model_readings": (),
        }
    )
    held = next(one.name for one in spec.columns if one.role is Role.outcome)
    predictor = FunctionPredictor((held,), lambda rows: outputs, spec.task, classes)
    return Subject(used, table, predictor, Context(rows="all"))


def measured(spec: Spec, table: Table, outputs: Floats, classes: Sequence[str]) -> Values:
    """Every metric of a table's rows; null where it is not defined."""
    told = [one.name for one in of_set(spec.task) if one.name not in LEFT_OUT]
    subject = of_used(spec, table, outputs, classes)
    found = of_whole(subject, 0, told)
    return {key: one.value for key, one in found.items()} | _calibration(subject, np.ones(subject.n, bool))


def _calibration(subject: Subject, rows: Bools) -> Values:
    """The calibration error of some rows, where an event is predicted."""
    if not subject.kind.cut or subject.predictions.scores is None:
        return {}
    mass = subject.rows.mass[rows]
    if not (mass > 0).sum() > 1:
        return {"calibration_error": None}
    happened = subject.rows.outcome[rows].astype(bool)
    return {"calibration_error": calibration_error(happened, subject.predictions.scores[rows], mass)}


def groupings_of(spec: Spec, table: Table, numbers: NDArray[np.int64]) -> tuple[Grouping, ...]:
    """The audit's groups, by single columns and their crossings, of some rows of its whole table: cut and joined as every
    sheet does, so that a group is the same in every fold."""
    return tuple(membership.grouping(spec, table, numbers, columns) for columns in membership.all_groupings(spec))


def by_group(
    spec: Spec, table: Table, outputs: Floats, classes: Sequence[str], groupings: Sequence[Grouping]
) -> tuple[GroupOfFold, ...]:
    """Every metric of every group that has rows; ``groupings`` of the table's rows."""
    subject = of_used(spec, table, outputs, classes)
    told = [one.name for one in of_task(spec.task) if one.name not in LEFT_OUT]
    counted = Counted.of(read(subject, told), subject.n)
    found = []
    for grouping in groupings:
        rows, of_groups, _ = counted.groups(grouping, grouping.overlapping, spec.policy.confidence, 0)
        for place, label in enumerate(grouping.labels):
            if not rows[place]:
                continue
            values = {key: one.at(place).value for key, one in of_groups.items()}
            values |= _calibration(subject, grouping.mask(place))
            found.append(GroupOfFold(attribute=grouping.attribute, group=label, rows=int(rows[place]), values=values))
    return tuple(found)


@dataclass(frozen=True)
class UsedRows:
    """The rows that were dealt, n, with what they are read by."""

    spec: Spec
    table: Table
    classes: tuple[str, ...]
    groupings: tuple[Grouping, ...]

    def metrics(self, outputs: Floats, rows: Bools) -> Values:
        return measured(self.spec, self.table.among(np.flatnonzero(rows)), outputs[rows], self.classes)

    def groups(self, outputs: Floats, rows: Bools) -> tuple[GroupOfFold, ...]:
        held = self.table.among(np.flatnonzero(rows))
        return by_group(self.spec, held, outputs[rows], self.classes, [one.among(rows) for one in self.groupings])

    def fold(self, outputs: Floats, validated: Bools, trained: Bools) -> FoldMeasured:
        """One fold; ``outputs``: what its model gives all rows, shape (n, k)."""
        return FoldMeasured(
            rows=int(validated.sum()),
            validation=self.metrics(outputs, validated),
            training=self.metrics(outputs, trained),
            groups=self.groups(outputs, validated),
        )

    def learnt(self, places: NDArray[np.int64], weights: Floats, rows: Bools, mass: Floats) -> tuple[LearntGroup, ...]:
        """What every group was to a model that learnt from ``places`` with ``weights``, among ``rows`` of weights ``mass``."""
        kind = kind_of(self.spec.task)
        if not kind.cut:
            return ()
        event = kind.outcome(self.spec, self.table)[0].astype(bool)
        drawn = np.bincount(places, weights, self.table.rows)
        drawn *= mass[rows].sum() / max(drawn.sum(), 1e-300)
        found = []
        for grouping in (Grouping((), ("",), np.zeros(self.table.rows, np.int64)), *self.groupings):
            for place, label in enumerate(grouping.labels):
                own = grouping.mask(place) & rows
                if own.any():
                    found.append(
                        LearntGroup(
                            attribute=grouping.attribute,
                            group=label,
                            rows=int(own.sum()),
                            events=int((own & event).sum()),
                            drawn=float(drawn[own].sum()),
                            drawn_events=float(drawn[own & event].sum()),
                        )
                    )
        return tuple(found)

    def put_aside(self, outputs: Floats, aside: Bools) -> AsideMeasured | None:
        """The rows that were put aside, by the model that was trained on the others."""
        if not aside.any():
            return None
        return AsideMeasured(
            rows=int(aside.sum()), values=self.metrics(outputs, aside), groups=self.groups(outputs, aside)
        )
