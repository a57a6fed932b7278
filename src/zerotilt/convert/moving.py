"""Steps put before a model file that move numbers towards being alike in all groups, in the file's own arithmetic."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import onnx
from onnx import TensorProto, helper, numpy_helper

from zerotilt.convert.estimators import OPSET
from zerotilt.core.steps.repair import Repair


def moving(data: bytes, repairs: Mapping[str, Repair], by: str) -> bytes:
    """A model file that takes numbers as they are and moves them itself, by the group that stands in the column ``by``.

    A group that no repair knows leaves numbers as they are. Of every number the file does in single precision, in this order,
    what :meth:`~zerotilt.core.steps.repair.Repair.moved` does.
    """
    model = onnx.load_from_string(data)
    graph, nodes, held = model.graph, [], []
    inputs = {one.name: one for one in graph.input}
    taken = {name for node in graph.node for name in (*node.input, *node.output)} | set(inputs)

    def called(name: str) -> str:
        found = next(one for one in (f"{name}{'′' * times}" for times in range(1_000)) if one not in taken)
        taken.add(found)
        return found

    def tensor(name: str, values: np.ndarray) -> str:
        held.append(numpy_helper.from_array(np.ascontiguousarray(values), found := called(name)))
        return found

    def node(kind: str, given: list[str], name: str, **more) -> str:
        nodes.append(helper.make_node(kind, given, [found := called(name)], **more))
        return found

    if by not in inputs:
        graph.input.append(helper.make_tensor_value_info(by, TensorProto.STRING, [None, 1]))
        taken.add(by)
    for name, repair in repairs.items():
        if name not in inputs or not repair.groups:
            continue
        many, wide = repair.knots.shape
        group = node(
            "LabelEncoder", [by], f"{name} group", domain="ai.onnx.ml",
            keys_strings=list(repair.groups), values_int64s=list(range(many - 1)), default_int64=many - 1,
        )  # fmt: skip
        flat = node("Reshape", [group, tensor("flat", np.array([-1], np.int64))], f"{name} group of each")
        knots = node("Gather", [tensor(f"{name} knots", repair.knots), flat], f"{name} knots of each")
        reached = node("GreaterOrEqual", [name, knots], f"{name} reached")
        told = node("Cast", [reached], f"{name} reached as numbers", to=TensorProto.INT64)
        stretch = node("ReduceSum", [told, tensor("across", np.array([1], np.int64))], f"{name} stretch", keepdims=1)
        row = node("Mul", [group, tensor("wide", np.array(wide + 1, np.int64))], f"{name} row")
        place = node("Add", [row, stretch], f"{name} place")
        lower, base, slope = (
            node("Gather", [tensor(f"{name} {what}", values.reshape(-1)), place], f"{name} {what} of each")
            for what, values in (("lower", repair.lower), ("base", repair.base), ("slope", repair.slope))
        )
        off = node("Sub", [name, lower], f"{name} beyond")
        risen = node("Mul", [off, slope], f"{name} risen")
        moved = node("Add", [base, risen], f"{name} moved")
        for one in graph.node:
            one.input[:] = [moved if entry == name else entry for entry in one.input]
    after = list(graph.node)
    del graph.node[:]
    graph.node.extend([*nodes, *after])
    graph.initializer.extend(held)
    # a model of trees alone imports an older table of operators; names are told apart since the second
    versions = {one.domain: one for one in model.opset_import}
    for domain, least in OPSET.items():
        if domain not in versions:
            model.opset_import.append(helper.make_opsetid(domain, least))
        else:
            versions[domain].version = max(versions[domain].version, least)
    onnx.checker.check_model(model)
    return model.SerializeToString()
