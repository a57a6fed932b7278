"""What is missing before a report is written, in sentences."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from zerotilt.core import words
from zerotilt.report import prose
from zerotilt.report.compose import Bundle
from zerotilt.report.document import Document, Reader, unwritten
from zerotilt.report.numbers import Number

if TYPE_CHECKING:  # it loads what draws, which no server needs
    from zerotilt.report.render import Cover


def undecided(bundle: Bundle, cover: Cover, reader: Reader) -> list[str]:
    """Choices and decisions that nobody has made, and evidence that is older than what stands in the audit."""
    found = []
    if bundle.evidence_of("tilt") is not None and cover.policy_record is None:
        found.append("Nobody has chosen the metrics and limits; they are those that every audit starts with.")
    still = [fact for fact, standing in bundle.all_facts() if standing.decision == "open"]
    if still:
        is_it, them = ("is", "it") if len(still) == 1 else ("are", "them")
        said = words.opening(words.plural(len(still), "finding"))
        found.append(f"{said} {is_it} open: nobody has decided about {them}.")
    if reader == "full":
        older = [item.evidence.title for item in bundle.kept if item.changed]
        found += [
            f"“{title}” in the dossier is older than what stands in the audit today." for title in dict.fromkeys(older)
        ]
    return found


def unsaid(document: Document, reader: Reader, numbers: Mapping[str, Number]) -> list[str]:
    """Texts that only a person can write and nobody has, and numbers that a text names and that are not there."""
    found = [f"{one}." for one in unwritten(document, reader)]
    where = "" if reader == "full" else " in what this reader gets"
    for piece in document.read_by(reader):
        found += [
            f"{piece.heading or 'A text'}: no number is called “{name}”{where}."
            for name in prose.unknown(piece.text, numbers)
        ]
    return found
