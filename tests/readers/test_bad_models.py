"""Models that hang or eat memory take down their own process, not the server, and it is said."""

from __future__ import annotations

import numpy as np
import onnx
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from onnx import TensorProto, helper
from tests.core.systems import said

from zerotilt.core.meaning import ColumnSpec, Context, Kind, Role, Spec
from zerotilt.core.refusal import Refused
from zerotilt.readers import alone
from zerotilt.readers.room import Room
from zerotilt.readers.watch import Limits


@pytest.fixture(params=["alone", "in a resident reader"])
def run(request, tmp_path):
    tmp_path.chmod(0o711)
    if request.param == "alone":
        yield alone.run
        return
    room = Room(tmp_path)
    yield room.run
    room.close()


SPEC = Spec(
    columns=tuple(
        ColumnSpec(name=name, kind=Kind.numeric, role=Role.outcome if name == "y" else Role.feature)
        for name in ("a", "b", "y")
    ),
    event="1",
)


def arguments(tmp_path, nodes, tensors=()) -> dict:
    graph = helper.make_graph(
        nodes,
        "bad",
        [helper.make_tensor_value_info("x", TensorProto.FLOAT, [None, 2])],
        [helper.make_tensor_value_info("p", TensorProto.FLOAT, None)],
        list(tensors),
    )
    model = helper.make_model(graph, opset_imports=[helper.make_opsetid("", 18)], ir_version=9).SerializeToString()
    (tmp_path / "model.onnx").write_bytes(model)
    rng = np.random.default_rng(0)
    pq.write_table(
        pa.table({"a": rng.normal(size=50), "b": rng.normal(size=50), "y": rng.integers(0, 2, 50)}),
        tmp_path / "table.parquet",
    )
    return {
        "spec": SPEC.model_copy(update=said(model, "0", "1")).model_dump(mode="json"),
        "table_path": str(tmp_path / "table.parquet"),
        "model_path": str(tmp_path / "model.onnx"),
        "table_digest": "t",
        "model_digest": "m",
        "context": Context(rows="all").model_dump(mode="json"),
        "method": "performance",
        "settings": {},
        "seed": 1,
    }


def endless() -> list[onnx.NodeProto]:
    """Adds nothing to a number a million million times."""
    body = helper.make_graph(
        [helper.make_node("Identity", ["go"], ["on"]), helper.make_node("Identity", ["held"], ["kept"])],
        "body",
        [
            helper.make_tensor_value_info("turn", TensorProto.INT64, []),
            helper.make_tensor_value_info("go", TensorProto.BOOL, []),
            helper.make_tensor_value_info("held", TensorProto.FLOAT, None),
        ],
        [
            helper.make_tensor_value_info("on", TensorProto.BOOL, []),
            helper.make_tensor_value_info("kept", TensorProto.FLOAT, None),
        ],
    )
    return [
        helper.make_node("Softmax", ["x"], ["s"]),
        helper.make_node("Loop", ["turns", "yes", "s"], ["p"], body=body),
    ]


def test_a_model_that_hangs_is_stopped(tmp_path, run):
    tensors = [
        helper.make_tensor("turns", TensorProto.INT64, [], [10**12]),
        helper.make_tensor("yes", TensorProto.BOOL, [], [True]),
    ]
    given = arguments(tmp_path, endless(), tensors)
    with pytest.raises(Refused, match=r"made no progress for 3 s and was stopped.*the model may hang"):
        run("evidence", given, tmp_path, lambda *state: True, Limits(stall=3))


def test_a_model_that_eats_memory_is_stopped(tmp_path, run):
    nodes = [
        helper.make_node("Shape", ["x"], ["small"]),
        helper.make_node("Max", ["small", "huge"], ["size"]),
        helper.make_node("Expand", ["x", "size"], ["wide"]),
        helper.make_node("ReduceMean", ["wide", "first"], ["mean"], keepdims=0),
        helper.make_node("Softmax", ["mean"], ["p"]),
    ]
    tensors = [
        helper.make_tensor("huge", TensorProto.INT64, [2], [2_000_000_000, 2]),
        helper.make_tensor("first", TensorProto.INT64, [1], [0]),
    ]
    with pytest.raises(Refused, match=r"failed while scoring|more than its"):
        run("evidence", arguments(tmp_path, nodes, tensors), tmp_path, lambda *state: True)


def test_a_few_bytes_that_stand_for_gigabytes_are_refused(tmp_path, run):
    nodes = [helper.make_node("ConstantOfShape", ["huge"], ["wide"]), helper.make_node("Softmax", ["wide"], ["p"])]
    tensors = [helper.make_tensor("huge", TensorProto.INT64, [2], [1_500_000_000, 1])]
    with pytest.raises(Refused, match="“wide” in the model holds 1,500,000,000 numbers"):
        run("evidence", arguments(tmp_path, nodes, tensors), tmp_path, lambda *state: True)


def test_a_model_of_chance_is_found_out_before_anything_is_read_from_it(tmp_path, run):
    nodes = [helper.make_node("RandomUniformLike", ["x"], ["r"]), helper.make_node("Softmax", ["r"], ["p"])]
    with pytest.raises(Refused, match="other numbers when asked again"):
        run("evidence", arguments(tmp_path, nodes), tmp_path, lambda *state: True)
