"""What a candidate is worth on rows that it was not trained on: every metric by fold, and by group within each."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.measure import Counted, of_whole
from zerotilt.core.groups.metrics import of_set, of_task
from zerotilt.core.groups.readout import read
from zerotilt.core.meaning import Context, Role, Spec
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
LEFT_OUT = ("calibration_error",)
"""What takes a simulation for every fold and group."""
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


class Validated(Frozen):
    """What is kept of a candidate besides its model."""

    folds: tuple[FoldMeasured, ...]
    test: AsideMeasured | None = Field(description="Null where no rows were put aside, or nobody looked yet")
    rows: int = Field(description="Rows that it was trained and validated on")


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
    found = of_whole(of_used(spec, table, outputs, classes), 0, told)
    return {key: one.value for key, one in found.items()}


def by_group(spec: Spec, table: Table, outputs: Floats, classes: Sequence[str]) -> tuple[GroupOfFold, ...]:
    """Every metric of every group of a table's rows, by single columns and their crossings."""
    subject = of_used(spec, table, outputs, classes)
    told = [one.name for one in of_task(spec.task) if one.name not in LEFT_OUT]
    counted = Counted.of(read(subject, told), subject.n)
    found = []
    for columns in spec.groupings:
        grouping = membership.grouping(subject.spec, table, subject.rows.numbers, columns)
        rows, of_groups, _ = counted.groups(grouping, False, spec.policy.confidence, 0)
        for place, label in enumerate(grouping.labels):
            values = {key: one.at(place).value for key, one in of_groups.items()}
            found.append(GroupOfFold(attribute=grouping.attribute, group=label, rows=int(rows[place]), values=values))
    return tuple(found)


def fold_measured(
    spec: Spec, table: Table, classes: Sequence[str], outputs: Floats, validated: Bools, trained: Bools
) -> FoldMeasured:
    """One fold.

    Parameters
    ----------
    table : the rows that were dealt, n. outputs : what the fold's model gives them, shape (n, k). validated, trained :
        shape (n,).
    """
    held = table.among(np.flatnonzero(validated)), outputs[validated]
    seen = table.among(np.flatnonzero(trained)), outputs[trained]
    return FoldMeasured(
        rows=int(validated.sum()),
        validation=measured(spec, *held, classes),
        training=measured(spec, *seen, classes),
        groups=by_group(spec, *held, classes),
    )


def aside_measured(
    spec: Spec, table: Table, classes: Sequence[str], outputs: Floats, aside: Bools
) -> AsideMeasured | None:
    """The rows that were put aside; ``outputs`` of all rows by the model that was trained on the others, shape (n, k)."""
    if not aside.any():
        return None
    held = table.among(np.flatnonzero(aside)), outputs[aside]
    return AsideMeasured(
        rows=int(aside.sum()), values=measured(spec, *held, classes), groups=by_group(spec, *held, classes)
    )
