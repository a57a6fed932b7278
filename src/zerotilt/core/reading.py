"""The plain sentence at the head of a sheet."""

from __future__ import annotations

import re
from collections.abc import Sequence

from pydantic import Field

from zerotilt.core.frozen import Frozen


class Span(Frozen):
    text: str
    flagged: bool = False


class Reading(Frozen):
    """What the figure shows, with its numbers, interval and row count."""

    headline: tuple[Span, ...]
    detail: str
    points: tuple[str, ...] = Field(default=(), description="What else there is to say, beneath the figure")

    @property
    def text(self) -> str:
        return "".join(span.text for span in self.headline)


_ENDS = re.compile(r"(?<=[.!?]) (?=[^a-z\s])")
MOST_SENTENCES = 2


def short(reading: Reading) -> Reading:
    """At most two sentences at the head; the first, and one that is flagged before one that is not. The rest is small print."""
    sentences: list[list[Span]] = [[]]
    for span in reading.headline:
        parts = _ENDS.split(span.text)
        for place, part in enumerate(parts):
            if place or (sentences[-1] and part[:1] == " " and sentences[-1][-1].text.rstrip()[-1:] in (".", "!", "?")):
                sentences.append([])
            if part.strip():
                sentences[-1].append(Span(text=part if place == 0 else f" {part}", flagged=span.flagged))
    sentences = [one for one in sentences if one]
    if len(sentences) <= MOST_SENTENCES:
        return reading
    rest = sentences[1:]
    second = next((one for one in rest if any(span.flagged for span in one)), rest[0])
    head = [*sentences[0], *second]
    left = " ".join("".join(span.text for span in one).strip() for one in rest if one is not second)
    head = [span.model_copy(update={"text": span.text.lstrip()}) if i == 0 else span for i, span in enumerate(head)]
    return reading.model_copy(update={"headline": tuple(head), "detail": f"{left} {reading.detail}".strip()})


def plain(headline: str, detail: str, points: Sequence[str] = ()) -> Reading:
    return Reading(headline=(Span(text=headline),), detail=detail, points=tuple(points))
