"""Models of every kind that is read, each made by its own library, over one small table of mixed columns."""

from __future__ import annotations

import warnings
from collections.abc import Callable
from functools import lru_cache

import numpy as np
from lightgbm import LGBMClassifier, LGBMRegressor
from onnxmltools import convert_lightgbm, convert_xgboost
from onnxmltools.convert.common.data_types import FloatTensorType as ToolsFloat
from skl2onnx import convert_sklearn
from skl2onnx.common.data_types import FloatTensorType, StringTensorType
from sklearn.compose import ColumnTransformer
from sklearn.ensemble import (
    AdaBoostClassifier,
    AdaBoostRegressor,
    BaggingClassifier,
    BaggingRegressor,
    ExtraTreesClassifier,
    ExtraTreesRegressor,
    GradientBoostingClassifier,
    GradientBoostingRegressor,
    HistGradientBoostingClassifier,
    HistGradientBoostingRegressor,
    RandomForestClassifier,
    RandomForestRegressor,
)
from sklearn.impute import SimpleImputer
from sklearn.linear_model import LinearRegression, LogisticRegression, Ridge
from sklearn.naive_bayes import GaussianNB
from sklearn.neural_network import MLPClassifier, MLPRegressor
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import OneHotEncoder, OrdinalEncoder, StandardScaler, TargetEncoder
from sklearn.tree import DecisionTreeClassifier, DecisionTreeRegressor
from xgboost import XGBClassifier, XGBRegressor

from zerotilt import convert
from zerotilt.core.meaning import ColumnSpec, Context, Kind, Role, Spec, Task
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays

convert.register()
ROWS = 500
NUMBERS = ("weight", "value", "days", "scans")
TEXTS = ("grade", "channel")
BINARY, SEVERAL, REGRESSION = Task.binary, Task.several, Task.regression


@lru_cache
def data() -> tuple[np.ndarray, np.ndarray, dict[Task, np.ndarray]]:
    """Numbers (rows, 4) with whole-numbered columns that lie on splits, texts (rows, 2), and an outcome of each kind."""
    rng = np.random.default_rng(5)
    numbers = rng.normal(size=(ROWS, 4)).astype(np.float32)
    numbers[:, 2] = rng.integers(0, 6, ROWS)
    numbers[:, 3] = rng.poisson(1.5, ROWS)
    texts = np.column_stack([rng.choice(list("ABCD"), ROWS), rng.choice(["app", "counter", "telephone"], ROWS)]).astype(
        object
    )
    worth = (
        numbers[:, 0]
        + (texts[:, 0] > "B") * numbers[:, 1]
        - 0.5 * numbers[:, 3]
        + (texts[:, 1] == "app")
        + rng.normal(size=ROWS) / 2
    )
    return (
        numbers,
        texts,
        {
            BINARY: (worth > 0.2).astype(int),
            SEVERAL: np.digitize(worth, [-0.6, 0.9]),
            REGRESSION: worth.astype(np.float32) * 3 + 10,
        },
    )


def subject_of(
    model: bytes, columns: dict[str, np.ndarray], task: Task, scale: str = "probability", grouped: str = "", **more
) -> Subject:
    table = from_arrays(columns | {"y": data()[2][task]})
    kinds = {name: Kind.numeric if table.is_number(name) else Kind.categorical for name in table.names}
    spec = Spec(
        columns=tuple(
            ColumnSpec(
                name=name,
                kind=kinds[name],
                role=Role.outcome if name == "y" else Role.feature,
                grouped=name == grouped,
            )
            for name in table.names
        ),
        task=task,
        event="1" if task is BINARY else "",
        **more,
    )
    return Subject(spec, table, OnnxPredictor(model, table, spec), Context(rows="all", output=scale))


def numbers_only(estimator, task: Task, missing: bool = False) -> tuple[bytes, dict[str, np.ndarray]]:
    """A model of one wide input of numbers."""
    numbers, _, outcome = data()
    numbers = numbers.copy()
    if missing:
        numbers[::7, 1] = np.nan
        numbers[3::11, 2] = np.nan
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        estimator.fit(numbers, outcome[task])
    kind = type(estimator).__name__
    if kind.startswith("XGB"):
        found = convert_xgboost(estimator, initial_types=[("x", ToolsFloat([None, 4]))])
    elif kind.startswith("LGBM"):
        options = {"zipmap": False} if task is not REGRESSION else {}
        found = convert_lightgbm(estimator, initial_types=[("x", ToolsFloat([None, 4]))], **options)
    else:
        options = {id(estimator): {"zipmap": False}} if task is not REGRESSION else None
        found = convert_sklearn(estimator, initial_types=[("x", FloatTensorType([None, 4]))], options=options)
    return found.SerializeToString(), _columns(numbers)


def coded(estimator, task: Task) -> tuple[bytes, dict[str, np.ndarray]]:
    """A model that splits on levels given as numbers: the two text columns as codes, with some missing."""
    numbers, texts, outcome = data()
    levels = np.column_stack([np.unique(texts[:, j], return_inverse=True)[1] for j in range(2)]).astype(np.float32)
    levels[::9, 0] = np.nan
    rows = np.column_stack([numbers[:, :2], levels])
    kind = type(estimator).__name__
    columns = {name: rows[:, j].astype(float) for j, name in enumerate(("weight", "value", "grade", "channel"))}
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        if kind.startswith("LGBM"):
            estimator.fit(rows, outcome[task], categorical_feature=[2, 3])
            found = convert_lightgbm(estimator, initial_types=[("x", ToolsFloat([None, 4]))], zipmap=False)
        elif kind.startswith("XGB"):
            estimator.set_params(feature_types=["q", "q", "c", "c"], enable_categorical=True)
            estimator.fit(rows, outcome[task])
            found = convert_xgboost(estimator, initial_types=[("x", ToolsFloat([None, 4]))])
        else:
            estimator.fit(rows, outcome[task])
            options = {id(estimator): {"zipmap": False}} if task is not REGRESSION else None
            found = convert_sklearn(estimator, initial_types=[("x", FloatTensorType([None, 4]))], options=options)
    return found.SerializeToString(), columns


def piped(estimator, task: Task, encoder=None, scaled: bool = False) -> tuple[bytes, dict[str, np.ndarray]]:
    """A pipeline of imputer, scaler and encoder over one input a column."""
    numbers, texts, outcome = data()
    numbers = numbers.copy()
    numbers[::6, 0] = np.nan
    rows = np.column_stack([numbers.astype(object), texts])
    fill = SimpleImputer(strategy="median")
    encoder = encoder or OneHotEncoder(handle_unknown="ignore", sparse_output=False)
    prepared = ColumnTransformer(
        [
            ("numbers", make_pipeline(fill, StandardScaler()) if scaled else fill, [0, 1, 2, 3]),
            ("texts", encoder, [4, 5]),
        ]
    )
    whole = make_pipeline(prepared, estimator)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        whole.fit(rows, outcome[task])
    kinds = [(name, FloatTensorType([None, 1])) for name in NUMBERS] + [
        (name, StringTensorType([None, 1])) for name in TEXTS
    ]
    options = {id(estimator): {"zipmap": False}} if task is not REGRESSION else None
    found = convert_sklearn(whole, initial_types=kinds, options=options, target_opset={"": 18, "ai.onnx.ml": 3})
    return found.SerializeToString(), _columns(numbers) | {
        name: texts[:, j].astype(str) for j, name in enumerate(TEXTS)
    }


def _columns(numbers: np.ndarray) -> dict[str, np.ndarray]:
    return {name: numbers[:, j].astype(float) for j, name in enumerate(NUMBERS)}


Maker = Callable[[], tuple[bytes, dict[str, np.ndarray]]]
TREES: dict[str, tuple[Task, Maker]] = {
    "decision tree": (BINARY, lambda: numbers_only(DecisionTreeClassifier(max_depth=4), BINARY)),
    "decision tree, three classes": (SEVERAL, lambda: numbers_only(DecisionTreeClassifier(max_depth=4), SEVERAL)),
    "decision tree of a number": (REGRESSION, lambda: numbers_only(DecisionTreeRegressor(max_depth=4), REGRESSION)),
    "random forest": (BINARY, lambda: piped(RandomForestClassifier(12, random_state=1), BINARY)),
    "random forest, three classes": (
        SEVERAL,
        lambda: piped(RandomForestClassifier(8, max_depth=6, random_state=1), SEVERAL),
    ),
    "random forest of a number": (
        REGRESSION,
        lambda: piped(RandomForestRegressor(8, max_depth=6, random_state=1), REGRESSION),
    ),
    "extra trees": (BINARY, lambda: piped(ExtraTreesClassifier(10, max_depth=7, random_state=1), BINARY)),
    "extra trees of a number": (
        REGRESSION,
        lambda: numbers_only(ExtraTreesRegressor(10, max_depth=7, random_state=1), REGRESSION),
    ),
    "gradient boosting": (BINARY, lambda: piped(GradientBoostingClassifier(n_estimators=25, random_state=1), BINARY)),
    "gradient boosting, three classes": (
        SEVERAL,
        lambda: piped(GradientBoostingClassifier(n_estimators=12, random_state=1), SEVERAL),
    ),
    "gradient boosting of a number": (
        REGRESSION,
        lambda: piped(GradientBoostingRegressor(n_estimators=25, random_state=1), REGRESSION),
    ),
    "histogram gradient boosting": (
        BINARY,
        lambda: numbers_only(HistGradientBoostingClassifier(max_iter=20, max_leaf_nodes=9), BINARY, missing=True),
    ),
    "histogram gradient boosting, three classes": (
        SEVERAL,
        lambda: numbers_only(HistGradientBoostingClassifier(max_iter=8, max_leaf_nodes=9), SEVERAL, missing=True),
    ),
    "histogram gradient boosting of a number": (
        REGRESSION,
        lambda: numbers_only(HistGradientBoostingRegressor(max_iter=20), REGRESSION, missing=True),
    ),
    "histogram gradient boosting, categorical": (
        BINARY,
        lambda: coded(HistGradientBoostingClassifier(max_iter=15, categorical_features=[2, 3]), BINARY),
    ),
    "boosting by reweighting": (BINARY, lambda: piped(AdaBoostClassifier(n_estimators=12, random_state=1), BINARY)),
    "boosting by reweighting, deeper, three classes": (
        SEVERAL,
        lambda: numbers_only(
            AdaBoostClassifier(DecisionTreeClassifier(max_depth=3), n_estimators=8, random_state=1), SEVERAL
        ),
    ),
    "bagging": (
        BINARY,
        lambda: numbers_only(
            BaggingClassifier(DecisionTreeClassifier(max_depth=5), n_estimators=8, max_features=0.8, random_state=1),
            BINARY,
        ),
    ),
    "bagging of a number": (
        REGRESSION,
        lambda: numbers_only(
            BaggingRegressor(DecisionTreeRegressor(max_depth=5), n_estimators=8, random_state=1), REGRESSION
        ),
    ),
    "ordinal codes": (
        BINARY,
        lambda: piped(GradientBoostingClassifier(n_estimators=10, random_state=1), BINARY, OrdinalEncoder()),
    ),
    "XGBoost": (BINARY, lambda: numbers_only(XGBClassifier(n_estimators=20, max_depth=4), BINARY, missing=True)),
    "XGBoost, three classes": (
        SEVERAL,
        lambda: numbers_only(XGBClassifier(n_estimators=8, max_depth=3), SEVERAL, missing=True),
    ),
    "XGBoost of a number": (
        REGRESSION,
        lambda: numbers_only(XGBRegressor(n_estimators=20, max_depth=4), REGRESSION, missing=True),
    ),
    "XGBoost, categorical": (BINARY, lambda: coded(XGBClassifier(n_estimators=15, max_depth=4), BINARY)),
    "LightGBM": (
        BINARY,
        lambda: numbers_only(LGBMClassifier(n_estimators=20, num_leaves=12, verbose=-1), BINARY, missing=True),
    ),
    "LightGBM, three classes": (
        SEVERAL,
        lambda: numbers_only(LGBMClassifier(n_estimators=8, num_leaves=8, verbose=-1), SEVERAL, missing=True),
    ),
    "LightGBM of a number": (
        REGRESSION,
        lambda: numbers_only(LGBMRegressor(n_estimators=20, num_leaves=12, verbose=-1), REGRESSION, missing=True),
    ),
    "LightGBM, categorical": (
        BINARY,
        lambda: coded(LGBMClassifier(n_estimators=15, num_leaves=8, min_data_per_group=5, verbose=-1), BINARY),
    ),
}
LINEAR: dict[str, tuple[Task, Maker]] = {
    "logistic regression": (BINARY, lambda: piped(LogisticRegression(), BINARY, scaled=True)),
    "logistic regression, three classes": (SEVERAL, lambda: piped(LogisticRegression(), SEVERAL, scaled=True)),
    "linear regression": (REGRESSION, lambda: piped(LinearRegression(), REGRESSION, scaled=True)),
    "ridge, target encoding": (REGRESSION, lambda: piped(Ridge(), REGRESSION, TargetEncoder(target_type="continuous"))),
}
OTHERS: dict[str, tuple[Task, Maker]] = {
    "naive Bayes": (BINARY, lambda: numbers_only(GaussianNB(), BINARY)),
    "neural network": (BINARY, lambda: piped(MLPClassifier((6,), random_state=1, max_iter=300), BINARY, scaled=True)),
    "neural network, three classes": (
        SEVERAL,
        lambda: numbers_only(MLPClassifier((6,), random_state=1, max_iter=300), SEVERAL),
    ),
    "neural network of a number": (
        REGRESSION,
        lambda: numbers_only(MLPRegressor(hidden_layer_sizes=(6,), random_state=1, max_iter=300), REGRESSION),
    ),
    "boosting by reweighting of a number": (
        REGRESSION,
        lambda: numbers_only(AdaBoostRegressor(n_estimators=6, random_state=1), REGRESSION),
    ),
}


@lru_cache(maxsize=64)
def made(name: str) -> tuple[Task, bytes, dict[str, np.ndarray]]:
    task, maker = (TREES | LINEAR | OTHERS)[name]
    return task, *maker()
