"""What a study is opened with: frames, functions and files as tables, meanings and predictors."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from zerotilt.core import guess, levels, profiles, table, words
from zerotilt.core.inputs import Given
from zerotilt.core.meaning import ColumnSpec, Kind, Role, Spec, Task
from zerotilt.core.predictors import Frame, Predictor
from zerotilt.core.predictors.formats import opened
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.core.tasks import kind_of

Model = str | Path | bytes | Callable[[Any], Any]


def given_of(files: Mapping[str, str | Path | bytes], found: Table, spec: Spec) -> Given:
    """What is read besides table and model, by the names of inputs.

    Raises
    ------
    Refused : there is no such input, or a file cannot be read or is none of its kind.
    """
    read: dict[str, bytes] = {}
    for name, file in files.items():
        try:
            read[name] = file if isinstance(file, bytes) else Path(file).read_bytes()
        except OSError as problem:
            raise Refused(
                f"“{file}” cannot be read: {problem.strerror}.", where=f"input “{name}”", todo="Check the path."
            ) from None
    return Given.of(read, found, spec)


def arrow_of(frame: Any) -> pa.Table:
    """Any data frame as plain Arrow columns."""
    try:
        if isinstance(frame, pa.Table):
            found = frame
        elif hasattr(frame, "__arrow_c_stream__"):
            found = pa.table(frame)
        else:
            found = pa.table({name: pa.array(values) for name, values in dict(frame).items()})
    except (pa.ArrowException, TypeError, ValueError) as problem:
        raise Refused(
            f"frame: a {type(frame).__name__} was given that is no table ({problem}).",
            todo="Give a pandas, Polars or Arrow table, or a mapping from names to arrays.",
        ) from None
    if not found.num_rows:
        raise Refused("frame: it has no rows; at least one is needed.")
    if twice := [name for name, many in Counter(found.column_names).items() if many > 1]:
        raise Refused(
            f"frame: two columns are called “{twice[0]}”; a name means one column.",
            todo="Rename one of them, or leave it out.",
        )
    return pa.table(
        {name: table.plain(name, column) for name, column in zip(found.column_names, found.columns, strict=True)}
    )


def spec_of(
    found: Table, outcome, event, task, order, scales, groups, weights, features, favourable, threshold, wording,
    score: str | None = None, decision: str | None = None,
) -> Spec:  # fmt: skip
    if decision and not (outcome or event or task):
        said = favourable if isinstance(favourable, str) else next(iter(favourable), "")
        kind, event = of_decisions(found, decision, said, "favourable")
    else:
        kind = task_of(found, outcome, event, task, order)
    guessed = {column.name: column.kind for column in guess.guess_columns(profiles.profile(found))}
    roles = ({outcome: Role.outcome} if outcome else {}) | ({weights: Role.weight} if weights else {})
    roles |= {name: role for name, role in ((score, Role.score), (decision, Role.decision)) if name}
    columns = []
    for name in found.names:
        ordered = tuple(order) if name == outcome else tuple(scales.get(name, ()))
        role = roles.get(
            name, Role.feature if not features or name in features else Role.group if name in groups else Role.ignored
        )
        columns.append(
            ColumnSpec(
                name=name,
                kind=Kind.ordered if ordered else guessed[name],
                role=role,
                order=ordered,
                grouped=name in groups and role is not Role.group,
            )
        )
    spec = Spec(
        columns=tuple(columns),
        task=kind,
        event="" if event is None else str(event),
        threshold=threshold,
        model_inputs=tuple(features),
        wording=wording,
    )
    said = [favourable] if isinstance(favourable, str) else [str(one) for one in favourable]
    return favoured(spec, found, said if any(said) else [])


def favoured(spec: Spec, found: Table, said: Sequence[str]) -> Spec:
    """With what was said to be the favourable decision; where nothing was, with what the words of the outcome tell."""
    kind = kind_of(spec.task)
    if said:
        return spec.model_copy(update=kind.favourable(said, spec, found) | {"favourable_said": True})
    return guess.favoured(spec, levels.predicted_levels(spec, found) if kind.decides else ())


def of_decisions(found: Table, decision: str, favourable: str, argument: str) -> tuple[Task, str]:
    """What recorded decisions are of where no outcome is known: nothing is the event but the one that is favourable.

    Raises
    ------
    Refused : there are two, and ``favourable`` is neither; ``argument`` is what it is called there.
    """
    made = sorted({value for value in found.texts(decision) if value is not None})
    if len(made) > 2:
        return Task.several, ""
    event = levels.match_level(favourable, made)
    if event is None:
        raise Refused(
            f"{argument} is needed: no outcome was named, and the decisions are {words.listing([f'“{one}”' for one in made])}.",
            todo="Say which of them is favourable to those concerned.",
        )
    return Task.binary, event


def task_of(found: Table, outcome: str | None, event, task: str | None, order) -> Task:
    """What is predicted, as far as it was said; else as the outcome's values tell.

    Raises
    ------
    Refused : it was said wrongly, or nothing tells.
    """
    if task is not None:
        if task not in [one.value for one in Task]:
            raise Refused(f"task: “{task}” was given; there are {', '.join(one.value for one in Task)}.")
        return Task(task)
    if event is not None:
        return Task.binary
    if order:
        return Task.ordered
    if outcome is None:
        raise Refused(
            "event: no outcome was named; say what the model gives the probability of, or what it predicts by task= "
            f"({', '.join(one.value for one in Task)})."
        )
    kind = found.column(outcome).type
    if pa.types.is_floating(kind):
        return Task.regression
    levels = {value for value in found.texts(outcome) if value is not None}
    if len(levels) == 2:
        raise Refused(
            f"event: the outcome “{outcome}” has two values ({', '.join(sorted(levels))}); say which of them the model gives "
            "the probability of.",
        )
    return Task.several


def predictor_of(model: Model, found: Table, spec: Spec, features: Sequence[str], frame: Any) -> Predictor:
    if isinstance(model, bytes):
        return opened(model, found, spec)
    if isinstance(model, str | Path):
        try:
            return opened(Path(model).read_bytes(), found, spec)
        except OSError as problem:
            raise Refused(f"model: “{model}” cannot be read: {problem.strerror}.", todo="Check the path.") from None
    if not callable(model):
        raise Refused(
            f"model: a {type(model).__name__} was given; give a path, the bytes of an ONNX file, or a function."
        )
    inputs = list(features) or [column.name for column in spec.columns if column.role is Role.feature]
    several = kind_of(spec.task).classes(spec, found)
    return FunctionPredictor(inputs, _AsGiven(model, type(frame), found, tuple(inputs)), spec.task, several)


class _AsGiven:
    """Hands a function rows in the kind of table that the study was opened with."""

    def __init__(self, function: Callable[[Any], Any], kind: type, found: Table, inputs: tuple[str, ...]):
        self._function, self._kind = function, kind
        self._types = {name: found.column(name).type for name in inputs}

    def __call__(self, rows: Frame) -> NDArray[np.float64]:
        columns = {name: self._typed(name, rows[name]) for name in rows.names}
        if issubclass(self._kind, pa.Table):
            given: Any = pa.table(columns)
        elif hasattr(self._kind, "__arrow_c_stream__"):
            given = (
                pa.table(columns).to_pandas()
                if self._kind.__module__.startswith("pandas")
                else self._kind(pa.table(columns))
            )
        else:
            given = {name: values.to_numpy(zero_copy_only=False) for name, values in columns.items()}
        return np.asarray(self._function(given), np.float64)

    def _typed(self, name: str, values: NDArray) -> pa.Array:
        kind = self._types[name]
        if values.dtype.kind != "f":
            return pa.array([value or None for value in values], pa.string())
        if pa.types.is_boolean(kind):
            return pa.array(values.astype(bool), mask=np.isnan(values))
        if pa.types.is_date(kind):
            days = np.where(np.isnan(values), 0, values).astype("datetime64[D]")
            return pa.array(days, mask=np.isnan(values))
        if pa.types.is_integer(kind) and not np.isnan(values).any():
            return pa.array(values.astype(np.int64))
        return pa.array(values)
