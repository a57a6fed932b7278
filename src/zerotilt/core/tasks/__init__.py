"""Kinds of outcome: what an outcome, an output, an error and a decision are, and how they are named."""

from zerotilt.core.meaning import Task
from zerotilt.core.tasks.classes import Ordered, Several
from zerotilt.core.tasks.event import Event
from zerotilt.core.tasks.kind import Quantity, TaskKind, View
from zerotilt.core.tasks.number import Number

KINDS: dict[Task, TaskKind] = {kind.task: kind for kind in (Event(), Several(), Ordered(), Number())}


def kind_of(task: Task) -> TaskKind:
    """The one strategy of a task."""
    return KINDS[task]


__all__ = ["KINDS", "Quantity", "TaskKind", "View", "kind_of"]
