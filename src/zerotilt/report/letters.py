"""The letters of what is printed, so that it looks alike wherever it is opened."""

from __future__ import annotations

import base64
from functools import cache
from importlib.resources import files

FAMILY = "Instrument Sans"
FOLDER = files("zerotilt.report") / "fonts"
LETTERS = tuple(str(FOLDER / f"instrument-sans-{weight}.ttf") for weight in (400, 700))
"""The same letters for what measures text before it is drawn, by weight."""


@cache
def letters() -> dict[str, str]:
    """The fonts by their names, as base64."""
    return {
        name: base64.b64encode((FOLDER / f"{file}.woff2").read_bytes()).decode()
        for name, file in (("Newsreader", "newsreader"), (FAMILY, "instrument-sans"))
    }
