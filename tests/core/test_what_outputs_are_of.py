"""Which probability is of which class, whatever the file says of it: read from the file's own labels, or asked."""

from __future__ import annotations

import hashlib
import warnings

import numpy as np
import onnx
import pytest
from onnx import helper
from skl2onnx import convert_sklearn
from skl2onnx.common.data_types import FloatTensorType, StringTensorType
from sklearn.calibration import CalibratedClassifierCV
from sklearn.ensemble import (
    AdaBoostClassifier,
    BaggingClassifier,
    ExtraTreesClassifier,
    GradientBoostingClassifier,
    RandomForestClassifier,
    StackingClassifier,
    VotingClassifier,
)
from sklearn.linear_model import LogisticRegression
from sklearn.multiclass import OneVsRestClassifier
from sklearn.naive_bayes import BernoulliNB, GaussianNB
from sklearn.neighbors import KNeighborsClassifier
from sklearn.neural_network import MLPClassifier
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import OneHotEncoder, StandardScaler
from sklearn.svm import SVC
from sklearn.tree import DecisionTreeClassifier
from tests.core.systems import said

from zerotilt.core.groups.performance import PerformanceSettings, perform
from zerotilt.core.meaning import ColumnSpec, Context, Kind, ModelReading, Role, Spec, Task
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays
from zerotilt.core.work import Work

ROWS, WIDTH = 400, 4
ESTIMATORS = {
    "logistic regression": lambda: LogisticRegression(),
    "one tree": lambda: DecisionTreeClassifier(max_depth=3),
    "forest": lambda: RandomForestClassifier(8, max_depth=4, random_state=1),
    "extremely randomised trees": lambda: ExtraTreesClassifier(8, max_depth=4, random_state=1),
    "gradient boosting": lambda: GradientBoostingClassifier(n_estimators=10, random_state=1),
    "boosting by reweighting": lambda: AdaBoostClassifier(n_estimators=8, random_state=1),
    "bagging": lambda: BaggingClassifier(DecisionTreeClassifier(max_depth=3), 6, random_state=1),
    "nearest neighbours": lambda: KNeighborsClassifier(15),
    "naive Bayes": lambda: GaussianNB(),
    "Bernoulli Bayes": lambda: BernoulliNB(),
    "network": lambda: MLPClassifier((5,), max_iter=300, random_state=1),
    "vector machine": lambda: SVC(probability=True, random_state=1),
    "voting": lambda: VotingClassifier(
        [("a", LogisticRegression()), ("b", GaussianNB())], voting="soft", flatten_transform=False
    ),
    "stacking": lambda: StackingClassifier([("a", LogisticRegression()), ("b", DecisionTreeClassifier(max_depth=3))]),
    "one against the rest": lambda: OneVsRestClassifier(LogisticRegression()),
    "calibrated": lambda: CalibratedClassifierCV(GaussianNB(), cv=3),
    "scaled": lambda: make_pipeline(StandardScaler(), LogisticRegression()),
}


def data(labels: tuple, seed: int = 0):
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(ROWS, WIDTH)).astype(np.float32)
    worth = x[:, 0] - 0.7 * x[:, 1] + 0.4 * rng.normal(size=ROWS)
    place = (worth > 0).astype(int) if len(labels) == 2 else np.digitize(worth, [-0.5, 0.8])
    return x, np.array(labels)[place]


def exported(estimator, x, y, zipmap: bool = False) -> bytes:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        estimator.fit(x, y)
        last = estimator[-1] if hasattr(estimator, "steps") else estimator
        return convert_sklearn(
            estimator,
            initial_types=[("x", FloatTensorType([None, x.shape[1]]))],
            options={id(last): {"zipmap": zipmap}},
            target_opset={"": 18, "ai.onnx.ml": 3},
        ).SerializeToString()


def subject_of(model: bytes, x, y, task: Task, event: str = "", order: tuple = (), names=None, **more) -> Subject:
    names = names or [f"x{j}" for j in range(x.shape[1])]
    table = from_arrays({name: x[:, j].astype(float) for j, name in enumerate(names)} | {"y": y.astype(str)})
    columns = [ColumnSpec(name=name, kind=Kind.numeric, role=Role.feature) for name in names]
    columns.append(
        ColumnSpec(name="y", kind=Kind.ordered if order else Kind.categorical, role=Role.outcome, order=order)
    )
    spec = Spec(columns=tuple(columns), task=task, event=event, **more)
    return Subject(spec, table, OnnxPredictor(model, table, spec), Context(rows="all"))


@pytest.mark.parametrize("labels", [(0, 1), ("no", "yes"), ("valid", "invalid"), (7, 3)])
@pytest.mark.parametrize("name", ESTIMATORS)
def test_the_events_probability_is_the_events(name, labels):
    x, y = data(labels)
    estimator = ESTIMATORS[name]()
    model = exported(estimator, x, y)
    for event in labels:
        subject = subject_of(model, x, y, Task.binary, str(event))
        expected = estimator.predict_proba(x)[:, list(estimator.classes_).index(event)]
        assert np.abs(subject.predictions.scores - expected).max() < 1e-4, event


@pytest.mark.parametrize("task", [Task.several, Task.ordered])
@pytest.mark.parametrize(
    "name", ["forest", "naive Bayes", "nearest neighbours", "network", "voting", "bagging", "stacking"]
)
def test_classes_keep_their_own_probabilities_also_where_their_order_is_another(name, task):
    x, y = data(("mild", "bad", "awful"))
    estimator = ESTIMATORS[name]()
    model = exported(estimator, x, y)
    order = ("mild", "bad", "awful") if task is Task.ordered else ()
    subject = subject_of(model, x, y, task, order=order)
    assert subject.classes == (order or ("awful", "bad", "mild"))
    proba = estimator.predict_proba(x)
    for c, label in enumerate(subject.classes):
        assert np.abs(subject.predictions.outputs[:, c] - proba[:, list(estimator.classes_).index(label)]).max() < 1e-4


def without_labels(model: bytes, keep_one: bool = False) -> bytes:
    """The same file with no label output; with ``keep_one`` only the last probability."""
    made = onnx.load_from_string(model)
    kept = [one for one in made.graph.output if "label" not in one.name]
    del made.graph.output[:]
    made.graph.output.extend(kept)
    for node in made.graph.node:  # what the operator itself says is taken away too
        if node.op_type in ("LinearClassifier", "TreeEnsembleClassifier"):
            name = node.output[1]
            node.output[1] = "inner"
            made.graph.node.append(helper.make_node("Add", ["inner", "nothing"], [name]))
            made.graph.initializer.append(onnx.numpy_helper.from_array(np.zeros(1, np.float32), "nothing"))
            break
    return made.SerializeToString()


@pytest.mark.parametrize("event", ["yes", "no"])
def test_where_the_file_does_not_tell_it_is_asked_with_how_each_reading_would_do(event):
    x, y = data(("no", "yes"))
    estimator = RandomForestClassifier(8, max_depth=4, random_state=1)
    model = without_labels(exported(estimator, x, y))
    with pytest.raises(Refused, match="does not say which of its outputs") as caught:
        subject_of(model, x, y, Task.binary, event)
    best, other = caught.value.choices
    assert best.fit > 0.9 > 0.1 > other.fit
    assert "accuracy" in best.detail and "AUC" in best.detail
    subject = subject_of(model, x, y, Task.binary, event, model_readings=(best.reading,))
    expected = estimator.predict_proba(x)[:, list(estimator.classes_).index(event)]
    assert np.abs(subject.predictions.scores - expected).max() < 1e-6
    assert "were said to be of" in subject.model.notes[-1]
    turned = subject_of(model, x, y, Task.binary, event, model_readings=(other.reading,))
    assert np.abs(turned.predictions.scores - (1 - expected)).max() < 1e-6  # a person may say so all the same


def test_classes_that_the_file_does_not_name_are_asked_for_with_the_best_order_first():
    x, y = data(("mild", "bad", "awful"))
    estimator = RandomForestClassifier(8, max_depth=4, random_state=1)
    model = without_labels(exported(estimator, x, y))
    with pytest.raises(Refused, match="which class each of its columns is of") as caught:
        subject_of(model, x, y, Task.ordered, order=("mild", "bad", "awful"))
    assert caught.value.choices[0].reading.outputs == ("awful", "bad", "mild")
    subject = subject_of(
        model, x, y, Task.ordered, order=("mild", "bad", "awful"), model_readings=(caught.value.choices[0].reading,)
    )
    assert (subject.decisions.taken == subject.rows.outcome).mean() > 0.8


def test_numbers_for_text_classes_are_asked_for_and_for_an_event_read_where_that_is_plain():
    x, codes = data((0, 1, 2))
    model = exported(RandomForestClassifier(8, max_depth=4, random_state=1), x, codes)
    y = np.array(["mild", "bad", "awful"])[codes]
    with pytest.raises(Refused, match="which class each"):
        subject_of(model, x, y, Task.several)
    x, codes = data((0, 1))
    model = exported(GaussianNB(), x, codes)
    proba = GaussianNB().fit(x, codes).predict_proba(x)
    for event, column in (("yes", 1), ("no", 0)):
        subject = subject_of(model, x, np.array(["no", "yes"])[codes], Task.binary, event)
        assert np.abs(subject.predictions.scores - proba[:, column]).max() < 1e-4
    with pytest.raises(Refused, match="does not say which"):
        subject_of(model, x, np.array(["harbour", "uplands"])[codes], Task.binary, "uplands")


def test_a_class_that_is_never_the_likeliest_is_told_by_what_is_left():
    rng = np.random.default_rng(0)
    x = rng.normal(size=(ROWS, WIDTH)).astype(np.float32)
    y = np.where(rng.random(ROWS) < 0.04, "fraud", "fine")
    estimator = MLPClassifier((3,), alpha=100.0, max_iter=300, random_state=1)
    model = exported(estimator, x, y)
    assert set(estimator.predict(x)) == {"fine"}
    subject = subject_of(model, x, y, Task.binary, "fraud")
    assert subject.predictions.scores.max() < 0.5


@pytest.mark.parametrize("seed", range(3))
def test_shuffled_columns_of_one_tensor_are_noticed_and_the_right_order_is_proposed(seed):
    x, y = data((0, 1), seed)
    model = exported(LogisticRegression(), x, y)
    order = np.random.default_rng(seed + 10).permutation(WIDTH)
    while order[0] == 0:
        order = np.random.default_rng(seed + 20).permutation(WIDTH)
    names = [f"x{j}" for j in order]
    subject = subject_of(model, x[:, order], y, Task.binary, "1", names=names)
    question = subject.model.order_in_doubt(subject.table, subject.spec, subject.rows.numbers)
    assert question is not None
    proposed, table_order = question.choices
    assert table_order.reading.inputs == tuple(names)
    assert proposed.reading.inputs[:2] == ("x0", "x1")  # the two that matter stand where they were trained
    mended = subject_of(model, x[:, order], y, Task.binary, "1", names=names, model_readings=(proposed.reading,))
    assert (mended.decisions.predicted == mended.rows.outcome).mean() > 0.85
    assert "fed as was chosen" in mended.model.notes[0]
    assert mended.model.order_in_doubt(mended.table, mended.spec, mended.rows) is None


@pytest.mark.parametrize("seed", range(6))
def test_an_order_that_is_right_is_not_doubted(seed):
    x, y = data((0, 1), seed)
    rng = np.random.default_rng(seed)
    for labels in (y, rng.permutation(y)):  # also where the model is no use at all
        model = exported(LogisticRegression(), x, labels)
        subject = subject_of(model, x, labels, Task.binary, "1")
        assert subject.model.order_in_doubt(subject.table, subject.spec, subject.rows.numbers) is None


def test_names_in_the_file_are_used():
    x, y = data((0, 1))
    made = onnx.load_from_string(exported(LogisticRegression(), x, y))
    entry = made.metadata_props.add()
    entry.key, entry.value = "feature_names", '["x0", "x1", "x2", "x3"]'
    names = ["x3", "x1", "x0", "x2"]
    subject = subject_of(made.SerializeToString(), x[:, [3, 1, 0, 2]], y, Task.binary, "1", names=names)
    assert subject.model.inputs == ("x0", "x1", "x2", "x3")
    assert (subject.decisions.predicted == subject.rows.outcome).mean() > 0.85


def test_an_order_that_names_no_column_is_refused():
    x, y = data((0, 1))
    model = exported(LogisticRegression(), x, y)
    reading = ModelReading(model=hashlib.sha256(model).hexdigest(), inputs=("x0", "x1", "x2", "nobody"))
    with pytest.raises(Refused, match="names “nobody”, which the table has not"):
        subject_of(model, x, y, Task.binary, "1", model_readings=(reading,))


def test_levels_that_the_encoder_does_not_know_are_counted_and_said_with_the_nearest_spelling():
    rng = np.random.default_rng(1)
    level = rng.choice(["black", "white", "brown"], ROWS)
    y = (rng.random(ROWS) < 0.5).astype(int)
    pipe = make_pipeline(OneHotEncoder(handle_unknown="ignore", sparse_output=False), LogisticRegression())
    pipe.fit(level[:, None].astype(object), y)
    model = convert_sklearn(
        pipe, initial_types=[("coat", StringTensorType([None, 1]))], options={id(pipe[-1]): {"zipmap": False}}
    ).SerializeToString()
    changed = level.copy()
    changed[:30] = np.char.upper(level[:30])
    changed[30:35], changed[35] = "blakc", "zebra"
    table = from_arrays({"coat": changed, "y": y})
    columns = (ColumnSpec(name="coat", kind=Kind.categorical, role=Role.feature),
               ColumnSpec(name="y", kind=Kind.numeric, role=Role.outcome))  # fmt: skip
    spec = Spec(columns=columns, event="1")
    subject = Subject(spec, table, OnnxPredictor(model, table, spec), Context(rows="all"))
    notes = perform(subject, PerformanceSettings(), 1, Work()).notes
    note = next(one for one in notes if "does not know" in one)
    assert note.startswith("Coat: the model does not know 5 levels in 36 rows")
    assert "it knows “" in note
    strange = {one: near for one, _, near in _strange(subject)}
    assert strange == {"BLACK": "black", "WHITE": "white", "BROWN": "brown", "blakc": "black", "zebra": None}
    assert not any("no row of the table" in one for one in notes)
    few = from_arrays({"coat": np.where(level == "black", "white", level), "y": y})
    told = perform(
        Subject(spec, few, OnnxPredictor(model, few, spec), Context(rows="all")), PerformanceSettings(), 1, Work()
    ).notes
    assert "Coat: no row of the table holds “black”, which the model knows." in told


def _strange(subject):
    from zerotilt.core.predictors.meant import unknown_levels

    known, seen, levels, codes = subject.model._fed.encoders(subject.table)["coat"]
    return unknown_levels(known, seen, np.bincount(codes, minlength=len(levels)))


def test_a_single_probability_can_be_of_either_value():
    x, y = data((0, 1))
    inputs = [helper.make_tensor_value_info("x", onnx.TensorProto.FLOAT, [None, WIDTH])]
    weights = np.array([[2.0], [-1.4], [0.0], [0.0]], np.float32)
    graph = helper.make_graph(
        [helper.make_node("MatMul", ["x", "w"], ["s"]), helper.make_node("Sigmoid", ["s"], ["p"])], "one", inputs,
        [helper.make_tensor_value_info("p", onnx.TensorProto.FLOAT, [None, 1])], [onnx.numpy_helper.from_array(weights, "w")],
    )  # fmt: skip
    model = helper.make_model(graph, opset_imports=[helper.make_opsetid("", 18)], ir_version=8).SerializeToString()
    with pytest.raises(Refused, match="does not say which") as caught:
        subject_of(model, x, y, Task.binary, "1")
    assert caught.value.choices[0].reading.outputs == ("1",)
    straight = subject_of(model, x, y, Task.binary, "1", **said(model, "1")).predictions.scores
    turned = subject_of(model, x, y, Task.binary, "1", **said(model, "0")).predictions.scores
    assert straight == pytest.approx(1 - turned, abs=1e-6)
    assert (straight > 0.5).astype(int) == pytest.approx(y, abs=1) and ((straight > 0.5) == y).mean() > 0.85
