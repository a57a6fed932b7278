"""Train the demo's models and write them as ONNX pipelines that take the raw columns."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from skl2onnx import convert_sklearn
from skl2onnx.common.data_types import FloatTensorType, StringTensorType
from sklearn.compose import ColumnTransformer
from sklearn.ensemble import GradientBoostingClassifier, GradientBoostingRegressor, RandomForestClassifier
from sklearn.impute import SimpleImputer
from sklearn.linear_model import LogisticRegression
from sklearn.neural_network import MLPClassifier
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import OneHotEncoder, StandardScaler

from zerotilt.demo import planted

NUMBERS = (
    "declared_value",
    "parcel_weight",
    "days_in_transit",
    "missed_scans",
    "ferry_legs",
    "claims_three_years",
    "account_age",
    "message_length",
)
TEXTS = ("packaging_grade", "sender_kind", "channel", "photo_attached", "postal_district")
TREES, LOGISTIC, FOREST, NETWORK, LEAKY = (
    "gradient trees v3",
    "logistic regression v1",
    "random forest v2",
    "small network v2",
    "gradient trees v0, withdrawn",
)
DAYS, DESKS = "days to settle v1", "routing forest v1"
OPSET = {"": 18, "ai.onnx.ml": 3}


def inputs(table: pa.Table, numbers: tuple[str, ...] = NUMBERS) -> np.ndarray:
    """Model inputs as an object array, shape (rows, 13 or more): numbers, then text."""
    wide = [table.column(name).to_numpy(zero_copy_only=False).astype(np.float32).astype(object) for name in numbers]
    texts = [table.column(name).to_numpy(zero_copy_only=False).astype(object) for name in TEXTS]
    return np.column_stack([*wide, *texts])


def _prepared(scaled: bool, numbers: int = len(NUMBERS)) -> ColumnTransformer:
    fill = SimpleImputer(strategy="median")
    return ColumnTransformer(
        [
            ("numbers", make_pipeline(fill, StandardScaler()) if scaled else fill, list(range(numbers))),
            (
                "texts",
                OneHotEncoder(handle_unknown="ignore", sparse_output=False),
                list(range(numbers, numbers + len(TEXTS))),
            ),
        ]
    )


def claims_models(table: pa.Table) -> dict[str, bytes]:
    """The versions that give the chance that a claim is valid; the last takes a column that gives the outcome away."""
    models = {
        TREES: (
            False,
            GradientBoostingClassifier(
                n_estimators=140, max_depth=4, learning_rate=0.08, subsample=0.8, max_features=0.5, random_state=7
            ),
        ),
        LOGISTIC: (True, LogisticRegression(max_iter=2_000, C=0.5)),
        FOREST: (
            False,
            RandomForestClassifier(n_estimators=60, max_depth=7, min_samples_leaf=10, max_features=0.4, random_state=7),
        ),
        NETWORK: (True, MLPClassifier((12,), alpha=2.0, max_iter=250, early_stopping=True, random_state=7)),
    }
    leaky = GradientBoostingClassifier(n_estimators=60, max_depth=3, learning_rate=0.15, random_state=7)
    return _fitted(table, "claim_valid", models) | _fitted(
        table, "claim_valid", {LEAKY: (False, leaky)}, (*NUMBERS, planted.LEAK)
    )


def days_models(table: pa.Table) -> dict[str, bytes]:
    """How many days a claim takes."""
    trees = GradientBoostingRegressor(n_estimators=100, max_depth=3, learning_rate=0.1, random_state=7)
    return _fitted(table, "days_to_settle", {DAYS: (False, trees)})


def desk_models(table: pa.Table) -> dict[str, bytes]:
    """Which of four desks a claim goes to."""
    forest = RandomForestClassifier(n_estimators=40, max_depth=6, min_samples_leaf=10, max_features=0.5, random_state=7)
    return _fitted(table, "routing_desk", {DESKS: (False, forest)})


def _fitted(
    table: pa.Table, outcome: str, models: Mapping[str, tuple[bool, Any]], numbers: tuple[str, ...] = NUMBERS
) -> dict[str, bytes]:
    """Each model fitted on the training split, its numbers scaled or not; ONNX bytes by version name."""
    training = table.filter(pc.equal(table.column("split"), "training"))
    x, y = inputs(training, numbers), training.column(outcome).to_numpy(zero_copy_only=False)
    kinds = [(name, FloatTensorType([None, 1])) for name in numbers]
    kinds += [(name, StringTensorType([None, 1])) for name in TEXTS]
    out = {}
    for name, (scaled, model) in models.items():
        classes = hasattr(model, "predict_proba")
        whole = make_pipeline(_prepared(scaled, len(numbers)), model).fit(x, y.astype(str) if classes else y)
        options = {id(model): {"zipmap": False}} if classes else None
        converted = convert_sklearn(whole, initial_types=kinds, options=options, target_opset=OPSET)
        out[name] = converted.SerializeToString()
    return out
