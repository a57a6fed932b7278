"""Conditions as they are typed: every sign, names that hold signs, and what cannot be read."""

from __future__ import annotations

import pytest

from zerotilt.core.meaning import Condition
from zerotilt.core.refusal import Refused
from zerotilt.core.typed_conditions import parsed

NAMES = ("way", "x", "x>y", "a = b", "way out")


@pytest.mark.parametrize(
    ("text", "condition"),
    [
        ("way=cart", Condition(column="way", levels=("cart",))),
        ("way=cart|by sea", Condition(column="way", levels=("cart", "by sea"))),
        ("way=", Condition(column="way", missing=True)),
        ("x>1.5", Condition(column="x", over=1.5)),
        ("x<3", Condition(column="x", under=3.0)),
        ("x >= 3", Condition(column="x", at_least=3.0)),
        ("x!=3|", Condition(column="x", levels=("3",), missing=True, negated=True)),
        ("x>=2031-02-28", Condition(column="x", since="2031-02-28")),
        ("x <= -2e3", Condition(column="x", up_to=-2000.0)),
        ("x>y>3", Condition(column="x>y", over=3.0)),
        ("a = b=c=d", Condition(column="a = b", levels=("c=d",))),
        ("way out=1", Condition(column="way out", levels=("1",))),
    ],
)
def test_what_is_typed_is_what_is_meant(text, condition):
    assert parsed(text, NAMES) == condition


@pytest.mark.parametrize("text", ["", "way", "=cart", "road=cart", "x>", "x>many", "x<many", "x!3"])
def test_what_cannot_be_read_is_said(text):
    with pytest.raises(Refused, match="was given as a condition"):
        parsed(text, NAMES)
