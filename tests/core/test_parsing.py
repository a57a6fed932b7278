"""What people hand in is bounded before it is read: no small file takes long, and none ends in anything but words."""

from __future__ import annotations

import time
import tomllib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zerotilt.core.parsing import DEEPEST, MOST_TOML, from_json, toml
from zerotilt.core.refusal import Refused

HOSTILE = {
    "a dotted key": "a" + ".a" * 60_000 + " = 1",
    "a dotted name of a table": "[" + "a." * 60_000 + "a]\n",
    "a dotted key within braces": "a = {b" + ".b" * 60_000 + " = 1}",
    "arrays": "a = " + "[" * 6_000 + "]" * 6_000,
    "tables within braces": "a = " + "{a=" * 6_000 + "1" + "}" * 6_000,
    "a number of many digits": "a = " + "1" * 100_000,
    "a string that does not end": 'a = "' + '\\"' * 200_000,
    "strings that do not end": 'a = """' + '\\"""' * 200_000,
    "a long name": '"' + "k" * 5_000 + '" = 1',
    "a large text": "#" * (MOST_TOML + 1),
    "no TOML": "a = = 1",
}


@pytest.mark.parametrize("name", HOSTILE)
def test_what_would_take_long_or_end_in_a_crash_is_refused_in_words(name):
    begun = time.process_time()
    with pytest.raises(Refused) as refused:
        toml(HOSTILE[name])
    assert len(refused.value.message) < 300
    assert time.process_time() - begun < 20  # an hour otherwise; nothing here is timed


@pytest.mark.parametrize("data", ["[" * 200_000, "[NaN]", '{"a": -Infinity}', b"\xff\xfe\x00", "", "1" * 10_000])
def test_json_that_cannot_be_is_refused_in_words(data):
    with pytest.raises(Refused) as refused:
        from_json(data)
    assert len(refused.value.message) < 300


texts = st.text(st.characters(codec="utf-8", exclude_characters="\x00"), max_size=30)
values = st.recursive(
    st.booleans() | st.integers(-(2**40), 2**40) | st.floats(allow_nan=False, allow_infinity=False) | texts,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(texts, inner, max_size=4),
    max_leaves=12,
)


@given(st.dictionaries(texts, values, max_size=6))
def test_what_is_written_is_read_as_it_was(document):
    """Signs within strings, remarks and keys count for nothing."""
    import tomli_w

    written = tomli_w.dumps(document)
    assert toml(written + '\n# [[[{{{ a.b.c "') == tomllib.loads(written)


def test_nesting_is_allowed_up_to_the_limit():
    deep = "[" * DEEPEST + "]" * DEEPEST
    assert toml(f"a = {deep}")["a"] is not None
    with pytest.raises(Refused, match="Line 2: it is nested deeper than 32 levels"):
        toml(f"b = 1.5\na = [{deep}]")
