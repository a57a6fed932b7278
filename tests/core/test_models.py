"""Model files: what is read, matched, run, and refused."""

import numpy as np
import onnx
import pytest
from onnx import TensorProto, helper, numpy_helper
from skl2onnx import convert_sklearn
from skl2onnx.common.data_types import FloatTensorType
from sklearn.linear_model import LogisticRegression
from tests.core.systems import spec_of

from zerotilt.core.meaning import Role
from zerotilt.core.predictors.modelfile import inspect
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.table import from_arrays

OPSET = [helper.make_opsetid("", 18), helper.make_opsetid("ai.onnx.ml", 3)]


def cases(columns=3, labels=("no", "yes"), n=60, seed=0):
    rng = np.random.default_rng(seed)
    values = {f"x{j}": rng.normal(size=n) for j in range(columns)}
    return from_arrays(values | {"y": rng.choice(labels, n)})


def fitted(columns=3, labels=("no", "yes"), zipmap=False, names=None):
    table = cases(columns, labels)
    x = np.column_stack([table.numbers(f"x{j}") for j in range(columns)]).astype(np.float32)
    model = LogisticRegression().fit(
        x, table.texts("y").astype(str) if labels[0] != 0 else table.numbers("y").astype(int)
    )
    converted = convert_sklearn(
        model,
        initial_types=[("input", FloatTensorType([None, columns]))],
        options={id(model): {"zipmap": zipmap}},
        target_opset={"": 18, "ai.onnx.ml": 3},
    )
    return converted.SerializeToString(), model, x


def graph_of(nodes, inputs, outputs, initializers=()):
    graph = helper.make_graph(nodes, "g", inputs, outputs, list(initializers))
    return helper.make_model(graph, opset_imports=OPSET, ir_version=9).SerializeToString()


def constant_output(shape, name="p", kind=TensorProto.FLOAT):
    """A model that gives one fixed tensor whatever it is fed."""
    value = numpy_helper.from_array(np.full(shape, 0.5, np.float32), "v")
    return graph_of(
        [helper.make_node("Constant", [], [name], value=value), helper.make_node("Identity", ["x0"], ["same"])],
        [helper.make_tensor_value_info("x0", kind, [None, 1])],
        [helper.make_tensor_value_info(name, TensorProto.FLOAT, None)],
    )


def bound(data, table=None, event="yes", **more):
    table = table or cases()
    return OnnxPredictor(data, table, spec_of(table, {"y": Role.outcome}, event=event, **more)), table


@pytest.mark.parametrize("zipmap", [False, True])
def test_the_score_is_the_event_classs_probability(zipmap):
    data, model, x = fitted(zipmap=zipmap)
    for event in ("yes", "no"):
        predictor, table = bound(data, event=event)
        found = predictor.score(predictor.frame(table, np.arange(table.rows)))
        assert found == pytest.approx(model.predict_proba(x)[:, list(model.classes_).index(event)], abs=1e-6)


def test_number_labels_are_taken_as_the_event_and_said():
    data, model, x = fitted(labels=(0, 1))
    table = cases()
    predictor, _ = bound(data, table)
    assert "class “1” is taken as “yes”" in predictor.notes[-1]
    predictor, _ = bound(data, table, model_event_class="0")
    found = predictor.score(predictor.frame(table, np.arange(table.rows)))
    assert found == pytest.approx(model.predict_proba(x)[:, 0], abs=1e-6)


def test_labels_that_do_not_match_the_event_are_refused():
    data, *_ = fitted(labels=("good", "bad"))
    with pytest.raises(Refused, match="event “yes” is none of the model's classes"):
        bound(data)


def test_a_wide_input_takes_the_features_in_order_or_as_told():
    data, *_ = fitted()
    assert bound(data)[0].inputs == ("x0", "x1", "x2")
    assert bound(data, model_inputs=("x2", "x0", "x1"))[0].inputs == ("x2", "x0", "x1")


def test_columns_that_are_not_numbers_or_not_marked_are_passed_over_when_the_width_says_so():
    data, *_ = fitted()
    plain = cases()
    columns = {name: plain.numbers(name) for name in ("x0", "x1", "x2")}
    table = from_arrays({"note": ["text"] * 60, **columns, "y": plain.texts("y").astype(str)})
    assert bound(data, table)[0].inputs == ("x0", "x1", "x2")


def test_a_model_of_forty_columns_on_thirty_nine_is_refused_with_both_numbers():
    data, *_ = fitted(columns=40)
    with pytest.raises(Refused, match=r"takes 40 numbers.*has 39 feature columns"):
        bound(data, cases(39))


def test_a_named_input_without_a_column_is_named(demo):
    claims, spec, models = demo
    from zerotilt.core.table import Table

    with pytest.raises(Refused, match="wants an input “ferry_legs” \\(number\\)") as caught:
        OnnxPredictor(models["gradient trees v3"], Table(claims.drop_columns("ferry_legs")), spec)
    assert caught.value.where == "model input “ferry_legs”"


def test_text_where_numbers_are_wanted_names_column_and_cell(demo):
    claims, spec, models = demo
    from zerotilt.core.table import Table

    place = claims.column_names.index("ferry_legs")
    values = ["two" if i == 4 else "1" for i in range(claims.num_rows)]
    with pytest.raises(Refused, match="wants a number; the column holds text") as caught:
        OnnxPredictor(models["gradient trees v3"], Table(claims.set_column(place, "ferry_legs", [values])), spec)
    assert caught.value.where == "column “ferry_legs”"


def test_unseen_levels_are_scored_as_the_pipeline_does(demo_subject):
    frame = demo_subject.frame.take(slice(0, 5)).replace("channel", np.array(["carrier pigeon"] * 5, dtype=object))
    scores = demo_subject.model.score(frame)
    assert ((scores > 0) & (scores < 1)).all()


@pytest.mark.parametrize("data", [b"", b"not a model at all", b"PAR1 something", bytes(range(256)) * 10])
def test_what_is_not_onnx_is_refused(data):
    with pytest.raises(Refused, match=r"not (an )?ONNX"):
        inspect(data)


def test_a_cut_off_model_is_refused():
    data, *_ = fitted()
    for share in (0.3, 0.6, 0.95):
        with pytest.raises(Refused):
            inspect(data[: int(len(data) * share)])


def test_external_weights_are_refused():
    tensor = TensorProto(name="w", data_type=TensorProto.FLOAT, dims=[1, 1], data_location=TensorProto.EXTERNAL)
    tensor.external_data.add(key="location", value="../../etc/passwd")
    data = graph_of(
        [helper.make_node("MatMul", ["x0", "w"], ["p"])],
        [helper.make_tensor_value_info("x0", TensorProto.FLOAT, [None, 1])],
        [helper.make_tensor_value_info("p", TensorProto.FLOAT, None)],
        [tensor],
    )
    with pytest.raises(Refused, match="“w” are kept in another file"):
        inspect(data)


@pytest.mark.parametrize(("domain", "said"), [("some.vendor", "“Strange” of “some.vendor”"), ("", "Strange")])
def test_unknown_operators_are_named(domain, said):
    data = graph_of(
        [helper.make_node("Strange", ["x0"], ["p"], domain=domain)],
        [helper.make_tensor_value_info("x0", TensorProto.FLOAT, [None, 1])],
        [helper.make_tensor_value_info("p", TensorProto.FLOAT, None)],
    )
    if domain:
        model = onnx.load_from_string(data)
        model.opset_import.append(helper.make_opsetid(domain, 1))
        data = model.SerializeToString()
    with pytest.raises(Refused, match=said):
        inspect(data)


@pytest.mark.parametrize(
    ("shape", "message"), [((7, 2), "shape \\(7, 2\\)"), ((60, 3), "gives 3 classes"), ((60, 2, 2), "shape")]
)
def test_outputs_of_another_shape_are_refused(shape, message):
    with pytest.raises(Refused, match=message):
        bound(constant_output(shape), cases(1))


def test_scores_outside_zero_and_one_are_refused():
    data = graph_of(
        [helper.make_node("Identity", ["x0"], ["p"])],
        [helper.make_tensor_value_info("x0", TensorProto.FLOAT, [None, 1])],
        [helper.make_tensor_value_info("p", TensorProto.FLOAT, [None, 1])],
    )
    with pytest.raises(Refused, match="a probability lies within 0 and 1"):
        bound(data, cases(1))


def test_scores_that_are_not_numbers_are_refused():
    data = graph_of(
        [helper.make_node("Log", ["x0"], ["p"])],
        [helper.make_tensor_value_info("x0", TensorProto.FLOAT, [None, 1])],
        [helper.make_tensor_value_info("p", TensorProto.FLOAT, [None, 1])],
    )
    with pytest.raises(Refused, match="gives no number"):
        bound(data, cases(1))


def test_the_name_of_what_wrote_a_file_is_plain_text():
    model = onnx.load_from_string(fitted()[0])
    model.producer_name = "some\x00 tool\n\u202emade it " + "x" * 300
    assert inspect(model.SerializeToString()).producer == ("some toolmade it " + "x" * 300)[:200]
