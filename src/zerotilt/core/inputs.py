"""What an audit can be made of besides its table and its model versions: files that some methods read, each kind declared once.

From a declaration come the place in Intake and where a dropped file goes, the upload, storage, ``./zt check``, deletion,
duplicates, archives, what a reader opens, its part in keys of evidence, ``--input`` of the command line and ``inputs`` of a
notebook. Methods name what they read in ``needs``, and find it as ``subject.inputs[name]``.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Spec
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.core.work import Work

NAME = re.compile("[a-z][a-z_]{0,39}")
TAKEN = frozenset({"table", "model", "models", "outcome", "predictions", "recipe", "alongside"})
"""Names that mean something else in needs, options and keys."""
MOST_BYTES = 2 * 2**30


class InputCard(Frozen):
    """What a file holds, found out when it arrived."""

    said: tuple[str, ...] = Field(max_length=20, description="In sentences, for Intake")
    facts: dict[str, Any] = Field(
        default={}, description="For methods and pages, where they need some before it is opened"
    )


@dataclass(frozen=True)
class Input:
    """One kind of file. Both functions run in a reader, on bytes that nobody trusts."""

    name: str
    """The same in needs, route, option, argument and key."""
    words: str
    """With its article, within a sentence: "a preparation record"."""
    files: tuple[str, ...]
    """Endings of its files, with the dot; each belongs to one input."""
    use: str
    """What it is for, in a sentence; it stands in Intake."""
    look: Callable[[pa.BufferReader, Work], InputCard]
    """What is in a file. Refuses what is none of its kind."""
    open: Callable[[pa.BufferReader, Table, Spec], Any]
    """What methods are given. Refuses what does not fit the table."""
    most: int = MOST_BYTES
    """Bytes that are taken."""

    def __post_init__(self) -> None:
        if not NAME.fullmatch(self.name) or self.name in TAKEN:
            raise ValueError(f"{self.name}: an input is called by a word of its own, in small letters")
        if not self.files or not all(one.startswith(".") and one == one.lower() for one in self.files):
            raise ValueError(f"{self.name}: its files end in a dot and small letters")

    @property
    def plain(self) -> str:
        """Its words without the article, for a heading."""
        return words.opening(re.sub(r"^(a|an|the) ", "", self.words))


INPUTS: dict[str, Input] = {}
"""Every input there is, by its name."""


def input_named(name: str) -> Input:
    """
    Raises
    ------
    Refused : there is none of this name.
    """
    if name not in INPUTS:
        there = words.listing(list(INPUTS)) if INPUTS else "none"
        raise Refused(f"There is no input “{name}”; besides table and model there is {there}.", todo="Choose another.")
    return INPUTS[name]


def path_of(name: str) -> str:
    """What a job's arguments call the path of an input's file."""
    return f"input_{name}_path"


class Given(Mapping[str, Any]):
    """What an audit was given besides table and models, by name; each is opened when it is first read.

    So a file that does not fit the table is refused where a method reads it, and nowhere else.
    """

    def __init__(self, openers: Mapping[str, Callable[[], Any]]):
        self._openers, self._opened = dict(openers), {}

    @classmethod
    def of(cls, files: Mapping[str, bytes], table: Table, spec: Spec) -> Given:
        """Of files as bytes, looked into as when they are uploaded.

        Raises
        ------
        Refused : there is no such input, or a file is none of its kind.
        """

        def opener(name: str, data: bytes) -> Callable[[], Any]:
            found = input_named(name)
            found.look(pa.BufferReader(data), Work())
            return lambda: found.open(pa.BufferReader(data), table, spec)

        return cls({name: opener(name, data) for name, data in files.items()})

    def __getitem__(self, name: str) -> Any:
        if name not in self._opened:
            self._opened[name] = self._openers[name]()
        return self._opened[name]

    def __contains__(self, name: object) -> bool:
        return name in self._openers

    def __iter__(self) -> Iterator[str]:
        return iter(self._openers)

    def __len__(self) -> int:
        return len(self._openers)
