"""Files that people hand in, as TOML or JSON: bounded before they are read, refused in words."""

from __future__ import annotations

import json
import re
import tomllib
from typing import Any

from zerotilt.core.refusal import Refused

DEEPEST = 32
"""How deep tables, arrays and dotted keys may be nested: more than any file of ours by far."""
LONGEST_KEY = 2_000
MOST_TOML = 2 * 2**20

_TOKEN = re.compile(
    r'"""(?:\\.|[^\\])*?"""|"""[\s\S]*|\'\'\'.*?\'\'\'|\'\'\'[\s\S]*|"(?:\\.|[^"\\\n])*"|"[^\n]*|\'[^\'\n]*\'|\'[^\n]*|#[^\n]*|[\[\]{}.,=\n]',
    re.DOTALL,
)
"""Strings, remarks and signs; a string that does not end is all that follows, so that nothing is gone through twice."""


def toml(text: str) -> dict[str, Any]:
    """A TOML document.

    The reader takes time that grows with the square of a dotted key's parts, and a call for each level of nesting; so
    both are counted first, in one pass.

    Raises
    ------
    Refused : it is none, or is larger or nested deeper than any that is meant.
    """
    if len(text) > MOST_TOML:
        raise Refused("The text is too large.", todo="Check the file.")
    _bounded(text)
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as problem:
        raise Refused(f"It is not written as TOML: {problem}.", todo="Mend that place.") from None
    except (ValueError, RecursionError):  # a number of more digits than are read, a depth that was missed
        raise Refused("It holds a value that cannot be read.", todo="Check the file.") from None


def _bounded(text: str) -> None:
    depth = parts = line = 0
    begun = 0
    for token in _TOKEN.finditer(text):
        sign = token[0]
        if sign == ".":
            parts += 1
        elif sign in "[{":
            depth += 1
            parts = 0
        elif sign in "]}":
            depth -= 1
        elif sign in ",=\n":
            parts = 0
        if sign == "\n" or sign == "=":
            if token.start() - begun > LONGEST_KEY and sign == "=" and not depth:
                raise Refused(
                    f"Line {line + 1}: a name is longer than {LONGEST_KEY:,} characters.", todo="Check the file."
                )
            begun = token.end()
        line += sign.count("\n")
        if depth > DEEPEST or parts > DEEPEST:
            raise Refused(f"Line {line + 1}: it is nested deeper than {DEEPEST} levels.", todo="Check the file.")


def from_json(data: str | bytes) -> Any:
    """What a JSON text holds.

    Raises
    ------
    Refused : it is none, is no text, is nested too deeply, or holds a number that is none.
    """
    try:
        return json.loads(data, parse_constant=_no_number)
    except RecursionError:
        raise Refused("It is nested too deeply.", todo="Check the file.") from None
    except ValueError as problem:  # what is no text is one, too
        raise Refused(f"It cannot be read as JSON: {str(problem)[:120]}.", todo="Check the file.") from None


def _no_number(name: str) -> None:
    raise ValueError(f"{name} is no number")
