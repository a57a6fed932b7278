"""The report as a document: its pieces in their order, what each is called, who reads it, and what was written between."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple, Self, get_args

from pydantic import Field, model_validator

from zerotilt.core.frozen import Frozen
from zerotilt.core.methods import METHODS

Reader = Literal["full", "summary", "public"]
READERS: tuple[Reader, ...] = get_args(Reader)
MOST_PIECES = 300


class Section(NamedTuple):
    """A piece that is filled from evidence and findings."""

    name: str
    title: str
    readers: tuple[Reader, ...]
    """Who reads it at first."""
    publishable: bool = True
    """Whether it can leave out what would tell of few people. What shows single rows cannot."""
    asks: str = ""
    """What only a person can write of it; missing until somebody has."""


ALL: tuple[Reader, ...] = READERS
FULL: tuple[Reader, ...] = ("full",)
DECIDERS: tuple[Reader, ...] = ("full", "summary")


def _of_methods() -> tuple[Section, ...]:
    """What methods read for the report. Only what has a public form of its own goes out to everybody."""
    public = {"performance", "tilt", "drivers"}
    return tuple(
        Section(name, method.place.section, ("full", "public") if name in public else FULL, name in public)
        for name, method in METHODS.items()
        if method.place is not None
    )


def sections() -> dict[str, Section]:
    """Every section by its name, in the order of the work."""
    found = (
        Section("short", "In short", ALL),
        Section(
            "purpose",
            "Purpose and use",
            ALL,
            asks="what is decided about whom and on what basis, what the system is for, and who uses it",
        ),
        Section(
            "data",
            "Data",
            ("full", "public"),
            asks="where the rows come from, of which period they are, how they were chosen, what became of the others, and who "
            "established what really happened",
        ),
        Section("model", "Model", ("full", "public"), asks="how the model was made"),
        Section("choice", "Versions and their choice", DECIDERS, publishable=False),
        *_of_methods(),
        Section(
            "protected",
            "Protected attributes",
            ("full", "public"),
            asks="which attributes are protected, by which rule, and why these",
        ),
        Section("chosen", "Metrics and limits", ("full", "public")),
        Section("flagged", "Flagged disparities", ALL),
        Section("raised", "Raised by hand", DECIDERS, publishable=False),
        Section("unexamined", "Not examined", ALL),
        Section(
            "limits",
            "Limits of use",
            ("full", "public"),
            asks="what the system is not to be used for, and for whom this audit says nothing",
        ),
        Section("open", "Open findings", DECIDERS),
        Section("decided", "Decisions", DECIDERS),
        Section(
            "next",
            "Next steps and contact",
            ("full", "public"),
            asks="who does what about the findings and by when, and whom to ask",
        ),
        Section("kept", "From the dossier", FULL, publishable=False),
        Section("methods", "Method notes", ("full", "public")),
        Section("appendix", "Appendix: evidence", FULL, publishable=False),
    )
    return {one.name: one for one in found}


class Piece(Frozen):
    """A section, or text of one's own between sections."""

    id: str = Field(min_length=1, max_length=80, description="A section's name, or a name of its own for a text")
    title: str = Field(default="", max_length=200, description="Its heading; a section's own when empty")
    text: str = Field(
        default="", max_length=50_000, description="Markdown; of a section what is written before its figures"
    )
    readers: tuple[Reader, ...] | None = Field(default=None, description="Who reads it; as it is at first when null")

    @property
    def section(self) -> Section | None:
        return sections().get(self.id)

    @property
    def heading(self) -> str:
        return self.title.strip() or (self.section.title if self.section else "")

    def read_by(self, reader: Reader) -> bool:
        """Whether it stands in the document of a reader."""
        section = self.section
        if reader == "public" and section and not section.publishable:
            return False
        at_first = section.readers if section else ALL
        return reader in (at_first if self.readers is None else self.readers)


class Document(Frozen):
    """A report as people have arranged it. Every section stands in it once, and no two pieces have one name."""

    title: str = Field(default="", max_length=200, description="The audit's own when empty")
    smallest: int = Field(
        default=30, ge=2, le=1_000_000, description="Rows under which the public version prints no group"
    )
    pieces: tuple[Piece, ...] = Field(default=(), max_length=MOST_PIECES)

    @model_validator(mode="after")
    def _one_name_each(self) -> Self:
        names = [piece.id for piece in self.pieces]
        if len(set(names)) < len(names):
            twice = next(name for name in names if names.count(name) > 1)
            raise ValueError(f"two pieces are called “{twice}”")
        return self

    def complete(self) -> Document:
        """With the sections that it lacks, each after the one that it follows at first.

        A document that was arranged before a method was there has that method's section all the same.
        """
        pieces = list(self.pieces)
        before: str | None = None
        for name in sections():
            names = [piece.id for piece in pieces]
            if name not in names:
                pieces.insert(names.index(before) + 1 if before in names else 0, Piece(id=name))
            before = name
        return self if len(pieces) == len(self.pieces) else self.model_copy(update={"pieces": tuple(pieces)})

    def read_by(self, reader: Reader) -> tuple[Piece, ...]:
        """The pieces of a reader's document, in their order."""
        return tuple(piece for piece in self.complete().pieces if piece.read_by(reader))


def unwritten(document: Document, reader: Reader = "full") -> list[str]:
    """What only a person can write, and nobody has."""
    return [
        f"{piece.heading}: nobody has written {section.asks}"
        for piece in document.read_by(reader)
        if (section := piece.section) and section.asks and not piece.text.strip()
    ]


def merged(base: Document, mine: Document, theirs: Document, author: str = "") -> Document:
    """What two people made of one document, so that nothing that either wrote is lost.

    Each piece, and the title, is taken from whoever changed it. Where both changed the text of one piece, theirs stays and
    mine follows as a piece of its own, which says whose it is. A piece that one deleted stays if the other changed it.
    The order is mine where I changed it, else theirs.
    """
    was, own, other = ({piece.id: piece for piece in one.pieces} for one in (base, mine, theirs))
    pieces: dict[str, Piece] = {}
    besides: dict[str, Piece] = {}
    for name in dict.fromkeys([*other, *own]):
        found = _joined(was.get(name), own.get(name), other.get(name))
        if found is None:
            continue
        pieces[name] = found
        both = name in own and name in other and own[name].text != other[name].text
        before = was[name].text if name in was else ""
        if both and before not in (own[name].text, other[name].text) and own[name].text.strip():
            besides[name] = Piece(
                id=_free(name, [*own, *other, *pieces]),
                title=f"{found.heading or 'Text'}, as {author or 'somebody'} wrote it at the same time",
                text=own[name].text,
                readers=found.readers,
            )
    order = [*own] if [*own] != [*was] else [*other]
    names = _ordered(order, pieces)
    out: list[Piece] = []
    for name in names:
        out.append(pieces[name])
        if name in besides:
            out.append(besides[name])
    return Document(
        title=_chosen(base.title, mine.title, theirs.title),
        smallest=_chosen(base.smallest, mine.smallest, theirs.smallest),
        pieces=tuple(out),
    )


def _ordered(order: Sequence[str], pieces: dict[str, Piece]) -> list[str]:
    """Names in an order; what the order does not know follows what it follows where it comes from."""
    names = [name for name in order if name in pieces]
    before: str | None = None
    for name in pieces:
        if name not in names:
            names.insert(names.index(before) + 1 if before in names else len(names), name)
        before = name
    return names


def _joined(was: Piece | None, own: Piece | None, other: Piece | None) -> Piece | None:
    if own is None or other is None:
        left = own or other
        # deleted by one: it is gone unless the other changed it, or it is new
        return left if left is not None and (was is None or left != was) else None
    # what both added under one name was empty before, so that neither's words count as unchanged
    before = was or Piece(id=own.id)
    return Piece(
        id=own.id,
        title=_chosen(before.title, own.title, other.title),
        text=_chosen(before.text, own.text, other.text),
        readers=_chosen(before.readers, own.readers, other.readers),
    )


def _chosen(was, own, other):
    """What was changed; theirs where both changed it, since it was there first."""
    return own if other == was else other


def _free(name: str, taken: Sequence[str]) -> str:
    number = 2
    while f"{name[:60]}-{number}" in taken:
        number += 1
    return f"{name[:60]}-{number}"
