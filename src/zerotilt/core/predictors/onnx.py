"""Models as ONNX files: what they want and give, matched to a table, and run."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from typing import Literal

import numpy as np
import onnx
from numpy.typing import NDArray

from zerotilt.core import output, words
from zerotilt.core.executor import side_by_side
from zerotilt.core.predictors import dissection
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.protocol import Predictor, checked_numbers
from zerotilt.core.predictors.session import MODEL, session_of
from zerotilt.core.predictors.structure import Structure
from zerotilt.core.refusal import Refused
from zerotilt.core.rows import classes as outcome_classes
from zerotilt.core.rows import match_level
from zerotilt.core.spec import Frozen, Role, Spec, Task
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
    classes: tuple[str, ...]
    operators: dict[str, int]
    producer: str
    bytes: int


def inspect(data: bytes) -> ModelCard:
    """Read a model file without running it on rows.

    Raises
    ------
    Refused : not ONNX, cut off, external data, an unknown operator, an input of an unknown kind.
    """
    graph = parsed(data).graph
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
    return ModelCard(
        inputs=tuple(inputs),
        outputs=tuple(output.name for output in session.get_outputs()),
        classes=_classes(graph),
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
    for domain in sorted({node.domain for node in _nodes(model.graph)} - _OWN_DOMAINS):
        name = next(node.op_type for node in _nodes(model.graph) if node.domain == domain)
        raise Refused(
            f"The operator “{name}” of “{domain}” is not part of the ONNX standard.",
            where=MODEL,
            todo="Export the model with standard operators only.",
        )
    return model


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


def _classes(graph: onnx.GraphProto) -> tuple[str, ...]:
    """Class labels in the order of the probability columns, where the graph names them."""
    for node in reversed(list(graph.node)):
        for attribute in node.attribute:
            if attribute.name in ("classlabels_strings", "cats_strings") and attribute.strings:
                if attribute.name == "classlabels_strings" or node.op_type == "ZipMap":
                    return tuple(text.decode("utf-8", "replace") for text in attribute.strings)
            elif attribute.name in ("classlabels_int64s", "classlabels_ints") and attribute.ints:
                return tuple(str(number) for number in attribute.ints)
    return ()


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


def match(card: ModelCard, table: Table, spec: Spec) -> tuple[tuple[_Match, ...], tuple[str, ...]]:
    """Match model inputs to columns by name and type; also the assumptions made, in words.

    A model with one wide input takes the features in table order, or in the
    order of ``spec.model_inputs``.

    Raises
    ------
    Refused : an input with no column, of another kind, or another number of columns.
    """
    if len(card.inputs) == 1 and card.inputs[0].width != 1:
        return _match_wide(card.inputs[0], table, spec)
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


def _match_wide(entry: ModelInput, table: Table, spec: Spec) -> tuple[tuple[_Match, ...], tuple[str, ...]]:
    if spec.model_inputs:
        columns = list(spec.model_inputs)
    else:
        candidates = list(_in_table_order(table, spec))
        fitting = [found for found in candidates if entry.width is None or len(found) == entry.width]
        columns = (fitting or candidates)[0]
    if entry.width is not None and len(columns) != entry.width:
        raise Refused(
            f"The model wants {entry.width} columns in its input “{entry.name}”; the table has {len(columns)} feature "
            f"columns: {', '.join(columns[:12])}{' …' if len(columns) > 12 else ''}.",
            where=f"model input “{entry.name}”",
            todo="Mark exactly the model's columns as features, or ignore the others.",
        )
    for column in columns:
        _check_kind(entry, column, table)
    note = f"The model takes its columns in one tensor; they are fed in this order: {', '.join(columns)}."
    return tuple(_Match(column=column, input=entry.name, tensor=entry.tensor) for column in columns), (note,)


def _in_table_order(table: Table, spec: Spec) -> Iterator[list[str]]:
    """Which columns a model of one wide input may mean: the features first, then wider and narrower readings."""
    for roles in ((Role.feature,), (Role.feature, Role.group), (Role.feature, Role.group, Role.identifier)):
        chosen = [column.name for column in spec.columns if column.role in roles]
        yield chosen
        yield [name for name in chosen if table.is_number(name)]


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
        self._matches, notes = match(self.card, table, spec)
        self._data = _without_maps(data)
        self.inputs = tuple(pair.column for pair in self._matches)
        self._tensors = {pair.column: pair.tensor for pair in self._matches}
        self.task = spec.task
        self.classes, self._places, more = _places(self.card.classes, table, spec)
        self.notes = notes + more
        self._output: str | None = None
        self._structure: tuple[Structure | None, str] | None = None
        self._start()

    def _start(self) -> None:
        self._session = session_of(self._data)
        self._ranks = {entry.name: len(entry.shape or [0, 0]) for entry in self._session.get_inputs()}

    def __getstate__(self) -> dict:
        """Sessions stay behind; the copy opens its own from the same bytes."""
        left = ("_session", "_ranks")
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
        )

    def _run(self, frame: Frame) -> NDArray[np.float64]:
        known = self._output  # another thread may find it out meanwhile
        try:
            results = self._session.run([known] if known else None, self._feed(frame))
        except Exception as problem:
            raise Refused(
                f"The model failed while scoring: {str(problem).splitlines()[0]}",
                where=MODEL,
                todo="Check that it was exported for these columns.",
            ) from None
        if known is None:
            position = self._choose(results, frame.rows)
            self._output = self._session.get_outputs()[position].name
            results = [results[position]]
        return checked_numbers(self._meant(results[0], frame.rows), self.task, MODEL)

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
        wanted = {Task.binary: (1, 2), Task.regression: (1,)}.get(self.task, (len(self.card.classes or self.classes),))
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
        if self.task is Task.binary:
            if values.shape[1] == 1:
                return 1 - values if self._places[0] == 0 and self.card.classes else values
            return values[:, self._places]
        return values[:, self._places]


def _places(known: tuple[str, ...], table: Table, spec: Spec) -> tuple[tuple[str, ...], list[int], tuple[str, ...]]:
    """The audit's classes, which of the model's columns they are, and what was assumed."""
    if spec.task is Task.regression:
        return (), [0], ()
    if spec.task is Task.binary:
        place, notes = _event_place(known, spec)
        return (), [place], notes
    levels = outcome_classes(spec, table)
    if not known:
        note = f"The model does not name its classes; its columns are taken in the order {words.listing(list(levels))}."
        return levels, list(range(len(levels))), (note,)
    found = {match_level(level, list(known)): level for level in levels}
    if None in found:
        raise Refused(
            f"The outcome's class “{found[None]}” is none of the model's ({words.listing(list(known))}).",
            where=MODEL,
            todo="Choose the model that was trained on these classes.",
        )
    # classes the table does not show keep the model's own name, after the others
    order = [*found, *(label for label in known if label not in found)]
    return tuple(found.get(label, label) for label in order), [known.index(label) for label in order], ()


def _event_place(classes: tuple[str, ...], spec: Spec) -> tuple[int, tuple[str, ...]]:
    """Which of the two probability columns is the event's, and what was assumed for it."""
    if len(classes) > 2:
        raise Refused(
            f"The model knows {len(classes)} classes ({', '.join(classes[:6])}); this audit is of two.", where=MODEL
        )
    if spec.model_event_class is not None:
        label = match_level(spec.model_event_class, list(classes))
        if label is None:
            raise Refused(
                f"The model has no class “{spec.model_event_class}”; it knows {words.listing(list(classes)) or 'none by name'}.",
                where=MODEL,
                todo="Choose one of its classes as the event.",
            )
        return classes.index(label), ()
    label = match_level(spec.event, list(classes))
    if label is not None:
        return classes.index(label), ()
    if not classes:
        return 1, (f"The model does not name its classes; the last one is taken as “{spec.event}”.",)
    if set(classes) in ({"0", "1"}, {"False", "True"}):
        place = classes.index("1") if "1" in classes else classes.index("True")
        return place, (f"The model's class “{classes[place]}” is taken as “{spec.event}”.",)
    raise Refused(
        f"The event “{spec.event}” is none of the model's classes ({words.listing(list(classes))}).",
        where=MODEL,
        todo="Say which of the model's classes means the event.",
    )
