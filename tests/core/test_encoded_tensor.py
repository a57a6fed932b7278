"""A model of one tensor that was trained on encoded columns is recognised before anything is scored."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.core.systems import spec_of

from zerotilt.core.meaning import Role
from zerotilt.core.predictors.encoded import misfit
from zerotilt.core.predictors.modelfile import ModelCard, ModelInput
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.table import from_arrays


def card(width, holds="number", columns=()):
    entry = ModelInput(name="X", holds=holds, tensor="tensor(float)", width=width)
    return ModelCard(inputs=(entry,), outputs=("p",), classes=(), columns=columns, operators={}, producer="", bytes=1)


def table(levels=(3, 4), numbers=2, rows=60):
    rng = np.random.default_rng(1)
    found = {f"n{i}": rng.normal(size=rows) for i in range(numbers)}
    found |= {f"t{i}": np.array([f"v{j % many}" for j in range(rows)]) for i, many in enumerate(levels)}
    return from_arrays(found | {"y": rng.integers(0, 2, rows)})


def asked(width, levels=(3, 4), numbers=2, **more):
    held = table(levels, numbers)
    spec = spec_of(held, {"y": Role.outcome})
    counts = {name: len(held.coded(name)[0]) for name in held.names}
    return misfit(card(width, **more), spec, (), held.is_text, counts.__getitem__)


@pytest.mark.parametrize(("levels", "width"), [((3, 4), 9), ((3, 4), 7), ((2, 4), 7), ((2, 4), 8), ((3,), 5)])
def test_a_tensor_as_wide_as_the_table_encoded_is_known_for_what_it_is(levels, width):
    why = asked(width, levels)
    assert why is not None and "once each level of “t0”" in why.message
    assert f"takes {width} numbers" in why.message and "Export the step that encodes" in why.todo


def test_columns_that_only_make_groups_may_have_been_encoded_too():
    held = table((3, 4), 2)
    spec = spec_of(held, {"y": Role.outcome, "t0": Role.group, "t1": Role.group})
    counts = {name: len(held.coded(name)[0]) for name in held.names}
    why = misfit(card(9), spec, (), held.is_text, counts.__getitem__)
    assert why is not None and "the table has 2 feature columns. It is as wide as" in why.message


def test_names_of_levels_in_the_file_tell_it_whatever_the_width():
    why = asked(31, columns=("n0", "n1", "t0_v0", "t0_v1"))
    assert why is not None and "(“t0_v0”)" in why.message


def test_what_may_be_encoded_otherwise_is_said_as_a_guess():
    why = asked(23)
    assert why is not None and "hold text. If the model was trained on encoded columns" in why.message
    assert "If it was not, mark exactly its columns" in why.todo


def test_texts_as_numbers_of_the_same_width_are_not_fed():
    why = asked(4)
    assert why is not None and "“t0” and “t1” hold text" in why.message


def test_what_fits_is_not_in_the_way():
    assert asked(2, (), 2) is None
    assert asked(None) is None and asked(1) is None
    assert asked(4, holds="text") is None


def test_too_few_and_too_many_numbers_are_told_as_such():
    for width in (3, 9):
        why = asked(width, (), 5)
        assert why is not None and "encoded" not in why.message and "mark exactly" in why.todo.lower()


@given(st.integers(2, 40), st.lists(st.integers(1, 6), max_size=3), st.integers(0, 5))
def test_every_width_has_an_answer_that_names_both_numbers(width, levels, numbers):
    if not levels and not numbers:
        return
    why = asked(width, tuple(levels), numbers)
    if width == numbers and not levels:
        assert why is None
    else:
        assert why is not None and f" {width} numbers" in why.message and why.todo


def test_a_real_model_of_encoded_columns_is_refused_in_these_words():
    from skl2onnx import to_onnx
    from sklearn.linear_model import LogisticRegression
    from sklearn.preprocessing import OneHotEncoder

    held = table((3, 4), 2)
    texts = np.column_stack([held.texts("t0"), held.texts("t1")])
    encoded = OneHotEncoder(sparse_output=False).fit_transform(texts)
    wide = np.column_stack([held.numbers("n0"), held.numbers("n1"), encoded]).astype(np.float32)
    fitted = LogisticRegression().fit(wide, held.numbers("y").astype(int))
    data = to_onnx(fitted, wide[:1], options={"zipmap": False}).SerializeToString()
    spec = spec_of(held, {"y": Role.outcome, "t1": Role.group})
    with pytest.raises(Refused, match="column of its own: these were encoded"):
        OnnxPredictor(data, held, spec)
