"""A result held against the one before: every number and word, and by how much it differs."""

import pytest
from hypothesis import given
from hypothesis import strategies as some

from zerotilt.core.reproduction import ROUNDING, compared

JSON = some.recursive(
    some.none() | some.booleans() | some.integers(-5, 5) | some.floats(-9, 9) | some.text(max_size=3),
    lambda inner: some.lists(inner, max_size=3) | some.dictionaries(some.text(max_size=3), inner, max_size=3),
    max_leaves=12,
)


@given(JSON)
def test_the_same_is_the_same(value):
    found = compared(value, value)
    assert found.differences == () and found.sentence.startswith("the same in all of")


@given(JSON, JSON)
def test_what_differs_is_found(one, other):
    def typed(value):
        if isinstance(value, dict):
            return {name: typed(inner) for name, inner in value.items() if inner not in ({}, [])}
        return [typed(inner) for inner in value] if isinstance(value, list) else (type(value), value)

    found = compared(one, other)
    same = not found.differences and not found.rounding
    if typed(one) == typed(other):
        assert same
    elif isinstance(one, int | float | str | bool) or isinstance(other, int | float | str | bool):
        assert not same


@pytest.mark.parametrize(
    ("before", "now", "said"),
    [
        ({"a": [1.0, 2.0]}, {"a": [1.0, 2.5]}, "1 of 2 values differs, by at most 0.5 (a / 2: 2 before, 2.5 now)"),
        ({"a": [1.0]}, {"a": [1.0, 3.0]}, "1 of 2 values differs (a / 2: nothing before, 3 now)"),
        ({"a": None}, {"a": {"b": 1}}, "1 of 1 value differs (a: nothing before, 1 entries now)"),
        ({"a": 1}, {"a": True}, "1 of 1 value differs (a: 1 before, True now)"),
        ({"a": 1e8}, {"a": 1e8 * (1 + ROUNDING / 2)}, "the same in all of 1 value; 1 number differs by rounding alone"),
        ({}, {}, "the same in all of 0 values"),
    ],
)
def test_sentences(before, now, said):
    assert compared(before, now).sentence == said


def test_the_largest_differences_are_named_first():
    before = {str(n): 0.0 for n in range(9)}
    found = compared(before, {str(n): n / 10 for n in range(9)})
    assert "8: 0 before, 0.8 now; 7:" in found.sentence and found.sentence.startswith(
        "8 of 9 values differ, by at most 0.8"
    )
