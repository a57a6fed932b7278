"""The letters of what is printed, so that it looks alike wherever it is opened."""

from __future__ import annotations

import base64
from functools import cache
from importlib.resources import files


@cache
def letters() -> dict[str, str]:
    """The fonts by their names, as base64."""
    folder = files("zerotilt.report") / "fonts"
    return {
        name: base64.b64encode((folder / f"{file}.woff2").read_bytes()).decode()
        for name, file in (("Newsreader", "newsreader"), ("Instrument Sans", "instrument-sans"))
    }
