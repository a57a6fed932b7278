"""Small decision systems with known answers."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable

import numpy as np

from zerotilt.core.groups.measure import of_whole
from zerotilt.core.meaning import ColumnSpec, Context, Kind, ModelReading, Role, Spec, Task
from zerotilt.core.predictors import Frame
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table, from_arrays


def spec_of(table: Table, roles: dict[str, Role], **more) -> Spec:
    columns = tuple(
        ColumnSpec(
            name=name,
            kind=Kind.numeric if table.is_number(name) else Kind.categorical,
            role=roles.get(name, Role.feature),
        )
        for name in table.names
    )
    return Spec(columns=columns, **({"event": "1"} | more))


def system(
    columns: dict[str, list | np.ndarray],
    function: Callable[[Frame], np.ndarray] | None = None,
    inputs: list[str] | None = None,
    roles: dict[str, Role] | None = None,
    context: Context | None = None,
    **more,
) -> Subject:
    """A subject over all rows of the given columns; ``y`` is the outcome."""
    table = from_arrays(columns)
    spec = spec_of(table, {"y": Role.outcome} | (roles or {}), **more)
    predictor = FunctionPredictor(inputs or [], function, spec.task) if function else None
    return Subject(spec, table, predictor, context or Context(rows="all"))


def frame(values: np.ndarray) -> Frame:
    return Frame({f"x{j}": values[:, j] for j in range(values.shape[1])})


def matrix(rows: Frame) -> np.ndarray:
    return np.column_stack([rows[name] for name in rows.names])


def slow_square(shared: float, piece: int) -> float:
    """A piece of work for executors, importable wherever it is sent."""
    time.sleep(0.05)
    return shared * piece**2


def said(model: bytes, *outputs: str) -> dict[str, tuple[ModelReading, ...]]:
    """What a person says that a model file's outputs are of, for a spec."""
    return (
        {"model_readings": (ModelReading(model=hashlib.sha256(model).hexdigest(), outputs=outputs),)} if outputs else {}
    )


def plain_spec(
    table: Table, model: bytes, task: Task, scale: str = "probability", outputs: tuple[str, ...] = ()
) -> Subject:
    """A model over all columns of a table but ``y``, its outcome."""
    spec = spec_of(
        table, {"y": Role.outcome}, task=task, event="1" if task is Task.binary else "", **said(model, *outputs)
    )
    return Subject(spec, table, OnnxPredictor(model, table, spec), Context(rows="all", output=scale))


def told(task: Task, y: np.ndarray, said: np.ndarray, weights: np.ndarray | None = None, seed: int = 0) -> dict:
    """Every measure of a whole set: ``said`` holds the scores of an event, the numbers, or a probability for each class."""
    weighed = {} if weights is None else {"w": weights}
    roles = {"w": Role.weight} if weighed else {}
    if said.ndim == 1:
        columns = {"y": y.astype(int) if task is Task.binary else y, "s": said} | weighed
        event = "1" if task is Task.binary else ""
        return of_whole(system(columns, roles=roles | {"s": Role.score}, task=task, event=event), seed)
    names = [f"x{c}" for c in range(said.shape[1])]
    columns = {"y": np.array(list("abcdefgh"))[y]} | dict(zip(names, said.T, strict=True)) | weighed
    table = from_arrays(columns)
    spec = spec_of(table, {"y": Role.outcome} | roles, task=task, event="a")
    model = FunctionPredictor(names, matrix, task, tuple("abcdefgh"[: len(names)]))
    return of_whole(Subject(spec, table, model, Context(rows="all")), seed)
