"""A plain figure as data: what is to be drawn, not how. The report paints it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Tone = Literal["plain", "raises", "lowers"]


@dataclass(frozen=True)
class Bars:
    """One bar a name, the first on top. ``spans``: an interval for each; ``tones``: whether it raises or lowers."""

    names: tuple[str, ...]
    values: tuple[float, ...]
    label: str
    """What the axis measures, with its unit."""
    spans: tuple[tuple[float, float], ...] | None = None
    tones: tuple[Tone, ...] | None = None


MOST_BARS = 20
Picture = Bars
