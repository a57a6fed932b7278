"""Histogram gradient boosting to the standard's tree operators; the general converter cannot write its base values."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from skl2onnx import update_registered_converter
from skl2onnx.common.shape_calculator import (
    calculate_linear_classifier_output_shapes,
    calculate_linear_regressor_output_shapes,
)
from sklearn.ensemble import HistGradientBoostingClassifier, HistGradientBoostingRegressor

_WORD = 32


@dataclass
class _Written:
    """Nodes and leaves of all trees, in the lists the operators take."""

    nodes: dict[str, list] = field(
        default_factory=lambda: {
            name: []
            for name in (
                "treeids", "nodeids", "featureids", "values", "modes", "truenodeids", "falsenodeids",
                "missing_value_tracks_true",
            )
        }
    )  # fmt: skip
    leaves: list[tuple[int, int, int, float]] = field(default_factory=list)

    def node(
        self, tree: int, number: int, feature: int, value: float, mode: str, yes: int, no: int, track: int
    ) -> None:
        entries = (tree, number, feature, value, mode, yes, no, track)
        for name, entry in zip(self.nodes, entries, strict=True):
            self.nodes[name].append(entry)


def _not_above(threshold: float) -> float:
    """The largest single-precision number that is not above the threshold, so that x ≤ threshold keeps its answer."""
    near = np.float32(threshold)
    return float(near if float(near) <= threshold else np.nextafter(near, np.float32(-np.inf)))


def _in_set(words: np.ndarray) -> list[int]:
    return [w * _WORD + b for w, word in enumerate(words) for b in range(_WORD) if int(word) >> b & 1]


def _write_tree(to: _Written, tree: int, predictor: Any, target: int, columns: _Columns) -> None:
    nodes = predictor.nodes
    extra = len(nodes)
    for number, node in enumerate(nodes):
        if node["is_leaf"]:
            to.node(tree, number, 0, 0.0, "LEAF", 0, 0, 0)
            to.leaves.append((tree, number, target, float(node["value"])))
            continue
        left, right, column = int(node["left"]), int(node["right"]), int(node["feature_idx"])
        feature = columns.original[column]
        missing_left = bool(node["missing_go_to_left"])
        if not node["is_categorical"]:
            value = _not_above(float(node["num_threshold"]))
            to.node(tree, number, feature, value, "BRANCH_LEQ", left, right, int(missing_left))
            continue
        # what is unknown or missing takes one side; a chain of equalities names the levels of the other
        levels = set(_in_set(predictor.raw_left_cat_bitsets[node["bitset_idx"]]))
        named = [value for code, value in enumerate(columns.levels[column]) if (code in levels) != missing_left]
        goes, rest = (right, left) if missing_left else (left, right)
        at = number
        if not named:
            to.node(tree, at, feature, 0.0, "BRANCH_EQ", rest, rest, 0)
        for place, level in enumerate(named):
            last = place == len(named) - 1
            to.node(tree, at, feature, level, "BRANCH_EQ", goes, rest if last else extra, 0)
            at, extra = extra, extra + 1


def _convert(scope: Any, operator: Any, container: Any) -> None:
    model = operator.raw_operator
    classes = getattr(model, "classes_", None)
    columns = _columns(model)
    written, tree = _Written(), 0
    for round_ in model._predictors:
        for target, predictor in enumerate(round_):
            _write_tree(written, tree, predictor, target, columns)
            tree += 1
    base = np.asarray(model._baseline_prediction, dtype=np.float64).ravel()
    held: dict[str, Any] = {f"nodes_{name}": values for name, values in written.nodes.items()}
    kind = "target" if classes is None else "class"
    held |= {
        f"{kind}_treeids": [entry[0] for entry in written.leaves],
        f"{kind}_nodeids": [entry[1] for entry in written.leaves],
        f"{kind}_ids": [entry[2] for entry in written.leaves],
        f"{kind}_weights": [entry[3] for entry in written.leaves],
        "base_values": [float(value) for value in base],
    }
    source = operator.inputs[0].full_name
    if classes is None:
        name = operator.outputs[0].full_name
        raw = scope.get_unique_variable_name("raw") if _grows(model) else name
        container.add_node(
            "TreeEnsembleRegressor", [source], [raw], op_domain="ai.onnx.ml", op_version=1, n_targets=1,
            name=scope.get_unique_operator_name("Trees"), **held,
        )  # fmt: skip
        if raw != name:
            container.add_node("Exp", [raw], [name], op_version=13, name=scope.get_unique_operator_name("Exp"))
        return
    labels = (
        {"classlabels_int64s": [int(label) for label in classes]}
        if np.issubdtype(classes.dtype, np.integer) or classes.dtype == bool
        else {"classlabels_strings": [str(label) for label in classes]}
    )
    container.add_node(
        "TreeEnsembleClassifier", [source], [output.full_name for output in operator.outputs], op_domain="ai.onnx.ml",
        op_version=1, name=scope.get_unique_operator_name("Trees"),
        post_transform="LOGISTIC" if len(base) == 1 else "SOFTMAX", **held, **labels,
    )  # fmt: skip


def _grows(model: Any) -> bool:
    """Whether the value is the exponential of the sum."""
    return model.loss in ("poisson", "gamma")


@dataclass(frozen=True)
class _Columns:
    """The columns the trees were grown on: the estimator codes its categorical columns first and puts them in front."""

    original: list[int]
    levels: dict[int, list[float]]
    """The original value of each code of a categorical column, by the trees' own column number."""


def _columns(model: Any) -> _Columns:
    if model._preprocessor is None:
        return _Columns(list(range(model.n_features_in_)), {})
    categorical = np.flatnonzero(model.is_categorical_)
    numeric = np.flatnonzero(~model.is_categorical_)
    coder = model._preprocessor.named_transformers_["encoder"]
    levels = {}
    for column, values in enumerate(coder.categories_):
        kept = [value for value in values if value == value]
        if not all(isinstance(value, int | float | np.number) for value in kept):
            raise ValueError("a categorical column of this estimator holds text; give it as numbers before conversion")
        levels[column] = [float(value) for value in kept]
    return _Columns([*categorical.tolist(), *numeric.tolist()], levels)


def register() -> None:
    """Make the general converter write histogram gradient boosting; called any number of times."""
    options = {"zipmap": [True, False, "columns"], "output_class_labels": [False, True], "nocl": [True, False]}
    update_registered_converter(
        HistGradientBoostingClassifier, "SklearnHistGradientBoostingClassifier",
        calculate_linear_classifier_output_shapes, _convert, overwrite=True, options=options,
    )  # fmt: skip
    update_registered_converter(
        HistGradientBoostingRegressor, "SklearnHistGradientBoostingRegressor",
        calculate_linear_regressor_output_shapes, _convert, overwrite=True,
    )  # fmt: skip
