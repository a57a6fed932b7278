"""Models as ONNX files: what they want and give, matched to a table, and run."""

from __future__ import annotations

import os
import re
from collections import Counter
from collections.abc import Iterator
from typing import Literal

import numpy as np
import onnx
import onnxruntime
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.refusal import Refused
from zerotilt.core.rows import match_level
from zerotilt.core.spec import Frozen, Role, Spec
from zerotilt.core.table import Table

CHUNK_ROWS = 65_536
MODEL = "the model file"
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
    graph = _parse(data).graph
    session = _session(data)
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


def _parse(data: bytes) -> onnx.ModelProto:
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


def _session(data: bytes) -> onnxruntime.InferenceSession:
    options = onnxruntime.SessionOptions()
    options.intra_op_num_threads = os.cpu_count() or 1
    options.log_severity_level = 4
    try:
        return onnxruntime.InferenceSession(data, options, providers=["CPUExecutionProvider"])
    except Exception as problem:
        detail = str(problem).split("\n")[0]
        operator = re.search(r"(?:for|No Op registered for|operator:?)\s+([A-Z]\w+)(?:\(\d+\))?", detail)
        named = f" (operator “{operator.group(1)}”)" if operator else ""
        raise Refused(
            f"The model cannot be loaded{named}: {detail}",
            where=MODEL,
            todo="Export it again with standard operators, or with an earlier operator set.",
        ) from None


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


class OnnxPredictor:
    """An ONNX model of two classes, bound to the columns of a table.

    Parameters
    ----------
    data : the model file. table, spec : what its inputs are matched to.

    Raises
    ------
    Refused : the file, the match, or the class of the event cannot be used.
    """

    def __init__(self, data: bytes, table: Table, spec: Spec):
        self.card = inspect(data)
        self._matches, notes = match(self.card, table, spec)
        self._session = _session(_without_maps(data))
        self.inputs = tuple(pair.column for pair in self._matches)
        self._tensors = {pair.column: pair.tensor for pair in self._matches}
        self._place, note = _event_place(self.card.classes, spec)
        self._output: str | None = None
        self.notes = notes + note

    def frame(self, table: Table, rows: NDArray[np.int64]) -> Frame:
        return Frame(
            {
                name: np.array(["" if value is None else value for value in table.texts(name)[rows]], dtype=object)
                if tensor == "tensor(string)"
                else table.numbers(name)[rows]
                for name, tensor in self._tensors.items()
            }
        )

    def score(self, frame: Frame) -> NDArray[np.float64]:
        """Probability of the event for each row of a frame.

        Raises
        ------
        Refused : the model fails, or gives other than one probability a row and class.
        """
        out = np.empty(frame.rows)
        for start in range(0, frame.rows, CHUNK_ROWS):
            part = slice(start, min(start + CHUNK_ROWS, frame.rows))
            out[part] = self._run(frame.take(part))
        return out

    def _run(self, frame: Frame) -> NDArray[np.float64]:
        try:
            names = [self._output] if self._output else None
            results = self._session.run(names, self._feed(frame))
        except Exception as problem:
            raise Refused(
                f"The model failed while scoring: {str(problem).splitlines()[0]}",
                where=MODEL,
                todo="Check that it was exported for these columns.",
            ) from None
        if self._output is None:
            position = self._choose(results, frame.rows)
            self._output = self._session.get_outputs()[position].name
            results = [results[position]]
        return self._event_column(results[0], frame.rows)

    def _feed(self, frame: Frame) -> dict[str, NDArray]:
        entries = self.card.inputs
        if len(entries) == 1 and entries[0].width != 1:
            kind = _DTYPES[entries[0].tensor]
            return {entries[0].name: np.column_stack([frame[name] for name in self.inputs]).astype(kind)}
        ranks = {entry.name: len(entry.shape or [0, 0]) for entry in self._session.get_inputs()}
        feed = {}
        for pair in self._matches:
            values = frame[pair.column].astype(_DTYPES[pair.tensor], copy=False)
            feed[pair.input] = values if ranks[pair.input] == 1 else values.reshape(-1, 1)
        return feed

    def _choose(self, results: list, rows: int) -> int:
        """The place of the probabilities among the outputs: the first that holds floats."""
        for place, result in enumerate(results):
            if isinstance(result, np.ndarray) and result.dtype.kind == "f":
                return place
        shapes = ", ".join(f"“{output.name}” {output.type}" for output in self._session.get_outputs())
        raise Refused(
            f"The model gives no probabilities; its outputs are {shapes}.",
            where=MODEL,
            todo="Export the model with its probabilities as an output.",
        )

    def _event_column(self, result, rows: int) -> NDArray[np.float64]:
        values = np.asarray(result, dtype=np.float64)
        if values.ndim == 1 and len(values) == rows:
            values = values[:, None]
        if values.ndim != 2 or len(values) != rows:
            raise Refused(
                f"The model gave an output of shape {tuple(np.shape(result))} for {words.plural(rows, 'row')}; expected "
                f"({rows}, 2) or ({rows}, 1).",
                where=MODEL,
                todo="Export the model with one probability a row and class.",
            )
        if values.shape[1] > 2:
            raise Refused(
                f"The model gives {values.shape[1]} classes; this audit is of two.",
                where=MODEL,
                todo="Upload a model of two classes.",
            )
        out = values[:, self._place if values.shape[1] == 2 else 0]
        if values.shape[1] == 1 and self._place == 0 and self.card.classes:
            out = 1 - out
        if not np.isfinite(out).all():
            raise Refused(
                f"The model gives no number in {words.plural(int((~np.isfinite(out)).sum()), 'row')}.",
                where=MODEL,
                todo="Check how it treats missing values.",
            )
        if out.min() < -1e-5 or out.max() > 1 + 1e-5:
            raise Refused(
                f"The model's output reaches from {out.min():.4g} to {out.max():.4g}; a probability lies within 0 and 1.",
                where=MODEL,
                todo="Export the model with probabilities, not raw scores.",
            )
        return np.clip(out, 0.0, 1.0)


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
