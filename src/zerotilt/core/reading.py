"""The plain sentence at the head of a sheet."""

from __future__ import annotations

from zerotilt.core.spec import Frozen


class Span(Frozen):
    text: str
    flagged: bool = False


class Reading(Frozen):
    """What the figure shows, with its numbers, interval and row count."""

    headline: tuple[Span, ...]
    detail: str

    @property
    def text(self) -> str:
        return "".join(span.text for span in self.headline)


def plain(headline: str, detail: str) -> Reading:
    return Reading(headline=(Span(text=headline),), detail=detail)
