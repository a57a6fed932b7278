"""Values that hardly any row holds: what is called exact is the Shapley value of the whole model, for them too."""

from __future__ import annotations

import io

import numpy as np
import onnx
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from onnx import TensorProto, helper
from onnx.numpy_helper import from_array
from skl2onnx import convert_sklearn
from skl2onnx.common.data_types import FloatTensorType, StringTensorType
from sklearn.compose import ColumnTransformer
from sklearn.ensemble import GradientBoostingClassifier
from sklearn.linear_model import LogisticRegression
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import KBinsDiscretizer, OneHotEncoder, OrdinalEncoder, PolynomialFeatures, StandardScaler
from tests.core.systems import plain_spec

from zerotilt.core.contributions.enumeration import enumerate_coalitions
from zerotilt.core.contributions.explain import explain
from zerotilt.core.contributions.game import background
from zerotilt.core.contributions.stream import explain_stream
from zerotilt.core.meaning import Task
from zerotilt.core.output import log_odds
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.response.curves import all_curves
from zerotilt.core.table import from_arrays
from zerotilt.core.work import Work

ROWS = 6_000


def columns(seed: int) -> dict[str, np.ndarray]:
    """A level and a number that stand in one row, a flag that stands in 12."""
    rng = np.random.default_rng(seed)
    level = rng.choice(np.array(["app", "counter", "telephone"]), ROWS).astype(object)
    level[ROWS - 7] = "by rider"
    fine = np.round(rng.normal(size=ROWS), 6)
    fine[ROWS - 3] = 77.0
    flag = np.zeros(ROWS)
    flag[rng.choice(ROWS, 12, replace=False)] = 1.0
    return {"level": level.astype(str), "fine": fine, "weight": rng.normal(size=ROWS), "flag": flag}


def piped(estimator, numbers, seed: int) -> bytes:
    held = columns(seed)
    rows = np.column_stack([np.array(held["level"], object), *(held[name].astype(object) for name in list(held)[1:])])
    worth = (held["level"] == "by rider") * 6 + (held["fine"] > 50) * 5 + held["weight"] + 3 * held["flag"]
    outcome = (worth + np.random.default_rng(seed).normal(size=ROWS) > 0).astype(int)
    encode = ColumnTransformer(
        [("level", OneHotEncoder(handle_unknown="ignore", sparse_output=False), [0]), ("numbers", numbers, [1, 2, 3])]
    )
    whole = make_pipeline(encode, estimator).fit(rows, outcome)
    kinds = [("level", StringTensorType([None, 1]))] + [
        (name, FloatTensorType([None, 1])) for name in ("fine", "weight", "flag")
    ]
    options = {id(estimator): {"zipmap": False}}
    return convert_sklearn(
        whole, initial_types=kinds, options=options, target_opset={"": 18, "ai.onnx.ml": 3}
    ).SerializeToString()


def graph_of(nodes, tensors, width: int) -> bytes:
    """A model over weight, fine and flag, written by hand: what ``nodes`` make of them, then a linear operator."""
    inputs = [helper.make_tensor_value_info(name, TensorProto.FLOAT, [None, 1]) for name in ("weight", "fine", "flag")]
    last = [
        helper.make_node("Gemm", ["encoded", "weights", "intercept"], ["sum"]),
        helper.make_node("Sigmoid", ["sum"], ["probability"]),
    ]
    weights = np.linspace(1, 6, width, dtype=np.float32)[:, None]
    graph = helper.make_graph(
        [*nodes, *last],
        "by hand",
        inputs,
        [helper.make_tensor_value_info("probability", TensorProto.FLOAT, [None, 1])],
        [from_array(weights, "weights"), from_array(np.array([-1], np.float32), "intercept"), *tensors],
    )
    return helper.make_model(
        graph, opset_imports=[helper.make_opsetid("", 18), helper.make_opsetid("ai.onnx.ml", 3)], ir_version=8
    ).SerializeToString()


RARE_NUMBER = graph_of(
    [
        helper.make_node("Equal", ["fine", "far"], ["is far"]),
        helper.make_node("Cast", ["is far"], ["farness"], to=TensorProto.FLOAT),
        helper.make_node("Concat", ["weight", "farness", "flag"], ["encoded"], axis=1),
    ],
    [from_array(np.array([[77.0]], np.float32), "far")],
    3,
)
PRODUCT = graph_of(
    [
        helper.make_node("Mul", ["weight", "flag"], ["product"]),
        helper.make_node("Concat", ["weight", "product", "fine"], ["encoded"], axis=1),
    ],
    [],
    3,
)
NORMED = graph_of(
    [
        helper.make_node("Concat", ["weight", "fine", "flag"], ["together"], axis=1),
        helper.make_node("Normalizer", ["together"], ["encoded"], domain="ai.onnx.ml", norm="L2"),
    ],
    [],
    3,
)
ACROSS_ROWS = graph_of(
    [
        helper.make_node("ReduceMax", ["weight", "first axis"], ["highest"], keepdims=1),
        helper.make_node("Sub", ["weight", "highest"], ["below"]),
        helper.make_node("Concat", ["below", "fine", "flag"], ["encoded"], axis=1),
    ],
    [from_array(np.array([0], np.int64), "first axis")],
    3,
)
GRAPHS = {"a rare number": RARE_NUMBER, "a product with a rare flag": PRODUCT, "normed rows": NORMED}


def subject_of(model: bytes, seed: int, names=("weight", "fine", "flag")):
    held = columns(seed)
    table = from_arrays({name: held[name] for name in names} | {"y": np.arange(ROWS) % 2})
    return plain_spec(table, model, Task.binary, "log-odds", () if "level" in names else ("1",))


def as_a_whole(subject):
    """The model asked about whole raw rows, nothing of it read."""
    return lambda rows: log_odds(subject.model.outputs(rows))[:, 0]


def hard(subject) -> Frame:
    flagged = int(np.flatnonzero(subject.frame["flag"])[0])
    return subject.frame.take(np.array([ROWS - 7, ROWS - 3, flagged, 5]))


def compared(subject, cases: Frame):
    others = background(subject.frame.take(np.r_[0:150, ROWS - 8 : ROWS]))
    found = explain(subject, cases, 1, Work(), reference=others)
    return found, enumerate_coalitions(as_a_whole(subject), cases, others)


PIPES = {
    "linear": lambda: (LogisticRegression(C=0.3), StandardScaler()),
    "trees": lambda: (GradientBoostingClassifier(n_estimators=40, random_state=1), StandardScaler()),
    "bins": lambda: (LogisticRegression(C=0.3), KBinsDiscretizer(30, encode="onehot-dense")),
    "codes": lambda: (GradientBoostingClassifier(n_estimators=40, random_state=1), OrdinalEncoder()),
    "products": lambda: (LogisticRegression(C=0.3, max_iter=500), PolynomialFeatures(2, interaction_only=True)),
}


@pytest.mark.parametrize("seed", [1, 2])
@pytest.mark.parametrize("name", PIPES)
def test_levels_and_numbers_of_one_row_are_explained_as_the_whole_model_says(name, seed):
    subject = subject_of(piped(*PIPES[name](), seed), seed, ("level", "fine", "weight", "flag"))
    cases = hard(subject)
    cases = Frame(
        {key: np.concatenate([values, values[3:4]]) for key, values in cases.columns.items()}
    )  # and one more, of a level that nobody has seen
    cases = cases.replace("level", np.array([*cases["level"][:4], "by balloon"], dtype=object))
    found, exact = compared(subject, cases)
    assert found.method == (
        "enumeration" if name == "products" else "linear" if name in ("linear", "bins") else "trees"
    )
    reach = np.ptp(subject.own_output)
    assert np.abs(found.values - exact).max() <= 2e-5 * reach
    assert np.abs(found.output - as_a_whole(subject)(cases)).max() <= 2e-5 * reach


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("name", GRAPHS)
def test_graphs_written_by_hand_are_explained_as_the_whole_model_says(name, seed):
    subject = subject_of(GRAPHS[name], seed)
    structure, why = subject.predictions.structure
    if name == "a rare number":
        assert structure is not None, why
        assert structure.owner.tolist() == [0, 1, 2]
    else:
        assert structure is None
        assert "mixes" in why
    found, exact = compared(subject, hard(subject))
    assert np.abs(found.values - exact).max() <= 2e-5 * np.ptp(subject.own_output)


def test_rows_encoded_by_the_help_of_others_are_not_taken_for_a_sum():
    structure, why = subject_of(ACROSS_ROWS, 1).predictions.structure
    assert structure is None
    assert "other rows" in why


def test_a_piped_table_adds_up_in_every_row_that_holds_something_rare(tmp_path):
    subject = subject_of(piped(*PIPES["trees"](), 3), 3, ("level", "fine", "weight", "flag"))
    cases = hard(subject)
    source, sink = io.BytesIO(), io.BytesIO()
    pq.write_table(pa.table({name: cases[name] for name in cases.names}), source)
    told = explain_stream(subject, source, sink, 1, Work())
    written = pq.read_table(sink)
    added = told.baseline + sum(written[name].to_numpy() for name in subject.model.inputs)
    assert added == pytest.approx(written["output"].to_numpy(), abs=1e-9)
    assert added == pytest.approx(as_a_whole(subject)(cases), abs=1e-4)
    assert told.sampled == 0


def test_curves_of_a_rare_level_are_the_models_own():
    subject = subject_of(piped(*PIPES["trees"](), 4), 4, ("level", "fine", "weight", "flag"))
    rows = subject.frame.take(slice(0, 20))
    points = np.array(["by rider", "app", "by balloon"], dtype=object)
    found = all_curves(subject, rows, {"level": points})["level"]
    for g, point in enumerate(points):
        asked = as_a_whole(subject)(rows.replace("level", np.full(20, point, dtype=object)))
        assert np.abs(found[:, g] - asked).max() <= 1e-4


def test_a_row_in_which_the_sum_is_not_the_model_is_sampled_and_says_so():
    """A part after the sum that shows in one row only: the sum holds for every row compared with, not for that case."""
    model = onnx.load_from_string(RARE_NUMBER)
    model.graph.node[-1].input[0] = "kept"
    model.graph.node.insert(len(model.graph.node) - 1, helper.make_node("Clip", ["sum", "", "most"], ["kept"]))
    model.graph.initializer.append(from_array(np.array(9.0, np.float32), "most"))
    subject = subject_of(model.SerializeToString(), 1)
    assert subject.predictions.structure[0] is not None
    plain = explain(subject, subject.frame.take(slice(0, 1)), 1, Work())
    assert plain.errors is None and "the values are exact" in plain.why
    case = subject.frame.take(slice(0, 1)).replace("weight", np.array([11.0]))
    found = explain(subject, case, 1, Work())
    assert found.method == "sampled"
    assert "is sampled instead" in found.why and "not its own output" in found.why
    assert found.gap < 1e-6
    exact = enumerate_coalitions(as_a_whole(subject), case, background(subject.frame))
    assert (np.abs(found.values - exact) <= 4 * found.errors + 1e-6).all()
