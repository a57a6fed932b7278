"""Models as ONNX files: what they want and give, matched to a table, and run."""

from __future__ import annotations

import hashlib
import math
import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from typing import Literal

import numpy as np
import onnx
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import output, words
from zerotilt.core.executor import side_by_side
from zerotilt.core.frozen import Frozen
from zerotilt.core.predictors import dissection, meant
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.lineage import ROWS
from zerotilt.core.predictors.protocol import Predictor, checked_numbers
from zerotilt.core.predictors.session import MODEL, session_of
from zerotilt.core.predictors.structure import Structure
from zerotilt.core.refusal import Refused
from zerotilt.core.rows import classes as outcome_classes
from zerotilt.core.rows import match_level
from zerotilt.core.rows import outcome as row_outcome
from zerotilt.core.spec import ModelReading, Role, Spec, Task
from zerotilt.core.table import Table
from zerotilt.core.trees.graph import Unread

CHUNK_ROWS = 16_384
_HOLDS = {
    "tensor(float)": "number",
    "tensor(double)": "number",
    "tensor(float16)": "number",
    "tensor(int64)": "whole number",
    "tensor(int32)": "whole number",
    "tensor(bool)": "truth value",
    "tensor(string)": "text",
}
_DTYPES = {
    "tensor(float)": np.float32,
    "tensor(double)": np.float64,
    "tensor(float16)": np.float16,
    "tensor(int64)": np.int64,
    "tensor(int32)": np.int32,
    "tensor(bool)": np.bool_,
    "tensor(string)": object,
}
_OWN_DOMAINS = {"", "ai.onnx", "ai.onnx.ml"}


class ModelInput(Frozen):
    name: str
    holds: Literal["number", "whole number", "truth value", "text"]
    tensor: str
    width: int | None


class ModelCard(Frozen):
    """What a model file says about itself."""

    inputs: tuple[ModelInput, ...]
    outputs: tuple[str, ...]
    classes: tuple[str, ...] = Field(description="In the order of its probabilities, where the file names them")
    columns: tuple[str, ...] = Field(default=(), description="Of its one tensor, where the file names them")
    operators: dict[str, int]
    producer: str
    bytes: int


def inspect(data: bytes) -> ModelCard:
    """Read a model file without running it on rows.

    Raises
    ------
    Refused : not ONNX, cut off, external data, an unknown operator, an input of an unknown kind.
    """
    model = parsed(data)
    graph = model.graph
    session = session_of(data)
    inputs = []
    for entry in session.get_inputs():
        if entry.type not in _HOLDS:
            raise Refused(
                f"The input “{entry.name}” is a {entry.type}; numbers, truth values and text are understood.",
                where=MODEL,
                todo="Export the model with one input a column, or one tensor of all columns.",
            )
        shape = entry.shape or []
        width = shape[1] if len(shape) > 1 and isinstance(shape[1], int) else (1 if len(shape) == 1 else None)
        inputs.append(ModelInput(name=entry.name, holds=_HOLDS[entry.type], tensor=entry.type, width=width))
    for text in (
        *(one.name for one in inputs),
        *(one.name for one in session.get_outputs()),
        *meant.written_labels(graph),
    ):
        if any(ord(one) < 32 or 0xD800 <= ord(one) < 0xE000 for one in text):
            raise Refused(
                "A name in the model holds a character that cannot be written.", where=MODEL, todo="Export it again."
            )
    return ModelCard(
        inputs=tuple(inputs),
        outputs=tuple(output.name for output in session.get_outputs()),
        classes=meant.written_labels(graph),
        columns=meant.written_columns(model),
        operators=dict(Counter(node.op_type for node in graph.node)),
        producer=f"{session.get_modelmeta().producer_name}".strip(),
        bytes=len(data),
    )


def parsed(data: bytes) -> onnx.ModelProto:
    try:
        model = onnx.load_from_string(data)
    except Exception:
        raise Refused(
            "The file is not an ONNX model, or it is cut off.", where=MODEL, todo="Export the model to ONNX again."
        ) from None
    if not model.graph.node or not model.opset_import:
        raise Refused(
            "The file holds no model graph: it is not ONNX, or it is cut off.",
            where=MODEL,
            todo="Export the model to ONNX again.",
        )
    for tensor in _tensors(model.graph):
        if tensor.data_location == onnx.TensorProto.EXTERNAL or tensor.external_data:
            raise Refused(
                f"The weights “{tensor.name}” are kept in another file; only self-contained models are taken.",
                where=MODEL,
                todo="Save the model with its weights inside the one file.",
            )
    _refuse_huge(model.graph)
    for domain in sorted({node.domain for node in _nodes(model.graph)} - _OWN_DOMAINS):
        name = next(node.op_type for node in _nodes(model.graph) if node.domain == domain)
        raise Refused(
            f"The operator “{name}” of “{domain}” is not part of the ONNX standard.",
            where=MODEL,
            todo="Export the model with standard operators only.",
        )
    return model


MOST_CONSTANT = 64 * 2**20
"""Numbers that one constant of a model may hold; a few bytes of file can stand for gigabytes."""


def _refuse_huge(graph: onnx.GraphProto) -> None:
    shapes = {tensor.name: tensor for tensor in graph.initializer}
    for node in _nodes(graph):
        if node.op_type == "Constant":
            shapes |= dict((node.output[0], a.t) for a in node.attribute if a.HasField("t"))
    sizes = [(tensor.name, math.prod(tensor.dims)) for tensor in _tensors(graph)]
    for node in _nodes(graph):
        at = {"ConstantOfShape": 0, "Expand": 1, "Tile": 1}.get(node.op_type)
        tensor = shapes.get(node.input[at]) if at is not None and len(node.input) > at else None
        if tensor is not None and math.prod(tensor.dims) <= 64 and tensor.data_type == onnx.TensorProto.INT64:
            sizes.append(
                (node.output[0], math.prod(max(int(one), 1) for one in onnx.numpy_helper.to_array(tensor).ravel()))
            )
        for kind, key in (("RandomNormal", "shape"), ("RandomUniform", "shape")):
            if node.op_type == kind:
                sizes += [(node.output[0], math.prod(a.ints)) for a in node.attribute if a.name == key]
    for name, size in sizes:
        if size > MOST_CONSTANT:
            raise Refused(
                f"“{name}” in the model holds {size:,} numbers; up to {MOST_CONSTANT:,} are taken.",
                where=MODEL,
                todo="Export a smaller model.",
            )


def _nodes(graph: onnx.GraphProto):
    for node in graph.node:
        yield node
        for attribute in node.attribute:
            for inner in (attribute.g, *attribute.graphs):
                yield from _nodes(inner)


def _tensors(graph: onnx.GraphProto):
    yield from graph.initializer
    for node in _nodes(graph):
        for attribute in node.attribute:
            if attribute.HasField("t"):
                yield attribute.t
            yield from attribute.tensors
            for inner in (attribute.g, *attribute.graphs):
                yield from inner.initializer


def _without_maps(data: bytes) -> bytes:
    """The model giving its probabilities as one tensor where it would give a map for each row, which is slow to read."""
    model = onnx.load_from_string(data)
    maps = {node.output[0]: node.input[0] for node in model.graph.node if node.op_type == "ZipMap"}
    if not maps:
        return data
    kept = [node for node in model.graph.node if node.op_type != "ZipMap"]
    outputs = [
        onnx.helper.make_tensor_value_info(maps[output.name], onnx.TensorProto.FLOAT, None)
        if output.name in maps
        else output
        for output in model.graph.output
    ]
    del model.graph.node[:], model.graph.output[:]
    model.graph.node.extend(kept)
    model.graph.output.extend(outputs)
    return model.SerializeToString()


class _Match(Frozen):
    """One column of the table feeding one place of the model."""

    column: str
    input: str
    tensor: str


def match(
    card: ModelCard, table: Table, spec: Spec, reading: ModelReading | None = None
) -> tuple[tuple[_Match, ...], tuple[str, ...]]:
    """Match model inputs to columns by name and type; also the assumptions made, in words.

    A model with one wide input takes the columns in the order chosen for it, or
    by the names that the file has for them, or the features in table order.

    Raises
    ------
    Refused : an input with no column, of another kind, or another number of columns.
    """
    if len(card.inputs) == 1 and card.inputs[0].width != 1:
        return _match_wide(card, table, spec, reading or ModelReading(model=""))
    by_name = {name: name for name in table.names}
    folded = Counter(_fold(name) for name in table.names)
    by_folded = {_fold(name): name for name in table.names if folded[_fold(name)] == 1}
    found, notes = [], []
    for entry in card.inputs:
        column = by_name.get(entry.name) or by_folded.get(_fold(entry.name))
        if column is None:
            raise Refused(
                f"The model wants an input “{entry.name}” ({entry.holds}); the table has no such column.",
                where=f"model input “{entry.name}”",
                todo="Add the column to the table, or rename the one that holds it.",
            )
        if column != entry.name:
            notes.append(f"The model's input “{entry.name}” is fed from the column “{column}”.")
        _check_kind(entry, column, table)
        found.append(_Match(column=column, input=entry.name, tensor=entry.tensor))
    outcome = spec.only(Role.outcome)
    if outcome and any(pair.column == outcome.name for pair in found):
        raise Refused(
            f"The model takes the outcome “{outcome.name}” as an input.",
            where=f"model input “{outcome.name}”",
            todo="Choose another outcome column or another model.",
        )
    return tuple(found), tuple(notes)


def _match_wide(
    card: ModelCard, table: Table, spec: Spec, reading: ModelReading
) -> tuple[tuple[_Match, ...], tuple[str, ...]]:
    entry = card.inputs[0]
    chosen = reading.inputs or spec.model_inputs
    if unknown := [name for name in chosen if name not in table.names]:
        raise Refused(
            f"The order of the model's columns names “{unknown[0]}”, which the table has not.",
            where=f"model input “{entry.name}”",
            todo="Name the table's columns in the order the model was trained with.",
        )
    columns = list(chosen) or list(columns_in_order(card, spec, table.names, table.is_number))
    if entry.width is not None and len(columns) != entry.width:
        raise Refused(
            f"The model wants {entry.width} columns in its input “{entry.name}”; the table has {len(columns)} feature "
            f"columns: {', '.join(columns[:12])}{' …' if len(columns) > 12 else ''}.",
            where=f"model input “{entry.name}”",
            todo="Mark exactly the model's columns as features, or ignore the others.",
        )
    for column in columns:
        _check_kind(entry, column, table)
    how = (
        "as was chosen"
        if chosen
        else "by the names the file has for them"
        if card.columns
        else "as they stand in the table"
    )
    note = f"The model takes its columns in one tensor; they are fed {how}: {', '.join(columns)}."
    return tuple(_Match(column=column, input=entry.name, tensor=entry.tensor) for column in columns), (note,)


def columns_in_order(
    card: ModelCard, spec: Spec, names: Sequence[str], is_number: Callable[[str], bool]
) -> tuple[str, ...]:
    """The columns that a model of one wide input is fed, in order, where nobody has chosen another; empty for others."""
    if len(card.inputs) != 1 or card.inputs[0].width == 1:
        return ()
    folded = {_fold(name): name for name in names}
    named = [folded.get(_fold(name)) for name in card.columns]
    if named and None not in named and len(set(named)) == len(named):
        return tuple(str(name) for name in named)
    width = card.inputs[0].width
    candidates = list(_in_table_order(spec, is_number))
    return tuple(next((found for found in candidates if width is None or len(found) == width), candidates[0]))


def _in_table_order(spec: Spec, is_number: Callable[[str], bool]) -> Iterator[list[str]]:
    """Which columns a model of one wide input may mean: the features first, then wider and narrower readings."""
    for roles in ((Role.feature,), (Role.feature, Role.group), (Role.feature, Role.group, Role.identifier)):
        chosen = [column.name for column in spec.columns if column.role in roles]
        yield chosen
        yield [name for name in chosen if is_number(name)]


def _fold(name: str) -> str:
    return re.sub(r"\W+", "_", name.strip().lower())


def _check_kind(entry: ModelInput, column: str, table: Table) -> None:
    where = f"column “{column}”"
    if entry.holds == "text":
        return
    try:
        values = table.numbers(column)
    except Refused as problem:
        raise Refused(
            f"The model's input “{entry.name}” wants a {entry.holds}; the column holds text. {problem.message}",
            where=where,
            todo="Upload the column as the model was trained with it, or correct its reading.",
        ) from None
    absent = int(np.isnan(values).sum())
    if entry.holds != "number" and absent:
        raise Refused(
            f"The model's input “{entry.name}” wants a {entry.holds} in every row; {words.plural(absent, 'row')} "
            "have none.",
            where=where,
            todo="Fill the missing cells, or export the model with a float input.",
        )
    if entry.holds == "whole number" and (values % 1 != 0).any():
        raise Refused(
            f"The model's input “{entry.name}” wants whole numbers; the column holds {values[values % 1 != 0][0]:g}.",
            where=where,
            todo="Upload the column as the model was trained with it.",
        )


class OnnxPredictor(Predictor):
    """An ONNX model bound to the columns of a table.

    Parameters
    ----------
    data : the model file. table, spec : what its inputs and classes are matched to.

    Raises
    ------
    Refused : the file, the match, or the classes cannot be used.
    """

    def __init__(self, data: bytes, table: Table, spec: Spec):
        self.card = inspect(data)
        self.digest = hashlib.sha256(data).hexdigest()
        reading = spec.reading_of(self.digest)
        self._matches, notes = match(self.card, table, spec, reading)
        self._data = _without_maps(data)
        self.inputs = tuple(pair.column for pair in self._matches)
        self._tensors = {pair.column: pair.tensor for pair in self._matches}
        self.task = spec.task
        self._output: str | None = None
        self._structure: tuple[Structure | None, str] | None = None
        self._start()
        self.classes, self._places, more = self._standing(table, spec, reading)
        self.notes = notes + more

    def _start(self) -> None:
        self._session = session_of(self._data)
        self._ranks = {entry.name: len(entry.shape or [0, 0]) for entry in self._session.get_inputs()}

    def __getstate__(self) -> dict:
        """Sessions stay behind; the copy opens its own from the same bytes."""
        left = ("_session", "_ranks", "_held")
        return {name: value for name, value in self.__dict__.items() if name not in left}

    def __setstate__(self, state: dict) -> None:
        self.__dict__.update(state)
        self._start()

    def frame(self, table: Table, rows: NDArray[np.int64]) -> Frame:
        return Frame(
            {
                name: np.array(["" if value is None else value for value in table.texts(name)[rows]], dtype=object)
                if tensor == "tensor(string)"
                else table.numbers(name)[rows]
                for name, tensor in self._tensors.items()
            }
        )

    def outputs(self, frame: Frame) -> NDArray[np.float64]:
        """Probabilities or values, shape (rows, k).

        Raises
        ------
        Refused : the model fails, or gives other than one number a row and class.
        """
        out = np.empty((frame.rows, self.width))
        parts = [slice(start, min(start + CHUNK_ROWS, frame.rows)) for start in range(0, frame.rows, CHUNK_ROWS)]

        def run(part: slice) -> None:
            out[part] = self._run(frame.take(part))

        side_by_side(run, parts)
        return out

    def structure(self, frame: Frame) -> tuple[Structure | None, str]:
        if self._structure is None:
            try:
                self._structure = (self._read(frame), "")
            except Unread as problem:
                self._structure = (None, str(problem))
        return self._structure

    @property
    def known_structure(self) -> Structure | None:
        return self._structure[0] if self._structure else None

    def _read(self, frame: Frame) -> Structure:
        self.outputs(frame.take(slice(0, 1)))  # finds out which of the graph's outputs is meant
        number: tuple[output.Link, ...] = ("identity", "logarithm")
        return dissection.read(
            parsed(self._data),
            str(self._output),
            self._feed,
            lambda result: self._meant(result, len(result)),
            self.outputs,
            number if self.task is Task.regression else ("identity", "log-odds"),
            frame,
            self._fed(),
        )

    def _fed(self) -> dict[str, NDArray[np.intp]]:
        """Which columns each input of the graph holds, by their number, for the rows a lineage follows."""
        entries = self.card.inputs
        if len(entries) == 1 and entries[0].width != 1:
            return {entries[0].name: np.tile(np.arange(len(self.inputs)), (ROWS, 1))}
        return {
            pair.input: np.full((ROWS,) if self._ranks[pair.input] == 1 else (ROWS, 1), self.inputs.index(pair.column))
            for pair in self._matches
        }

    def _run(self, frame: Frame) -> NDArray[np.float64]:
        known = self._output  # another thread may find it out meanwhile
        results = self._asked(frame, [known] if known else None)
        if known is None:
            position = self._choose(results, frame.rows)
            self._output = self._session.get_outputs()[position].name
            results = [results[position]]
        return checked_numbers(self._meant(results[0], frame.rows), self.task, MODEL)

    def _asked(self, frame: Frame, outputs: list[str] | None) -> list:
        try:
            return self._session.run(outputs, self._feed(frame))
        except Exception as problem:
            raise Refused(
                f"The model failed while scoring: {str(problem).splitlines()[0]}",
                where=MODEL,
                todo="Check that it was exported for these columns.",
            ) from None

    def _feed(self, frame: Frame) -> dict[str, NDArray]:
        entries = self.card.inputs
        if len(entries) == 1 and entries[0].width != 1:
            kind = _DTYPES[entries[0].tensor]
            wide = np.empty((frame.rows, len(self.inputs)), kind)
            for j, name in enumerate(self.inputs):
                wide[:, j] = frame[name]
            return {entries[0].name: wide}
        feed = {}
        for pair in self._matches:
            values = frame[pair.column].astype(_DTYPES[pair.tensor], copy=False)
            feed[pair.input] = values if self._ranks[pair.input] == 1 else values.reshape(-1, 1)
        return feed

    def _choose(self, results: list, rows: int) -> int:
        """The place of the probabilities or values among the outputs: the first that holds floats."""
        for place, result in enumerate(results):
            if isinstance(result, np.ndarray) and result.dtype.kind == "f":
                return place
        shapes = ", ".join(f"“{output.name}” {output.type}" for output in self._session.get_outputs())
        raise Refused(
            f"The model gives no probabilities; its outputs are {shapes}."
            if self.task is not Task.regression
            else f"The model gives no number; its outputs are {shapes}.",
            where=MODEL,
            todo="Export the model with its probabilities, or its value, as an output.",
        )

    def _meant(self, result, rows: int) -> NDArray[np.float64]:
        """The columns of the graph's result that are meant, in the order of the audit's classes, shape (rows, k)."""
        values = np.asarray(result, dtype=np.float64)
        if values.ndim == 1 and len(values) == rows:
            values = values[:, None]
        wanted = {Task.binary: (1, 2), Task.regression: (1,)}.get(self.task, (len(self._places),))
        if values.ndim != 2 or len(values) != rows or values.shape[1] not in wanted:
            if self.task is Task.binary and values.ndim == 2 and len(values) == rows:
                raise Refused(
                    f"The model gives {values.shape[1]} classes; this audit is of two.",
                    where=MODEL,
                    todo="Upload a model of two classes.",
                )
            shapes = " or ".join(f"({rows}, {width})" for width in reversed(wanted))
            raise Refused(
                f"The model gave an output of shape {tuple(np.shape(result))} for {words.plural(rows, 'row')}; expected "
                f"{shapes}.",
                where=MODEL,
                todo="Check whether the audit is of an event, of several classes or of a number, and that the model "
                "gives one probability a class.",
            )
        if self.task is Task.regression:
            return values
        if self.task is Task.binary and values.shape[1] == 1:
            # in the result's own precision, in which one half and one less one half are the same
            return np.asarray(1 - np.asarray(result).reshape(-1, 1), np.float64) if self._places[0] == 0 else values
        return values[:, self._places]

    def _standing(
        self, table: Table, spec: Spec, reading: ModelReading
    ) -> tuple[tuple[str, ...], list[int], tuple[str, ...]]:
        """The audit's classes, which of the model's columns they are, and what was assumed.

        Raises
        ------
        Refused : it stays open which column is of which class; the ways of reading it are given with how each would do.
        """
        if spec.task is Task.regression:
            return (), [0], ()
        levels = outcome_classes(spec, table)
        self._places = list(range(len(levels)))
        if reading.outputs:
            return self._as_chosen(reading.outputs, levels, spec)
        probabilities, said, rows = self._first_look(table)
        width = probabilities.shape[1]
        known = self.card.classes
        if said is not None:
            known = meant.learnt_labels(probabilities, said, self.card.classes, levels) or (
                known if len(known) == width and not _contradicted(probabilities, said, known) else ()
            )
        if spec.task is Task.binary:
            if width > 2 or len(known) > 2:
                many = f"knows {len(known)} classes ({', '.join(known[:6])})" if known else f"gives {width} classes"
                raise Refused(
                    f"The model {many}; this audit is of two.", where=MODEL, todo="Upload a model of two classes."
                )
            return (), *self._event(known, spec, levels, probabilities, table, rows)
        if not known:
            raise self._asking(spec, table, levels, probabilities, rows)
        found = {match_level(level, list(known)): level for level in levels}
        if None in found:
            if len(known) == len(levels) and not any(match_level(level, list(known)) for level in levels):
                raise self._asking(spec, table, levels, probabilities, rows)  # numbers stand for the classes
            raise Refused(
                f"The outcome's class “{found[None]}” is none of the model's ({words.listing(list(known))}).",
                where=MODEL,
                todo="Choose the model that was trained on these classes.",
            )
        # classes the table does not show keep the model's own name, after the others
        order = [*found, *(label for label in known if label not in found)]
        return tuple(found.get(label, label) for label in order), [known.index(label) for label in order], ()

    def _first_look(self, table: Table) -> tuple[NDArray[np.float64], NDArray | None, NDArray[np.int64]]:
        """Probabilities as the file orders them, its own labels where it gives them, and the rows asked."""
        rows = np.unique(np.linspace(0, table.rows - 1, min(table.rows, meant.ASKED_ROWS)).astype(np.int64))
        parts, labels = [], []
        for start in range(0, len(rows), CHUNK_ROWS):
            frame = self.frame(table, rows[start : start + CHUNK_ROWS])
            results = self._asked(frame, None)
            place = self._choose(results, frame.rows)
            self._output = self._session.get_outputs()[place].name
            values = np.asarray(results[place], np.float64)
            if values.ndim not in (1, 2) or len(values) != frame.rows:
                self._meant(results[place], frame.rows)  # says what is wrong with its shape
            parts.append(checked_numbers(values.reshape(len(values), -1), self.task, MODEL))
            own = [
                r for r in results if isinstance(r, np.ndarray) and r.dtype.kind in "iuOUSb" and r.size == frame.rows
            ]
            labels.append(own[0].ravel() if own else None)
        probabilities = np.concatenate(parts)
        return probabilities, None if labels[0] is None else np.concatenate(labels), rows

    def _as_chosen(self, outputs, levels, spec: Spec) -> tuple[tuple[str, ...], list[int], tuple[str, ...]]:
        if strange := [name for name in outputs if name not in levels]:
            raise Refused(
                f"The reading of the model's outputs names “{strange[0]}”, which is none of the outcome's values "
                f"({words.listing(list(levels))}).",
                where=MODEL,
                todo="Choose again what its outputs are of.",
            )
        note = (f"The model's outputs were said to be of {words.listing(list(outputs))}, in this order.",)
        if spec.task is Task.binary:
            if len(outputs) == 1:
                return (), [1 if outputs[0] == spec.event else 0], note
            return (), [outputs.index(spec.event)], note
        return tuple(levels), [outputs.index(level) for level in levels], note

    def _event(self, known, spec: Spec, levels, probabilities, table: Table, rows) -> tuple[list[int], tuple[str, ...]]:
        """Which of the two probability columns is the event's, and what was assumed for it."""
        if spec.model_event_class is not None:
            label = match_level(spec.model_event_class, list(known))
            if label is None:
                raise Refused(
                    f"The model has no class “{spec.model_event_class}”; it knows {words.listing(list(known)) or 'none by name'}.",
                    where=MODEL,
                    todo="Choose one of its classes as the event.",
                )
            return [known.index(label)], ()
        place, note = meant.event_of(known, spec.event, levels) if len(known) == 2 else (None, "")
        if place is None:
            if len(known) == 2 and not set(known) <= {"0", "1", "True", "False"}:
                raise Refused(
                    f"The event “{spec.event}” is none of the model's classes ({words.listing(list(known))}).",
                    where=MODEL,
                    todo="Say which of the model's classes means the event.",
                )
            raise self._asking(spec, table, levels, probabilities, rows)
        return [place], (note,) if note else ()

    def _asking(self, spec: Spec, table: Table, levels, probabilities, rows) -> Refused:
        outcome, told = row_outcome(spec, table)
        kept = told[rows]
        outcome, probabilities = outcome[rows][kept], probabilities[kept]
        if spec.task is Task.binary:
            other = next((level for level in levels if level != spec.event), "not so")
            return meant.ask_event(
                self.digest, probabilities[:, -1], outcome, spec.event, other, probabilities.shape[1] == 1
            )
        if probabilities.shape[1] != len(levels):
            return Refused(
                f"The model gives {probabilities.shape[1]} probabilities a row and names no classes; the outcome has "
                f"{len(levels)}.",
                where=MODEL,
                todo="Upload a model of the outcome's classes.",
            )
        return meant.ask_classes(self.digest, probabilities, outcome, levels)

    def order_in_doubt(self, table: Table, spec: Spec, rows: NDArray[np.int64]) -> Refused | None:
        """The question whether columns of one tensor are meant in another order, where that would do far better."""
        wide = len(self.card.inputs) == 1 and self.card.inputs[0].width != 1
        settled = spec.reading_of(self.digest).inputs or spec.model_inputs or self.card.columns
        if not wide or settled or len(self.inputs) < 2:
            return None
        outcome = row_outcome(spec, table)[0]
        if len(rows) > meant.ASKED_ROWS // 2:
            rows = rows[np.linspace(0, len(rows) - 1, meant.ASKED_ROWS // 2).astype(int)]
        frame, happened = self.frame(table, rows), outcome[rows]
        if spec.task in (Task.several, Task.ordered):
            own = outcome_classes(spec, table)
            happened = np.array([self.classes.index(level) for level in own])[happened]
        named = (sorted(self.inputs), sorted(self.inputs, key=str.lower), self.inputs[::-1])
        loss = {Task.binary: "log loss", Task.regression: "squared error"}.get(spec.task, "log loss")

        def lost(order: Sequence[str]) -> NDArray[np.float64]:
            # the tensor's first place gets what the order names first
            got = self.outputs(Frame({place: frame[name] for place, name in zip(self.inputs, order, strict=True)}))
            if spec.task is Task.regression:
                return (got[:, 0] - happened) ** 2
            p = (
                np.where(happened, got[:, 0], 1 - got[:, 0])
                if spec.task is Task.binary
                else got[np.arange(len(got)), happened]
            )
            return -np.log(np.maximum(p, 1e-6))

        found = meant.better_order(self.inputs, named, lost)
        return None if found is None else meant.ask_order(self.digest, self.inputs, *found, loss)

    def strange_levels(self, table: Table, rows: NDArray[np.int64]) -> tuple[str, ...]:
        """Of each text column, in words, the levels that the model's own encoder does not know."""
        found = []
        for name, (known, seen, levels, codes) in self._encoders(table).items():
            counts = np.bincount(codes[rows][codes[rows] >= 0], minlength=len(levels))
            strange = [one for one in meant.unknown_levels(known, seen, counts) if one[1]]
            if strange:
                listed = [
                    f"“{level}” ({words.plural(count, 'row')}{f'; it knows “{near}”' if near else ''})"
                    for level, count, near in strange[:3]
                ]
                more = f" and {len(strange) - 3} more" if len(strange) > 3 else ""
                total = sum(count for _, count, _ in strange)
                found.append(
                    f"{words.opening(words.title(name))}: the model does not know {words.plural(len(strange), 'level')} in "
                    f"{words.plural(total, 'row')}: {words.listing(listed)}{more}."
                )
        return tuple(found)

    def _encoders(self, table: Table) -> dict[str, tuple[list[str], NDArray, NDArray, NDArray]]:
        """Of each text column that an encoder reads: what it knows, and each level of the table as it reaches it."""
        found: dict[str, tuple[list[str], NDArray, NDArray, NDArray]] = {}
        texts = [name for name, tensor in self._tensors.items() if tensor == "tensor(string)" and table.is_text(name)]
        for node, known, name in dissection.encoders(parsed(self._data), self._fed(), self.inputs):
            if name not in texts or name in found:
                continue
            levels, codes = table.coded(name)
            if not len(levels) or len(levels) > MOST_ENCODED:
                continue
            first = np.array([int(np.argmax(codes == i)) for i in range(len(levels))])
            seen = dissection.reaching(parsed(self._data), node, self._feed(self.frame(table, first)))
            if seen is not None and seen.size == len(levels):
                found[name] = (known, seen.ravel(), levels, codes)
        return found


MOST_ENCODED = 5_000


def _contradicted(probabilities: NDArray, said: NDArray, known: tuple[str, ...]) -> bool:
    """Whether the labels given to rows are often not those written for the column of the largest probability."""
    if probabilities.shape[1] != len(known):
        return False
    took = np.array(known)[probabilities.argmax(axis=1)]
    given = np.array([words.value_text(one.item() if hasattr(one, "item") else one) for one in said.ravel()])
    alike = set(given) <= set(known)
    return bool(alike and (took != given).mean() > 1 - meant.AGREED)
