"""Where a graph is cut: the sums it ends in, and what is encoded before them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
import onnx
from numpy.typing import NDArray
from onnx.reference import ReferenceEvaluator

from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.structure import Encoder
from zerotilt.core.trees import graph
from zerotilt.core.trees.graph import Ensemble, Unread

_LINEAR = ("LinearClassifier", "LinearRegressor", "Gemm", "MatMul")


@dataclass(frozen=True)
class Linear:
    """A linear operator: rows @ weights + intercept, then what the operator itself does after."""

    weights: NDArray[np.float64]
    intercept: NDArray[np.float64]
    finish: Callable[[NDArray[np.float64]], list[NDArray]]

    def sums(self, encoded: NDArray[np.floating]) -> NDArray[np.float64]:
        return encoded.astype(np.float64) @ self.weights + self.intercept


@dataclass(frozen=True)
class Piece:
    """An operator at which the graph is cut."""

    node: onnx.NodeProto
    does: Ensemble | Linear
    source: str

    def sums(self, encoded: NDArray[np.floating]) -> NDArray[np.float64]:
        return self.does.sums(encoded) if isinstance(self.does, Linear) else self.does.trees.sums(encoded)


@dataclass
class Cut:
    """The graph in two halves around its pieces."""

    pieces: list[Piece]
    sources: list[str]
    encode: Encoder
    after: ReferenceEvaluator
    after_inputs: list[str]
    feed: Callable[[Frame], dict[str, NDArray]]
    before: list[onnx.NodeProto]
    """The nodes that encode, and in ``behind`` those after the pieces; both in the graph's order."""
    behind: list[onnx.NodeProto]
    constants: dict[str, NDArray]
    widths: list[int] = field(default_factory=list)

    def finish(self, sums: Sequence[NDArray[np.float64]], frame: Frame) -> NDArray[np.float64]:
        """The graph's output from the pieces' sums; the raw rows matter for their number alone."""
        given = {name: value for name, value in self.feed(frame).items() if name in self.after_inputs}
        for piece, part in zip(self.pieces, sums, strict=True):
            finished = piece.does.finish(part)
            for name, value in zip(piece.node.output, finished, strict=False):
                if name in self.after_inputs:
                    given[name] = value
        try:
            with np.errstate(all="ignore"):
                return np.asarray(self.after.run(None, given)[0], np.float64)
        except Exception as problem:  # whatever an operator's plain rendering raises: the model still runs as a whole
            raise Unread(f"what follows its trees cannot be asked alone ({str(problem).splitlines()[0]})") from None


def cut_of(model: onnx.ModelProto, result: str, feed) -> Cut:
    graph_ = model.graph
    producer = {name: node for node in graph_.node for name in node.output if name}
    constants = {tensor.name: onnx.numpy_helper.to_array(tensor) for tensor in graph_.initializer}
    for node in graph_.node:
        if node.op_type == "Constant" and node.attribute and node.attribute[0].name == "value":
            constants[node.output[0]] = onnx.numpy_helper.to_array(node.attribute[0].t)
    found: dict[str, Piece] = {}
    pending, seen = [result], set()
    while pending:
        name = pending.pop()
        node = producer.get(name)
        if node is None or name in seen:
            continue
        seen.add(name)
        does = _does(node, constants)
        if does is not None:
            source = next(entry for entry in node.input if entry not in constants)
            found[node.output[0]] = Piece(node, does, source)
            continue
        pending += [entry for entry in node.input if entry]
    if not found:
        raise Unread("it has no tree or linear operators")
    order = [node.output[0] for node in graph_.node if node.output and node.output[0] in found]
    pieces = [found[name] for name in order]
    sources = list(dict.fromkeys(piece.source for piece in pieces))
    cut_names = {name for piece in pieces for name in piece.node.output if name}
    needed, after_inputs = _between(graph_, [result], cut_names)
    before: list[onnx.NodeProto] = []
    after = _in_double(_graph_of(model, needed, after_inputs, [result]))
    inputs = {entry.name for entry in graph_.input} - set(constants)
    inside = [name for name in sources if name not in inputs]
    part = None
    if inside:
        before, starts = _between(graph_, inside, set())
        part = _graph_of(model, before, starts, inside).SerializeToString()
    encode = Encoder(feed, sources, part, inside)
    return Cut(pieces, sources, encode, ReferenceEvaluator(after), after_inputs, feed, before, needed, constants)


def _between(graph_: onnx.GraphProto, results: Sequence[str], cut: set[str]) -> tuple[list[onnx.NodeProto], list[str]]:
    """The nodes that lead to some tensors, back to the cut; and the tensors they start from."""
    producer = {name: node for node in graph_.node for name in node.output if name}
    constants = {tensor.name for tensor in graph_.initializer}
    wanted, starts, pending = set(), [], list(results)
    while pending:
        name = pending.pop()
        if not name or name in constants:
            continue
        if name in cut or name not in producer:
            if name not in starts:
                starts.append(name)
            continue
        node = producer[name]
        if id(node) in wanted:
            continue
        wanted.add(id(node))
        pending += list(node.input)
    return [node for node in graph_.node if id(node) in wanted], starts


def _graph_of(model: onnx.ModelProto, nodes, starts: Sequence[str], results: Sequence[str]) -> onnx.ModelProto:
    """A model of some nodes of another."""
    declared = {entry.name: entry for entry in model.graph.input}
    # what the pieces give is fed in double precision, so that the probing is exact
    inputs = [
        declared[name] if name in declared else onnx.helper.make_tensor_value_info(name, onnx.TensorProto.DOUBLE, None)
        for name in starts
    ]
    used = {name for node in nodes for name in node.input} | set(results)
    made = onnx.helper.make_graph(
        list(nodes),
        "part",
        inputs,
        [onnx.ValueInfoProto(name=name) for name in results],
        [tensor for tensor in model.graph.initializer if tensor.name in used],
    )
    return onnx.helper.make_model(made, opset_imports=list(model.opset_import), ir_version=model.ir_version)


def _in_double(model: onnx.ModelProto) -> onnx.ModelProto:
    """The same graph with its single-precision constants and casts in double precision."""
    made = onnx.ModelProto()
    made.CopyFrom(model)
    tensors = list(made.graph.initializer)
    for node in made.graph.node:
        for attribute in node.attribute:
            if attribute.HasField("t"):
                tensors.append(attribute.t)
            if node.op_type == "Cast" and attribute.name == "to" and attribute.i == onnx.TensorProto.FLOAT:
                attribute.i = onnx.TensorProto.DOUBLE
    for tensor in tensors:
        if tensor.data_type == onnx.TensorProto.FLOAT:
            values = onnx.numpy_helper.to_array(tensor).astype(np.float64)
            tensor.CopyFrom(onnx.numpy_helper.from_array(values, tensor.name))
    return made


def _does(node: onnx.NodeProto, constants: dict[str, NDArray]) -> Ensemble | Linear | None:
    if node.op_type not in (*graph.OPERATORS, *_LINEAR):
        return None
    try:
        return graph.read(node) if node.op_type in graph.OPERATORS else _linear(node, constants)
    except (KeyError, IndexError, ValueError, TypeError) as problem:
        raise Unread(f"its {node.op_type} is written in a way that is not read ({problem})") from None


def _linear(node: onnx.NodeProto, constants: dict[str, NDArray]) -> Linear | None:
    held = {attribute.name: onnx.helper.get_attribute_value(attribute) for attribute in node.attribute}
    if node.op_type in ("LinearClassifier", "LinearRegressor"):
        return _linear_operator(node, held)
    weights = constants.get(node.input[1])
    if weights is None or weights.ndim != 2 or node.input[0] in constants:
        return None
    weights = weights.astype(np.float64)
    if node.op_type == "MatMul":
        return Linear(weights, np.zeros(weights.shape[1]), lambda sums: [sums])
    if held.get("transA"):
        return None
    weights = float(held.get("alpha", 1.0)) * (weights.T if held.get("transB") else weights)
    intercept = constants.get(node.input[2]) if len(node.input) > 2 else np.zeros(weights.shape[1])
    if intercept is None:
        return None
    intercept = np.broadcast_to(float(held.get("beta", 1.0)) * intercept.astype(np.float64).ravel(), weights.shape[1:])
    return Linear(weights, intercept, lambda sums: [sums])


def _linear_operator(node: onnx.NodeProto, held: dict) -> Linear:
    labels = held.get("classlabels_strings") or held.get("classlabels_ints") or []
    intercept = np.asarray(held.get("intercepts") or [0.0], np.float64)
    rows = int(held.get("targets", 1)) if node.op_type == "LinearRegressor" else len(intercept)
    weights = np.asarray(held["coefficients"], np.float64).reshape(rows, -1).T
    names = np.array([label.decode() if isinstance(label, bytes) else label for label in labels])
    alone = len(names) == 2 and rows == 1
    ensemble = Ensemble(
        trees=None,  # type: ignore[arg-type]  # only what happens after the sum is asked of it
        transform=held.get("post_transform", b"NONE").decode(),
        labels=names if len(names) else None,
        complement="minus" if alone else "",
    )
    return Linear(weights, np.broadcast_to(intercept, (rows,)), ensemble.finish)
