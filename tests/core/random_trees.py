"""Random small ensembles written as the standard's operators, over columns of few values so that rows lie on splits."""

from __future__ import annotations

import numpy as np
import onnx
from onnx import TensorProto, helper

MODES = ("BRANCH_LEQ", "BRANCH_LT", "BRANCH_GTE", "BRANCH_GT", "BRANCH_EQ", "BRANCH_NEQ")


class Growth:
    """One ensemble's nodes, drawn from a generator."""

    def __init__(self, rng: np.random.Generator, columns: int, modes: tuple[str, ...]):
        self.rng, self.columns, self.modes = rng, columns, modes
        self.nodes: list[dict] = []
        self.leaves: list[tuple[int, int, int, float]] = []

    def tree(self, number: int, depth: int, outputs: int) -> None:
        place = 0

        def grow(left: int) -> int:
            nonlocal place
            own = place
            place += 1
            node = {
                "tree": number,
                "node": own,
                "column": 0,
                "value": 0.0,
                "mode": "LEAF",
                "yes": 0,
                "no": 0,
                "track": 0,
            }
            self.nodes.append(node)
            if left == 0 or (left < depth and self.rng.random() < 0.2):
                for target in range(outputs):
                    self.leaves.append((number, own, target, float(np.float32(self.rng.normal()))))
                return own
            node |= {
                "column": int(self.rng.integers(self.columns)),
                "value": float(self.rng.integers(-4, 5)) / 4,
                "mode": str(self.rng.choice(self.modes)),
                "track": int(self.rng.random() < 0.3),
            }
            node["yes"], node["no"] = grow(left - 1), grow(left - 1)
            return own

        grow(depth)


def regressor(
    rng, columns: int, trees: int, depth: int, modes=MODES, outputs: int = 1, aggregate="SUM", base=None
) -> bytes:
    """A TreeEnsembleRegressor with random nodes."""
    growth = Growth(rng, columns, modes)
    for number in range(trees):
        growth.tree(number, depth, outputs)
    held = {} if base is None else {"base_values": base}
    node = helper.make_node("TreeEnsembleRegressor", ["x"], ["out"], domain="ai.onnx.ml", n_targets=outputs, aggregate_function=aggregate,
        target_treeids=[one[0] for one in growth.leaves], target_nodeids=[one[1] for one in growth.leaves],
        target_ids=[one[2] for one in growth.leaves], target_weights=[one[3] for one in growth.leaves], **_nodes(growth), **held)  # fmt: skip
    return model_of([node], columns, outputs)


def classifier(
    rng, columns: int, trees: int, depth: int, transform: str, classes: int = 2, alone: bool = False
) -> bytes:
    """A TreeEnsembleClassifier; ``alone``: one score for two classes."""
    growth = Growth(rng, columns, ("BRANCH_LEQ",))
    for number in range(trees):
        growth.tree(number, depth, 1 if alone else classes)
    node = helper.make_node("TreeEnsembleClassifier", ["x"], ["label", "out"], domain="ai.onnx.ml", post_transform=transform,
        class_treeids=[one[0] for one in growth.leaves], class_nodeids=[one[1] for one in growth.leaves],
        class_ids=[one[2] for one in growth.leaves], class_weights=[one[3] for one in growth.leaves],
        classlabels_int64s=list(range(classes)), **_nodes(growth))  # fmt: skip
    return model_of([node], columns, classes)


def newer(rng, columns: int, trees: int, depth: int) -> bytes:
    """The newer operator, with sets of members among its decisions, in double precision."""
    splits, modes, features, yes, no, yes_leaf, no_leaf, track, weights, members, roots = ([] for _ in range(11))

    def grow(left: int) -> tuple[int, int]:
        if left == 0:
            weights.append(float(rng.normal()))
            return len(weights) - 1, 1
        own = len(modes)
        mode = int(rng.integers(0, 7))
        modes.append(mode)
        features.append(int(rng.integers(columns)))
        track.append(int(rng.random() < 0.3))
        splits.append(float(rng.integers(-4, 5)) / 4)
        sets.append(
            sorted(set(rng.integers(1, 3, 3).astype(float).tolist())) if mode == 6 else []
        )  # the runtime takes small whole numbers
        for lists in (yes, no, yes_leaf, no_leaf):
            lists.append(0)
        yes[own], yes_leaf[own] = grow(left - 1)
        no[own], no_leaf[own] = grow(left - 1)
        return own, 0

    sets: list[list[float]] = []
    for _ in range(trees):
        roots.append(grow(depth)[0])
    for own in sets:
        if own:
            members += [*own, float("nan")]

    def doubles(values, name):
        return helper.make_tensor(name, TensorProto.DOUBLE, (len(values),), values)

    held = {"membership_values": doubles(members, "members")} if members else {}
    node = helper.make_node("TreeEnsemble", ["x"], ["out"], domain="ai.onnx.ml", n_targets=1, aggregate_function=1, post_transform=0,
        tree_roots=roots, nodes_splits=doubles(splits, "splits"), nodes_featureids=features,
        nodes_modes=helper.make_tensor("modes", TensorProto.UINT8, (len(modes),), modes), nodes_truenodeids=yes, nodes_falsenodeids=no,
        nodes_trueleafs=yes_leaf, nodes_falseleafs=no_leaf, nodes_missing_value_tracks_true=track, leaf_targetids=[0] * len(weights),
        leaf_weights=doubles(weights, "weights"), **held)  # fmt: skip
    return model_of([node], columns, 1, TensorProto.DOUBLE, 5)


def _nodes(growth: Growth) -> dict[str, list]:
    names = {"treeids": "tree", "nodeids": "node", "featureids": "column", "values": "value", "modes": "mode",
             "truenodeids": "yes", "falsenodeids": "no", "missing_value_tracks_true": "track"}  # fmt: skip
    return {f"nodes_{name}": [node[key] for node in growth.nodes] for name, key in names.items()}


def model_of(nodes, columns: int, outputs: int, number=TensorProto.FLOAT, opset: int = 3) -> bytes:
    graph = helper.make_graph(nodes, "trees", [helper.make_tensor_value_info("x", number, [None, columns])],
        [helper.make_tensor_value_info("out", number, [None, outputs])])  # fmt: skip
    imports = [helper.make_opsetid("", 18), helper.make_opsetid("ai.onnx.ml", opset)]
    made = helper.make_model(graph, opset_imports=imports, ir_version=9)
    onnx.checker.check_model(made)
    return made.SerializeToString()


def rows(rng, n: int, columns: int, missing: float = 0.15) -> np.ndarray:
    """Values on the splits' own grid, with some missing."""
    found = rng.integers(-5, 10, (n, columns)) / 4
    return np.where(rng.random((n, columns)) < missing, np.nan, found)
