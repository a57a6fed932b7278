"""Distinct texts are NumPy's, whatever the column holds."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zerotilt.core.predictors.frame import Frame
from zerotilt.core.stats.distinct import distinct


def same(values: np.ndarray) -> None:
    found = distinct(values)
    names, codes, sizes = np.unique(values.astype(str), return_inverse=True, return_counts=True)
    assert found.names.tolist() == names.tolist()
    assert found.codes.tolist() == codes.tolist() and found.sizes.tolist() == sizes.tolist()


@given(st.lists(st.text(st.characters(exclude_characters="\x00"), max_size=4), max_size=40))
def test_of_texts(texts):
    same(np.array(texts, object))


@pytest.mark.parametrize(
    "values",
    [
        [None, "a", "None"],
        [True, False, "True"],
        [1.5, "1.5"],
        ["\ud800", "a"],
        ["", "", ""],
        ["ä", "a\u0308", "Z", "z"],
    ],
)
def test_of_what_is_no_text_too(values):
    same(np.array(values, object))


def test_a_frame_finds_them_once_and_what_is_taken_from_it_anew():
    frame = Frame({"a": np.array(["x", "y", "x"], object)})
    assert frame.distinct("a") is frame.distinct("a")
    assert frame.take(np.array([1])).distinct("a").names.tolist() == ["y"]
    assert frame.replace("a", np.array(["z"] * 3, object)).distinct("a").sizes.tolist() == [3]
