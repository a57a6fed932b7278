"""Which raw columns each number inside a graph can depend on, proven from its operators.

Every tensor gets a second one of its shape that holds, for each entry, the set
of (row, raw column) it may depend on. Operators that move entries are run on
these sets; operators that work entry by entry join the sets of the entries they
meet; what is not known is taken to depend on everything that goes in. So a set
may be too large and is never too small, whatever values the columns take.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray
from onnx.reference import ReferenceEvaluator

ROWS = 2
"""Rows that are followed: two, so that it shows whether one depends on another."""
NOTHING = 0

_MOVING = {
    "Concat", "Gather", "GatherElements", "GatherND", "Slice", "Split", "Reshape", "Transpose", "Squeeze",
    "Unsqueeze", "Flatten", "Identity", "Expand", "Tile", "Compress", "ArrayFeatureExtractor",
}  # fmt: skip
_ENTRYWISE = {
    "Abs", "Acos", "Add", "And", "Asin", "Atan", "Binarizer", "Cast", "CastLike", "CategoryMapper", "Ceil", "Celu",
    "Clip", "Cos", "Cosh", "Div", "Elu", "Equal", "Erf", "Exp", "Floor", "Gelu", "Greater", "GreaterOrEqual",
    "HardSigmoid", "HardSwish", "Imputer", "IsInf", "IsNaN", "LabelEncoder", "LeakyRelu", "Less", "LessOrEqual", "Log",
    "Max", "Mean", "Min", "Mish", "Mod", "Mul", "Neg", "Not", "Or", "PRelu", "Pow", "Reciprocal", "Relu", "Round",
    "Scaler", "Selu", "Sigmoid", "Sign", "Sin", "Sinh", "Softplus", "Softsign", "Sqrt", "Sub", "Sum", "Tan", "Tanh",
    "ThresholdedRelu", "Where", "Xor",
}  # fmt: skip
_REDUCING = {
    "ArgMax", "ArgMin", "ReduceL1", "ReduceL2", "ReduceLogSum", "ReduceLogSumExp", "ReduceMax", "ReduceMean",
    "ReduceMin", "ReduceProd", "ReduceSum", "ReduceSumSquare",
}  # fmt: skip
_ROW_BY_ROW = {
    "LinearClassifier", "LinearRegressor", "Normalizer", "SVMClassifier", "SVMRegressor", "TfIdfVectorizer",
    "TreeEnsemble", "TreeEnsembleClassifier", "TreeEnsembleRegressor",
}  # fmt: skip


class Lineage:
    """Follows raw columns through a graph of two rows.

    Parameters
    ----------
    fed : what each graph input holds: raw column numbers, shape (ROWS,), (ROWS, 1) or (ROWS, p).
    constants : tensors by name.
    shapes : shape of each tensor of the graph when it is run on two rows.
    opsets : of the model.
    """

    def __init__(
        self,
        fed: Mapping[str, NDArray[np.integer]],
        constants: Mapping[str, NDArray],
        shapes: Callable[[Sequence[str]], Mapping[str, tuple[int, ...]]],
        opsets: Sequence[onnx.OperatorSetIdProto],
    ):
        self._known = dict(constants)
        self._shapes, self._opsets = shapes, list(opsets)
        self._sets: list[frozenset[tuple[int, int]]] = [frozenset()]
        self._number: dict[frozenset[tuple[int, int]], int] = {self._sets[0]: NOTHING}
        self._of: dict[str, NDArray[np.int64]] = {name: self._started(held) for name, held in fed.items()}
        self._unchanged = set(fed)
        self.finite: set[int] = set()
        """Raw columns that are multiplied by zero somewhere: what is proven holds where they are finite numbers."""

    def follow(self, nodes: Sequence[onnx.NodeProto]) -> None:
        """Go through nodes in the graph's order."""
        for node in nodes:
            inputs = [name for name in node.input if name]
            if all(name in self._known for name in inputs) and not _holds_graphs(node):
                self._calculate(node)
            elif node.op_type == "Shape" and inputs[0] in self._of:
                self._known[node.output[0]] = np.array(self._of[inputs[0]].shape, np.int64)
            else:
                self._pass(node)

    def of_pieces(self, names: Sequence[str]) -> None:
        """Tensors that are taken to depend on nothing."""
        for name, shape in self._shapes(names).items():
            self._of[name] = np.full(shape, NOTHING, np.int64)

    def columns(self, name: str) -> list[frozenset[int]]:
        """The raw columns each column of a tensor of rows can depend on."""
        return [frozenset(column for _, column in one) for one in self._by_column(name)]

    def row_by_row(self, name: str) -> bool:
        """Whether it is proven that no entry depends on another row than its own."""
        held = self._of.get(name)
        if held is None:
            return True
        return all(
            row == at for at in range(len(held)) for number in np.unique(held[at]) for row, _ in self._sets[number]
        )

    def _by_column(self, name: str) -> list[frozenset[tuple[int, int]]]:
        if name in self._known:
            return [frozenset()] * int(np.prod(self._known[name].shape[1:], dtype=int))
        held = self._of[name].reshape(len(self._of[name]), -1)
        return [
            frozenset().union(*(self._sets[number] for number in np.unique(held[:, c]))) for c in range(held.shape[1])
        ]

    def _started(self, held: NDArray[np.integer]) -> NDArray[np.int64]:
        rows = np.broadcast_to(np.arange(len(held)).reshape(-1, *[1] * (held.ndim - 1)), held.shape)
        flat = [
            self._numbered(frozenset([(int(row), int(column))]))
            for row, column in zip(rows.ravel(), held.ravel(), strict=True)
        ]
        return np.array(flat, np.int64).reshape(held.shape)

    def _numbered(self, one: frozenset[tuple[int, int]]) -> int:
        if one not in self._number:
            self._number[one] = len(self._sets)
            self._sets.append(one)
        return self._number[one]

    def _joined(self, numbers: NDArray[np.int64]) -> int:
        return self._numbered(frozenset().union(*(self._sets[number] for number in np.unique(numbers))))

    def _calculate(self, node: onnx.NodeProto) -> None:
        try:
            got = self._run(node, {name: self._known[name] for name in node.input if name})
        except Exception:  # an operator without a plain rendering: what it gives depends on no column all the same
            return self._pass(node)
        for name, value in zip(node.output, got, strict=True):
            if name:
                self._known[name] = np.asarray(value)
        return None

    def _run(self, node: onnx.NodeProto, given: Mapping[str, NDArray]) -> list[NDArray]:
        plain = onnx.NodeProto()
        plain.CopyFrom(node)
        names = [name for name in node.output if name]
        graph = onnx.helper.make_graph(
            [plain], "one", [onnx.ValueInfoProto(name=name) for name in dict.fromkeys(given)],
            [onnx.ValueInfoProto(name=name) for name in names],
        )  # fmt: skip
        model = onnx.helper.make_model(graph, opset_imports=self._opsets)
        found: Any = ReferenceEvaluator(model).run(None, dict(given))
        return found

    def _pass(self, node: onnx.NodeProto) -> None:
        kind = node.op_type
        found: list[NDArray[np.int64]] | None = None
        if not _holds_graphs(node):
            try:
                found = self._followed(node, kind)
            except Exception:  # written in a way that is not foreseen here: it depends on all that goes in
                found = None
        if found is None:
            found = self._everything(node)
        for name, one in zip(node.output, found, strict=False):
            if name:
                self._of[name] = one
        if kind in (*_MOVING, "Cast") and all(name in self._unchanged or name in self._known for name in node.input):
            self._unchanged |= set(node.output)

    def _emptied(self, node: onnx.NodeProto, held) -> NDArray[np.int64] | None:
        """Raw numbers times zero are zero, unless they are missing or endless."""
        for place, other in ((0, 1), (1, 0)):
            factor = self._known.get(node.input[place])
            if factor is not None and not np.any(factor) and node.input[other] in self._unchanged:
                self.finite |= {column for number in np.unique(held[other]) for _, column in self._sets[number]}
                return np.full(np.broadcast_shapes(held[0].shape, held[1].shape), NOTHING, np.int64)
        return None

    def _followed(self, node: onnx.NodeProto, kind: str) -> list[NDArray[np.int64]] | None:
        held = [self._held(name) if name else None for name in node.input]
        if kind in _MOVING:
            moved, steered = self._moved(node, kind)
            return None if steered else moved
        if kind == "FeatureVectorizer":
            return [np.concatenate([one.reshape(len(one), -1) for one in held if one is not None], axis=1)]
        if kind == "Mul" and (emptied := self._emptied(node, held)) is not None:
            return [emptied]
        if kind in _ENTRYWISE:
            return [self._together([one for one in held if one is not None])]
        if kind in ("MatMul", "Gemm"):
            return self._multiplied(node, kind, held)
        if not held or (first := held[0]) is None:
            return None  # nothing is known of what it reads
        if kind == "OneHotEncoder":
            levels = next(len(a.strings or a.ints) for a in node.attribute if a.name in ("cats_strings", "cats_int64s"))
            return [np.repeat(first[..., None], levels, axis=-1)]
        if kind in _REDUCING:
            return [self._reduced(node, first)]
        if kind in ("Softmax", "LogSoftmax") and first.ndim == 2:
            axis = next((a.i for a in node.attribute if a.name == "axis"), -1)
            width = first.shape[axis]
            return [np.repeat(self._along(first, axis)[..., None], width, axis=-1).swapaxes(-1, axis)]
        if kind in _ROW_BY_ROW:
            shapes = self._shapes([name for name in node.output if name])
            ravelled = [one.reshape(len(one), -1) for one in held if one is not None]
            together = np.concatenate(ravelled, axis=1)
            each = np.array([self._joined(row) for row in together], np.int64)
            return [
                np.broadcast_to(each.reshape(-1, *[1] * (len(shapes[name]) - 1)), shapes[name]).copy()
                for name in node.output
                if name
            ]
        return None

    def _moved(self, node: onnx.NodeProto, kind: str) -> tuple[list[NDArray[np.int64]], bool]:
        """What moving gives, and whether where to is itself read from the rows."""
        carried = {node.input[0]} if kind != "Concat" else set(node.input)
        steered = any(name in self._of for name in node.input if name and name not in carried)
        given = {}
        for name in node.input:
            if name:
                given[name] = self._held(name) if name in carried else self._known.get(name)
        return [np.asarray(one, np.int64) for one in self._run(node, given)] if not steered else [], steered

    def _held(self, name: str) -> NDArray[np.int64]:
        if name in self._of:
            return self._of[name]
        return np.full(np.shape(self._known[name]), NOTHING, np.int64)

    def _together(self, parts: Sequence[NDArray[np.int64]]) -> NDArray[np.int64]:
        parts = np.broadcast_arrays(*parts)
        if len(parts) == 1:
            return parts[0].copy()
        shape = parts[0].shape
        distinct, place = np.unique(np.stack([one.ravel() for one in parts], axis=1), axis=0, return_inverse=True)
        return np.array([self._joined(one) for one in distinct], np.int64)[place.ravel()].reshape(shape)

    def _along(self, held: NDArray[np.int64], axis: int) -> NDArray[np.int64]:
        last = np.moveaxis(held, axis, -1)
        flat = last.reshape(-1, last.shape[-1])
        return np.array([self._joined(one) for one in flat], np.int64).reshape(last.shape[:-1])

    def _reduced(self, node: onnx.NodeProto, held: NDArray[np.int64]) -> NDArray[np.int64]:
        options = {a.name: onnx.helper.get_attribute_value(a) for a in node.attribute}
        axes = options.get("axes")
        if "Arg" in node.op_type:
            axes = [options.get("axis", 0)]
        elif axes is None and len(node.input) > 1 and node.input[1]:
            axes = self._known[node.input[1]].ravel().tolist()
        if axes is None or not len(axes):
            axes = list(range(held.ndim))
        for axis in axes:
            held = np.expand_dims(self._along(held, axis), axis)
        return held if options.get("keepdims", 1) else np.squeeze(held, axis=tuple(int(a) for a in axes))

    def _multiplied(self, node: onnx.NodeProto, kind: str, held) -> list[NDArray[np.int64]] | None:
        options = {a.name: onnx.helper.get_attribute_value(a) for a in node.attribute}
        weights = self._known.get(node.input[1])
        if weights is None or weights.ndim != 2 or held[0].ndim != 2 or options.get("transA"):
            return None
        weights = weights.T if options.get("transB") else weights
        out = np.empty((len(held[0]), weights.shape[1]), np.int64)
        for k in range(weights.shape[1]):
            used = np.flatnonzero(weights[:, k])
            out[:, k] = [self._joined(row[used]) for row in held[0]]
        return [self._together([out, held[2]])] if kind == "Gemm" and len(held) > 2 and held[2] is not None else [out]

    def _everything(self, node: onnx.NodeProto) -> list[NDArray[np.int64]]:
        """Every entry that comes out depends on every entry that goes in; on every column where a graph is inside."""
        going = [name for name in node.input if name in self._of]
        if _holds_graphs(node):
            going = list(self._of)
        joined = self._joined(np.concatenate([np.unique(self._of[name]) for name in going] or [np.zeros(1, np.int64)]))
        names = [name for name in node.output if name]
        shapes = self._shapes(names)
        return [np.full(shapes[name], joined, np.int64) if name else np.zeros(0, np.int64) for name in node.output]


def _holds_graphs(node: onnx.NodeProto) -> bool:
    return any(attribute.HasField("g") or attribute.graphs for attribute in node.attribute)
