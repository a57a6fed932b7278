"""How long, and how it is said."""

from __future__ import annotations

import time
from collections.abc import Callable


def quickest(action: Callable[[], object], times: int = 3) -> float:
    """Seconds of the quickest of a few runs."""
    took = []
    for _ in range(times):
        began = time.perf_counter()
        action()
        took.append(time.perf_counter() - began)
    return min(took)


def line(what: str, took: float, note: str = "") -> None:
    print(f"{what:<74} {took:8.3f} s  {note}", flush=True)
