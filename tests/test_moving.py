"""Numbers moved inside a model file: the same bits as outside, whatever columns, groups and values are called."""

from __future__ import annotations

import numpy as np
import onnx
import onnxruntime
import pytest
from onnx import TensorProto, helper

from zerotilt.convert.moving import moving
from zerotilt.core.steps.repair import LEAST, Groups, fitted

NAMES = ["x", "a b", "x lower", "x knots", "=cmd|'/c'", "flat", "ü 😀"]


def passing(names: list[str], opset: int = 17) -> bytes:
    """A model that gives back the numbers it takes, side by side."""
    inputs = [helper.make_tensor_value_info(name, TensorProto.FLOAT, [None, 1]) for name in names]
    outputs = [helper.make_tensor_value_info("told", TensorProto.FLOAT, [None, len(names)])]
    graph = helper.make_graph([helper.make_node("Concat", names, ["told"], axis=1)], "passing", inputs, outputs)
    return helper.make_model(graph, opset_imports=[helper.make_opsetid("", opset)], ir_version=8).SerializeToString()


def asked(data: bytes, x: dict[str, np.ndarray], group: np.ndarray, by: str = "home") -> np.ndarray:
    session = onnxruntime.InferenceSession(data, providers=["CPUExecutionProvider"])
    given = {name: values.astype(np.float32)[:, None] for name, values in x.items()}
    return session.run(None, given | {by: group.astype(object)[:, None]})[0]


@pytest.mark.parametrize("scale", [1.0, 1e8, 1e-7])
@pytest.mark.parametrize("level", [0.0, 0.4, 1.0])
def test_a_file_moves_numbers_to_the_same_bits(scale, level):
    rng = np.random.default_rng(1)
    group = rng.choice(["north", "isles", "<b>", "", "once"], 800, p=[0.5, 0.3, 0.1, 0.095, 0.005])
    x = {name: rng.gamma(2, 1, 800) * scale * (1 + (group == "isles") * place) for place, name in enumerate(NAMES)}
    x["x"][::9] = np.nan
    x["a b"] = np.round(x["a b"] / scale) * scale
    told = Groups.of(group)
    repairs = {name: fitted(values, told, level) for name, values in x.items()}
    data = moving(passing(NAMES), repairs, "home")
    seen = rng.choice(["north", "isles", "<b>", "", "once", "never"], 500)
    fresh = {name: np.where(rng.random(500) < 0.1, np.nan, rng.normal(0, 3, 500) * scale) for name in NAMES}
    found = asked(data, fresh, seen)
    wanted = np.column_stack([repairs[name].moved(fresh[name], seen) for name in NAMES])
    assert np.array_equal(found, wanted, equal_nan=True)
    assert (group == "once").sum() < LEAST and "once" not in repairs["x"].groups


def test_only_what_is_repaired_is_moved_and_the_group_is_asked_for_once():
    rng = np.random.default_rng(2)
    group = np.repeat(["a", "b"], 40)
    x = {"x": rng.normal(size=80) + 3 * (group == "b"), "y": rng.normal(size=80)}
    data = moving(passing(["x", "y"]), {"x": fitted(x["x"], group, 1.0)}, "home")
    found = asked(data, x, group)
    assert np.array_equal(found[:, 1], x["y"].astype(np.float32)) and not np.array_equal(
        found[:, 0], x["x"].astype(np.float32)
    )
    model = onnx.load_from_string(data)
    assert sorted(one.name for one in model.graph.input) == ["home", "x", "y"]
    plain = moving(passing(["x", "y"]), {"nowhere": fitted(x["x"], group, 1.0)}, "home")
    assert np.array_equal(asked(plain, x, group)[:, 0], x["x"].astype(np.float32))


def test_a_file_that_imports_operators_of_another_day_is_written_whole():
    group = np.repeat(["a", "b"], 40)
    x = {"x": np.arange(80.0)}
    data = moving(passing(["x"], opset=11), {"x": fitted(x["x"], group, 1.0)}, "home")
    onnx.checker.check_model(onnx.load_from_string(data))
    assert asked(data, x, group).shape == (80, 1)
