"""The one error that is meant for people: what is wrong, where, and what to do."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Sequence


@dataclass(frozen=True)
class Choice:
    """One way out that a person can take: what it is, how it would do, and what is kept when it is taken."""

    label: str
    detail: str
    reading: Any
    fit: float
    """How well it would do; the larger the better."""

    def as_dict(self) -> dict[str, Any]:
        return {"label": self.label, "detail": self.detail, "reading": self.reading.model_dump(mode="json")}


class Refused(ValueError):
    """Input that cannot be used.

    Parameters
    ----------
    message : what is wrong, with what was given and what was expected.
    where : the place ("column “weight”", "line 14"), or None.
    todo : what the person can do about it, or None.
    choices : ways out to choose from.
    """

    def __init__(
        self, message: str, *, where: str | None = None, todo: str | None = None, choices: Sequence[Choice] = ()
    ):
        super().__init__(bounded(message))
        self.message = bounded(message)
        self.where = where and bounded(where)
        self.todo = todo
        self.choices = tuple(choices)

    def __reduce__(self):
        return (_rebuild, (self.message, self.where, self.todo, self.choices))

    def as_dict(self) -> dict[str, Any]:
        found: dict[str, Any] = {"message": self.message, "where": self.where, "todo": self.todo}
        return found | ({"choices": [one.as_dict() for one in self.choices]} if self.choices else {})

    def sentence(self) -> str:
        parts = [f"{self.where}: {self.message}" if self.where else self.message]
        if self.todo:
            parts.append(self.todo)
        return " ".join(parts)


MOST_QUOTED, MOST_SAID = 120, 1_500
"""Characters of one name or value that a message repeats, and of a message."""
_QUOTED = re.compile(f"“([^”]{{{MOST_QUOTED}}})[^”]+”")


def bounded(message: str) -> str:
    """A message that repeats what was given, however long that was, in a length that somebody can read."""
    short = _QUOTED.sub(r"“\1…”", message)
    return short if len(short) <= MOST_SAID else f"{short[: MOST_SAID - 1]}…"


def _rebuild(message: str, where: str | None, todo: str | None, choices: Sequence[Choice] = ()) -> Refused:
    return Refused(message, where=where, todo=todo, choices=choices)


class Cancelled(Exception):
    """The work was cancelled by a person; nothing is wrong with it."""
