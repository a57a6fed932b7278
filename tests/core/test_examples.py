"""Examples in docstrings run, and say what they show."""

from __future__ import annotations

import doctest
import importlib

import pytest

WITH_EXAMPLES = ("levels", "segments", "stats.intervals", "words", "meaning.context")


@pytest.mark.parametrize("name", WITH_EXAMPLES)
def test_what_a_docstring_shows_is_so(name):
    module = importlib.import_module(f"zerotilt.core.{name}")
    found = doctest.testmod(module, optionflags=doctest.NORMALIZE_WHITESPACE)
    assert found.attempted and not found.failed
