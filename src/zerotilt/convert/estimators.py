"""Fitted estimators as ONNX, whichever of the usual libraries fitted them."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterator
from importlib import import_module
from typing import Any

import pyarrow as pa
import pyarrow.types as kinds
from skl2onnx import to_onnx, update_registered_converter
from skl2onnx.common.data_types import (
    BooleanTensorType,
    FloatTensorType,
    Int64TensorType,
    StringTensorType,
)
from skl2onnx.common.shape_calculator import (
    calculate_linear_classifier_output_shapes,
    calculate_linear_regressor_output_shapes,
)

from zerotilt.convert.histogram import register
from zerotilt.core.refusal import Refused

OPSET = {"": 17, "ai.onnx.ml": 3}
BOOSTED = {
    "xgboost": (("XGBClassifier", "XGBoostXGBClassifier"), ("XGBRegressor", "XGBoostXGBRegressor")),
    "lightgbm": (("LGBMClassifier", "LightGbmLGBMClassifier"), ("LGBMRegressor", "LightGbmLGBMRegressor")),
}


def converted(model: Any, frame: pa.Table) -> bytes:
    """A fitted estimator or pipeline as ONNX that takes the frame's columns.

    A pipeline that was fitted on columns by their names takes one input a column; any other estimator one wide input, whose
    columns' names stand in the file.

    Raises
    ------
    Refused : it is no fitted estimator that can be written; the message has the converter's own words.
    """
    if not hasattr(model, "get_params") or not hasattr(model, "predict"):
        raise Refused(
            f"model: a {type(model).__name__} was given, which is no fitted estimator.",
            todo="Give a scikit-learn, XGBoost or LightGBM estimator or a pipeline of them; of others the ONNX file that "
            "their own exporter writes, with predicts=.",
        )
    register()
    for library in BOOSTED:
        _register(library)
    classes = hasattr(model, "predict_proba")
    by_name = _takes_names(model)
    try:
        types = [(name, _type(frame.schema.field(name).type)) for name in frame.column_names]
        initial = types if by_name else [("rows", FloatTensorType([None, frame.num_columns]))]
        with _nameless(_last(model)):
            found: Any = to_onnx(
                model,
                initial_types=initial,
                options={id(_last(model)): {"zipmap": False}} if classes else None,
                target_opset=OPSET,
            )
    except Refused:
        raise
    except Exception as problem:  # the converters raise errors of every kind
        said = str(problem).strip().splitlines()[0][:300] if str(problem).strip() else type(problem).__name__
        raise Refused(
            f"model: a {type(model).__name__} could not be written as ONNX: {said}",
            todo="Use steps that can be, or give the ONNX file that another exporter wrote, with predicts=.",
        ) from None
    if by_name:
        _named(found.graph, frame.column_names)
    else:
        entry = found.metadata_props.add()
        entry.key, entry.value = "feature_names", json.dumps(list(frame.column_names))
    return found.SerializeToString()


def _named(graph: Any, names: list[str]) -> None:
    """Inputs by the columns' own names: the converter writes what is no plain word otherwise, and two can become one."""
    if len(graph.input) != len(names):
        return
    told = {entry.name: name for entry, name in zip(graph.input, names, strict=True)}
    made = {name for node in graph.node for name in node.output}
    if made & set(names):  # a step's own result is called like a column
        return
    for entry in graph.input:
        entry.name = told[entry.name]
    for node in graph.node:
        for place, name in enumerate(node.input):
            node.input[place] = told.get(name, name)


def _takes_names(model: Any) -> bool:
    """Whether the first step chooses columns by their names."""
    from sklearn.compose import ColumnTransformer
    from sklearn.pipeline import Pipeline

    first = model.steps[0][1] if isinstance(model, Pipeline) else model
    return isinstance(first, ColumnTransformer) or (isinstance(first, Pipeline) and _takes_names(first))


def _last(model: Any) -> Any:
    return model.steps[-1][1] if hasattr(model, "steps") else model


@contextlib.contextmanager
def _nameless(last: Any) -> Iterator[None]:
    """The converter of these boosted trees wants columns by number: their names are put aside for as long."""
    booster = last.get_booster() if type(last).__module__.startswith("xgboost") else None
    names = booster.feature_names if booster is not None else None
    if booster is None or not names:
        yield
        return
    booster.feature_names = None
    try:
        yield
    finally:
        booster.feature_names = names


def _type(kind: pa.DataType) -> Any:
    if kinds.is_boolean(kind):
        return BooleanTensorType([None, 1])
    if kinds.is_integer(kind):
        return Int64TensorType([None, 1])
    if kinds.is_floating(kind) or kinds.is_decimal(kind):
        return FloatTensorType([None, 1])
    return StringTensorType([None, 1])


def _register(library: str) -> None:
    """Converters of libraries that are installed, beside the general ones."""
    with contextlib.suppress(ImportError):
        estimators = import_module(library)
        tools = import_module(
            "onnxmltools.convert.xgboost.operator_converters.XGBoost"
            if library == "xgboost"
            else "onnxmltools.convert.lightgbm.operator_converters.LightGbm"
        )
        write = tools.convert_xgboost if library == "xgboost" else tools.convert_lightgbm
        for (name, alias), classes in zip(BOOSTED[library], (True, False), strict=True):
            options = {"nocl": [True, False], "zipmap": [True, False, "columns"]} if classes else None
            update_registered_converter(
                getattr(estimators, name),
                alias,
                calculate_linear_classifier_output_shapes if classes else calculate_linear_regressor_output_shapes,
                write,
                options=options,
            )
