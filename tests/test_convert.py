"""Histogram gradient boosting as ONNX: the written trees are the estimator."""

import numpy as np
import onnxruntime
import pytest
from skl2onnx import to_onnx
from sklearn.ensemble import HistGradientBoostingClassifier, HistGradientBoostingRegressor

from zerotilt import convert

rng = np.random.default_rng(3)
ROWS = np.column_stack([rng.normal(size=(600, 2)), rng.integers(0, 5, 600), rng.integers(0, 40, 600)]).astype(
    np.float32
)
ROWS[rng.random(ROWS.shape) < 0.1] = np.nan
WORTH = np.nan_to_num(ROWS[:, 0]) + (ROWS[:, 2] == 3) - (ROWS[:, 3] % 7 == 0) + rng.normal(size=600) / 3


@pytest.mark.parametrize("categorical", [None, [2, 3]])
@pytest.mark.parametrize("kind", ["two classes", "named classes", "three classes", "number", "counts"])
def test_written_trees_give_what_the_estimator_gives(kind, categorical):
    convert.register()
    how = {"max_iter": 15, "categorical_features": categorical}
    if kind == "number":
        model = HistGradientBoostingRegressor(**how).fit(ROWS, WORTH)
    elif kind == "counts":
        model = HistGradientBoostingRegressor(loss="poisson", **how).fit(ROWS, np.exp(WORTH))
    else:
        classes = {
            "two classes": WORTH > 0,
            "named classes": np.where(WORTH > 0, "yes", "no"),
            "three classes": np.digitize(WORTH, [-0.5, 0.5]),
        }
        model = HistGradientBoostingClassifier(**how).fit(ROWS, classes[kind])
    options = {"zipmap": False} if hasattr(model, "classes_") else None
    written = to_onnx(model, ROWS[:1], options=options).SerializeToString()
    asked = ROWS.copy()
    asked[:20, 3] = 99  # a level that was never seen
    found = onnxruntime.InferenceSession(written).run(None, {"X": asked})
    expected = model.predict_proba(asked) if hasattr(model, "classes_") else model.predict(asked)[:, None]
    assert found[-1] == pytest.approx(expected, rel=1e-5, abs=1e-6)


def test_text_levels_are_refused_before_anything_is_written():
    import pandas as pd

    convert.register()
    frame = pd.DataFrame({"x": ROWS[:, 0], "c": pd.Categorical(np.where(WORTH > 0, "up", "down"))})
    model = HistGradientBoostingClassifier(max_iter=3, categorical_features="from_dtype").fit(frame, WORTH > 0)
    with pytest.raises(ValueError, match="holds text"):
        to_onnx(model, ROWS[:1, :2], options={"zipmap": False})
