"""Tree ensembles as the ONNX standard writes them, read into flat arrays."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray

from zerotilt.core.trees.ensemble import EQ, MEMBER, MODES, Trees

OPERATORS = ("TreeEnsembleClassifier", "TreeEnsembleRegressor", "TreeEnsemble")


class Unread(Exception):
    """Why a node cannot be read as a sum of trees; the model then runs as a black box."""


@dataclass(frozen=True)
class Ensemble:
    """One tree operator of a graph: its trees, and how its sums become its outputs."""

    trees: Trees
    transform: str
    """The operator's own post-transform."""
    labels: NDArray | None
    """Class labels of a classifier, shape (classes,)."""
    complement: str
    """How the second column of a classifier with one score is made: "", "one minus" or "minus"."""

    def finish(self, sums: NDArray[np.float64]) -> list[NDArray]:
        """The operator's outputs from its sums, shape (rows, k), in double precision."""
        if self.complement == "one minus" and self.transform != "LOGISTIC":
            sums = np.column_stack([1 - sums, sums])
        elif self.complement:
            sums = np.column_stack([-sums, sums])
        scores = _transformed(sums, self.transform)
        return [scores] if self.labels is None else [self.labels[scores.argmax(axis=1)], scores]


def _transformed(sums: NDArray[np.float64], transform: str) -> NDArray[np.float64]:
    if transform == "NONE":
        return sums
    if transform == "LOGISTIC":
        return 1 / (1 + np.exp(-sums))
    if transform == "SOFTMAX":
        grown = np.exp(sums - sums.max(axis=1, keepdims=True))
        return grown / grown.sum(axis=1, keepdims=True)
    raise Unread(f"the post-transform {transform} is not read")


def read(node: onnx.NodeProto) -> Ensemble:
    """The trees of one operator; all node modes, missing-value tracks and base values.

    Raises
    ------
    Unread : the leaves are not added up (MIN, MAX), or the arrays do not fit together.
    """
    held = {attribute.name: _value(attribute) for attribute in node.attribute}
    how = held.get("aggregate_function", b"SUM" if node.op_type != "TreeEnsemble" else 1)
    how = how.decode() if isinstance(how, bytes) else ("AVERAGE", "SUM", "MIN", "MAX")[int(how)]
    if how not in ("SUM", "AVERAGE"):
        raise Unread(f"its trees are joined by {how}")
    trees, transform = _by_node(node, held) if node.op_type != "TreeEnsemble" else _by_branch(held)
    trees = _with_sets(trees)
    if how == "AVERAGE":
        trees = trees.with_leaves(trees.leaves / len(trees.roots), trees.base)
    labels = held.get("classlabels_strings") or held.get("classlabels_int64s")
    if node.op_type != "TreeEnsembleClassifier" or labels is None:
        return Ensemble(trees, transform, None, "")
    names = np.array([label.decode() if isinstance(label, bytes) else label for label in labels])
    complement = ""
    if trees.outputs == 1 and len(names) == 2:
        complement = "one minus" if (np.asarray(_weights(held, "class")) >= 0).all() else "minus"
    return Ensemble(trees, transform, names, complement)


def _with_sets(trees: Trees) -> Trees:
    """Chains of equalities that lead to one branch as one set of members: how older operators write a set."""
    if not (trees.mode == EQ).any():
        return trees
    mode, no = trees.mode.copy(), trees.no.copy()
    sets: dict[int, list[float]] = {}
    # children come after their parents in most files, so that a chain is gathered from its end
    for node in np.flatnonzero((trees.mode == EQ) & ~trees.track)[::-1].tolist():
        below = int(no[node])
        alike = below >= 0 and trees.mode[below] == EQ and not trees.track[below]
        if alike and trees.column[below] == trees.column[node] and trees.yes[below] == trees.yes[node]:
            sets[node] = [trees.threshold[node], *sets.get(below, [trees.threshold[below]])]
            mode[node], no[node] = MEMBER, no[below]
    if not sets:
        return trees
    own = [
        sets.get(node, trees.members[trees.first[node] : trees.first[node + 1]].tolist()) for node in range(len(mode))
    ]
    return replace(
        trees,
        mode=mode,
        no=no,
        first=np.cumsum([0] + [len(part) for part in own]).astype(np.int32),
        members=np.array([value for part in own for value in part or ()], trees.threshold.dtype),
    )


def _value(attribute: onnx.AttributeProto) -> Any:
    found = onnx.helper.get_attribute_value(attribute)
    return onnx.numpy_helper.to_array(found) if isinstance(found, onnx.TensorProto) else found


def _weights(held: dict[str, Any], kind: str) -> Any:
    return held[f"{kind}_weights_as_tensor"] if f"{kind}_weights_as_tensor" in held else held[f"{kind}_weights"]


def _by_node(node: onnx.NodeProto, held: dict[str, Any]) -> tuple[Trees, str]:
    """The older two operators: nodes and leaves in one list, named by tree and node number."""
    kind = "class" if node.op_type == "TreeEnsembleClassifier" else "target"
    values = held.get("nodes_values_as_tensor")
    number = np.float32 if values is None else values.dtype.type
    values = np.asarray(held["nodes_values"] if values is None else values, number)
    tree_ids, node_ids = np.asarray(held["nodes_treeids"]), np.asarray(held["nodes_nodeids"])
    modes = [mode.decode() for mode in held["nodes_modes"]]
    leaf = np.array([mode == "LEAF" for mode in modes])
    place = np.where(leaf, np.cumsum(leaf) - 1, np.cumsum(~leaf) - 1)
    span = int(node_ids.max()) + 1
    keys = tree_ids.astype(np.int64) * span + node_ids
    order = np.argsort(keys, kind="stable")
    if (np.diff(keys[order]) == 0).any():
        raise Unread("two of its nodes have one number")

    def number_of(trees: NDArray, nodes: Any) -> NDArray[np.int64]:
        wanted = np.asarray(trees, np.int64) * span + np.asarray(nodes, np.int64)
        at = np.minimum(np.searchsorted(keys, wanted, sorter=order), len(keys) - 1)
        if (keys[order[at]] != wanted).any():
            raise Unread("a branch leads to a node that is not there")
        return order[at]

    child = np.where(leaf, -place - 1, place).astype(np.int32)
    inner = np.flatnonzero(~leaf)
    ends = [
        number_of(tree_ids[inner], np.asarray(held[name])[inner])
        for name in ("nodes_truenodeids", "nodes_falsenodeids")
    ]
    ways = [child[end] for end in ends]
    pointed = np.zeros(len(keys), bool)
    pointed[np.concatenate(ends)] = True
    tops = np.flatnonzero(~pointed)
    _, first = np.unique(tree_ids[tops], return_index=True)
    if len(first) != len(np.unique(tree_ids)):
        raise Unread("one of its trees has no root")
    roots = child[tops[first]]
    ids = np.asarray(held[f"{kind}_ids"])
    labels = held.get("classlabels_strings") or held.get("classlabels_int64s") or []
    columns = int(held.get("n_targets", len(labels) or 1))
    alone = kind == "class" and columns == 2 and len(set(ids.tolist())) == 1
    columns = 1 if alone else columns
    leaves = np.zeros((int(leaf.sum()), columns))
    at = number_of(held[f"{kind}_treeids"], held[f"{kind}_nodeids"])
    if not leaf[at].all():
        raise Unread("a weight lies on a node that is no leaf")
    np.add.at(leaves, (place[at], 0 if alone else ids), np.asarray(_weights(held, kind), np.float64))
    base = held.get("base_values_as_tensor", held.get("base_values"))
    base = np.zeros(columns) if base is None or not len(base) else np.asarray(base, np.float64)
    tracks = held.get("nodes_missing_value_tracks_true") or [0] * len(modes)
    trees = Trees(
        roots=roots,
        column=np.asarray(held["nodes_featureids"], np.int32)[inner],
        threshold=values[inner],
        mode=np.array([MODES.index(modes[i]) for i in inner], np.int8),
        track=np.asarray(tracks, bool)[inner],
        yes=ways[0],
        no=ways[1],
        first=np.zeros(len(inner) + 1, np.int32),
        members=np.zeros(0, number),
        leaves=leaves,
        base=_fitting(base, columns),
    )
    return trees, held.get("post_transform", b"NONE").decode()


def _fitting(base: NDArray[np.float64], columns: int) -> NDArray[np.float64]:
    if len(base) not in (1, columns):
        raise Unread(f"it has {len(base)} base values for {columns} outputs")
    return np.broadcast_to(base, (columns,)).copy()


def _by_branch(held: dict[str, Any]) -> tuple[Trees, str]:
    """The newer operator: branches and leaves in lists of their own, with sets of members."""
    splits = held["nodes_splits"]
    number = splits.dtype.type
    mode = np.asarray(held["nodes_modes"], np.int8)
    if (mode > MEMBER).any() or (mode < 0).any():
        raise Unread("a node compares in a way the standard does not know")
    ways = []
    for side in ("true", "false"):
        to = np.asarray(held[f"nodes_{side}nodeids"], np.int64)
        is_leaf = np.asarray(held[f"nodes_{side}leafs"], bool)
        ways.append(np.where(is_leaf, -to - 1, to).astype(np.int32))
    columns = int(held.get("n_targets", 1))
    leaves = np.zeros((len(held["leaf_weights"]), columns))
    leaves[np.arange(len(leaves)), np.asarray(held["leaf_targetids"])] = held["leaf_weights"]
    sets: list[list[float]] = [[]]
    for value in np.asarray(held.get("membership_values", np.zeros(0, number)), number):
        if np.isnan(value):
            sets.append([])
        else:
            sets[-1].append(value)
    if len(sets) < (mode == MEMBER).sum():
        raise Unread("a set of members is missing")
    taken = iter(sets)
    own = [next(taken) if m == MEMBER else [] for m in mode]
    trees = Trees(
        roots=np.asarray(held["tree_roots"], np.int32),
        column=np.asarray(held["nodes_featureids"], np.int32),
        threshold=np.asarray(splits),
        mode=mode,
        track=np.asarray(held.get("nodes_missing_value_tracks_true") or [0] * len(mode), bool),
        yes=ways[0],
        no=ways[1],
        first=np.cumsum([0] + [len(part) for part in own]).astype(np.int32),
        members=np.array([value for part in own for value in part], number),
        leaves=leaves,
        base=np.zeros(columns),
    )
    transform = ("NONE", "SOFTMAX", "LOGISTIC", "SOFTMAX_ZERO", "PROBIT")[int(held.get("post_transform", 0))]
    return trees, transform


def shifted(ensemble: Ensemble, columns: int) -> Ensemble:
    """The same trees where the encoded columns before them have grown by ``columns``."""
    return replace(ensemble, trees=replace(ensemble.trees, column=ensemble.trees.column + np.int32(columns)))
