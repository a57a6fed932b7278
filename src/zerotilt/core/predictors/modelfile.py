"""Models as ONNX files: what they want and give, read without running them on rows."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator, Sequence
from typing import Literal

import onnx
from pydantic import Field

from zerotilt.core.frozen import Frozen
from zerotilt.core.predictors import made, meant
from zerotilt.core.predictors.made import Made
from zerotilt.core.predictors.runtime import onnxruntime
from zerotilt.core.predictors.session import MODEL, session_of
from zerotilt.core.refusal import Refused

Holds = Literal["number", "whole number", "truth value", "text"]
_HOLDS: dict[str, Holds] = {
    "tensor(float)": "number",
    "tensor(double)": "number",
    "tensor(float16)": "number",
    "tensor(int64)": "whole number",
    "tensor(int32)": "whole number",
    "tensor(bool)": "truth value",
    "tensor(string)": "text",
}
_OWN_DOMAINS = {"", "ai.onnx", "ai.onnx.ml"}
Gives = Literal["chances", "number"]
_FLOATS = ("tensor(float)", "tensor(double)", "tensor(float16)")
_CHANCES = {"Sigmoid", "Softmax", "LinearClassifier", "SVMClassifier", "TreeEnsembleClassifier", "ZipMap", "ArgMax"}


class ModelInput(Frozen):
    name: str
    holds: Holds
    tensor: str
    width: int | None


class ModelCard(Frozen):
    """What a model file says about itself."""

    inputs: tuple[ModelInput, ...]
    outputs: tuple[str, ...]
    classes: tuple[str, ...] = Field(description="In the order of its probabilities, where the file names them")
    columns: tuple[str, ...] = Field(default=(), description="Of its one tensor, where the file names them")
    gives: Gives | None = Field(default=None, description="What it predicts, where the file tells")
    operators: dict[str, int]
    producer: str
    made: Made | None = Field(default=None, description="How it was made, where the file says so")
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
        gives=_gives(session.get_outputs(), graph),
        operators=dict(Counter(node.op_type for node in graph.node)),
        producer="".join(one for one in f"{session.get_modelmeta().producer_name}" if one.isprintable()).strip()[:200],
        made=made.read(model),
        bytes=len(data),
    )


def _gives(outputs: Sequence[onnxruntime.NodeArg], graph: onnx.GraphProto) -> Gives | None:
    """What a file predicts: chances where it gives labels, several numbers a row, or one squeezed into 0 to 1; a number
    where it gives one without such limits. A regression made for an outcome of 0 and 1 is a number here, too.
    """
    numbers = [one for one in outputs if one.type in _FLOATS]
    if len(numbers) < len(outputs):
        return "chances"  # labels, or a map of them
    if len(numbers) != 1:
        return None
    if isinstance(width := (numbers[0].shape or [1])[-1], int) and width > 1 and len(numbers[0].shape) > 1:
        return "chances"
    producer = {name: node for node in graph.node for name in node.output}
    node = producer.get(numbers[0].name)
    while node is not None and node.op_type in meant.PASSING and node.op_type != "ZipMap":
        node = producer.get(node.input[0])
    if node is None:
        return None
    logistic = any(one.name == "post_transform" and one.s not in (b"", b"NONE") for one in node.attribute)
    return "chances" if node.op_type in _CHANCES or logistic else "number"


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


def _nodes(graph: onnx.GraphProto) -> Iterator[onnx.NodeProto]:
    for node in graph.node:
        yield node
        for attribute in node.attribute:
            for inner in (attribute.g, *attribute.graphs):
                yield from _nodes(inner)


def _tensors(graph: onnx.GraphProto) -> Iterator[onnx.TensorProto]:
    yield from graph.initializer
    for node in _nodes(graph):
        for attribute in node.attribute:
            if attribute.HasField("t"):
                yield attribute.t
            yield from attribute.tensors
            for inner in (attribute.g, *attribute.graphs):
                yield from inner.initializer


def without_maps(data: bytes) -> bytes:
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
