"""What settings and results are made of, and in which words one is refused."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field


class Frozen(BaseModel):
    """Never changed once made; a field that is not declared is refused."""

    model_config = ConfigDict(frozen=True, extra="forbid")


@dataclass(frozen=True)
class CountedFromOne:
    """Marks a number that people give from 1 and programs from 0."""


RowNumber = Annotated[int, Field(ge=0, description="Row number in the table, from 0"), CountedFromOne()]


def in_words(error: Mapping[str, Any]) -> str:
    """What is wrong with one value, as a phrase after its name: "a whole number is needed".

    Parameters
    ----------
    error : one of the errors that a validation found.
    """
    kind, about = str(error["type"]), error.get("ctx", {})
    if kind in _LIMITS and (limit := about.get(_LIMITS[kind][1])) is not None:
        return f"it must be {_LIMITS[kind][0]} {limit}"
    if kind in ("literal_error", "enum"):
        expected = str(about.get("expected", ""))
        named = [one for one in re.findall("'([^']*)'", expected) if one]  # nothing is no word that one could give
        return (
            f"it must be {', '.join(named[:-1])} or {named[-1]}"
            if len(named) > 1
            else f"it must be {(named or [expected])[0]}"
        )
    if kind == "value_error":
        return str(error["msg"]).removeprefix("Value error, ")
    return next((said for start, said in _NEEDED if kind.startswith(start)), str(error["msg"]).lower())


_LIMITS = {
    "greater_than": ("more than", "gt"),
    "greater_than_equal": ("at least", "ge"),
    "less_than": ("less than", "lt"),
    "less_than_equal": ("at most", "le"),
    "string_too_long": ("no longer than so many characters:", "max_length"),
    "string_too_short": ("no shorter than so many characters:", "min_length"),
    "too_long": ("no longer a list than", "max_length"),
    "too_short": ("no shorter a list than", "min_length"),
}
_NEEDED = (
    ("missing", "it is needed and was not given"),
    ("extra_forbidden", "it is not known here"),
    ("int_", "a whole number is needed"),
    ("float_", "a number is needed"),
    ("finite_number", "a finite number is needed"),
    ("bool_", "true or false is needed"),
    ("string_type", "a text is needed"),
    ("tuple_", "a list is needed"),
    ("list_", "a list is needed"),
    ("dict_", "names with their values are needed"),
    ("model_", "names with their values are needed"),
    ("json_", "it is not written as JSON"),
)
