"""One concern: something in the table itself that may mislead, with its numbers and what one can do about it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Literal

from pydantic import Field

from zerotilt.core.frozen import Frozen
from zerotilt.core.stats.estimates import Estimate

Kind = Literal[
    "leak", "rows in both", "contradicting rows", "group taken", "stand-in", "missing unevenly", "share of a group",
    "splits differ", "few of a group", "rare outcome", "duplicated rows", "identifier", "constant", "far out", "rare levels",
]  # fmt: skip
"""In the order in which they are listed."""
RANKS: dict[str, int] = {name: place for place, name in enumerate(Kind.__args__)}  # type: ignore[attr-defined]
TITLES: dict[str, str] = {
    "leak": "Leak suspect", "rows in both": "Rows in training and hold-out", "contradicting rows": "Rows that contradict each other",
    "group taken": "Group column taken by the model", "stand-in": "Stand-in for a group", "missing unevenly": "Missing unevenly",
    "share of a group": "Share of a group", "splits differ": "Training and hold-out differ", "few of a group": "Few rows of a group",
    "rare outcome": "Rare outcome", "duplicated rows": "Duplicated rows", "identifier": "Identifier among features",
    "constant": "Constant feature", "far out": "Values far out", "rare levels": "Rare levels",
}  # fmt: skip


class Concern(Frozen):
    kind: Kind
    title: str
    columns: tuple[str, ...]
    group: str = ""
    sentence: str = Field(description="What is so, with its numbers")
    todo: str = Field(description="What one can do about it")
    rows: int | None = Field(default=None, description="Rows it is about")
    of: int = Field(description="Rows it was found in")
    found: Estimate | None = Field(default=None, description="The number that it rests on, where that has an interval")
    p_adjusted: float | None = Field(
        default=None, description="p-value adjusted over all that was tested here; null where nothing is tested"
    )


@dataclass
class Suspicion:
    """A concern that is one only if its p-value stands after all that was tested."""

    p: float
    large: bool
    """Whether it is large enough to matter, whatever its p-value."""
    concern: Concern


@dataclass
class Gathered:
    """What was found, and every test that was made for it."""

    plain: list[Concern] = field(default_factory=list)
    suspicions: list[Suspicion] = field(default_factory=list)

    def say(self, kind: Kind, columns: Iterable[str], sentence: str, todo: str, of: int, **more) -> None:
        self.plain.append(_concern(kind, columns, sentence, todo, of, more))

    def suspect(
        self, p: float, large: bool, kind: Kind, columns: Iterable[str], sentence: str, todo: str, of: int, **more
    ) -> None:
        self.suspicions.append(Suspicion(p, large, _concern(kind, columns, sentence, todo, of, more)))


def _concern(kind: Kind, columns: Iterable[str], sentence: str, todo: str, of: int, more: dict) -> Concern:
    return Concern(kind=kind, title=TITLES[kind], columns=tuple(columns), sentence=sentence, todo=todo, of=of, **more)
