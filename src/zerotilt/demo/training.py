"""Train the demo's models and write them as ONNX pipelines that take the raw columns."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from skl2onnx import convert_sklearn
from skl2onnx.common.data_types import FloatTensorType, StringTensorType
from sklearn.compose import ColumnTransformer
from sklearn.ensemble import GradientBoostingClassifier
from sklearn.impute import SimpleImputer
from sklearn.linear_model import LogisticRegression
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import OneHotEncoder, StandardScaler

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
VERSIONS = ("gradient trees v3", "logistic regression v1")
OPSET = {"": 18, "ai.onnx.ml": 3}


def inputs(table: pa.Table) -> np.ndarray:
    """Model inputs as an object array, shape (rows, 13): numbers, then text."""
    numbers = [table.column(name).to_numpy(zero_copy_only=False).astype(np.float32).astype(object) for name in NUMBERS]
    texts = [table.column(name).to_numpy(zero_copy_only=False).astype(object) for name in TEXTS]
    return np.column_stack([*numbers, *texts])


def _prepared(scaled: bool) -> ColumnTransformer:
    fill = SimpleImputer(strategy="median")
    return ColumnTransformer(
        [
            ("numbers", make_pipeline(fill, StandardScaler()) if scaled else fill, list(range(len(NUMBERS)))),
            (
                "texts",
                OneHotEncoder(handle_unknown="ignore", sparse_output=False),
                list(range(len(NUMBERS), len(NUMBERS) + len(TEXTS))),
            ),
        ]
    )


def train(table: pa.Table) -> dict[str, bytes]:
    """Fit each model version on the training split; ONNX bytes by version name."""
    training = table.filter(pc.equal(table.column("split"), "training"))
    x, y = inputs(training), training.column("claim_valid").to_numpy(zero_copy_only=False).astype(str)
    models = {
        VERSIONS[0]: make_pipeline(
            _prepared(scaled=False),
            GradientBoostingClassifier(
                n_estimators=140, max_depth=4, learning_rate=0.08, subsample=0.8, max_features=0.5, random_state=7
            ),
        ),
        VERSIONS[1]: make_pipeline(_prepared(scaled=True), LogisticRegression(max_iter=2_000, C=0.5)),
    }
    kinds = [(name, FloatTensorType([None, 1])) for name in NUMBERS]
    kinds += [(name, StringTensorType([None, 1])) for name in TEXTS]
    out = {}
    for name, model in models.items():
        model.fit(x, y)
        converted = convert_sklearn(
            model, initial_types=kinds, options={id(model.steps[-1][1]): {"zipmap": False}}, target_opset=OPSET
        )
        out[name] = converted.SerializeToString()
    return out
