"""The one error that is meant for people: what is wrong, where, and what to do."""

from __future__ import annotations


class Refused(ValueError):
    """Input that cannot be used.

    Parameters
    ----------
    message : what is wrong, with what was given and what was expected.
    where : the place ("column “weight”", "line 14"), or None.
    todo : what the person can do about it, or None.
    """

    def __init__(self, message: str, *, where: str | None = None, todo: str | None = None):
        super().__init__(message)
        self.message = message
        self.where = where
        self.todo = todo

    def __reduce__(self):
        return (_rebuild, (self.message, self.where, self.todo))

    def as_dict(self) -> dict[str, str | None]:
        return {"message": self.message, "where": self.where, "todo": self.todo}

    def sentence(self) -> str:
        parts = [f"{self.where}: {self.message}" if self.where else self.message]
        if self.todo:
            parts.append(self.todo)
        return " ".join(parts)


def _rebuild(message: str, where: str | None, todo: str | None) -> Refused:
    return Refused(message, where=where, todo=todo)


class Cancelled(Exception):
    """The work was cancelled by a person; nothing is wrong with it."""
