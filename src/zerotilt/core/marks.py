"""The marks between which an audit's own words stand while a method computes (:mod:`zerotilt.core.named_places`)."""

from __future__ import annotations

import re

BEGIN, END = "\ue000", "\ue001"
"""Characters that Unicode leaves to whoever wants them; no text of people is held to have them."""
MARKED = re.compile(f" ?{BEGIN}([a-z])([^{END}]*){END}")


def unmarked(text: str) -> str:
    """A text with its words and without their marks."""
    return MARKED.sub(lambda found: spaced(found[0], found[2]), text) if BEGIN in text else text


def spaced(whole: str, word: str) -> str:
    """A word with the space before it; an empty one takes none."""
    return f" {word}" if word and whole.startswith(" ") else word
