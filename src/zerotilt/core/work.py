"""How a method tells how far it is. Methods are pure; this is their only way to speak while they run."""

from __future__ import annotations

from collections.abc import Callable


class Work:
    """Progress of one computation.

    ``report(done, total, what)`` is called between chunks; it may raise
    :class:`~zerotilt.core.refusal.Cancelled`, which methods let through.
    """

    def __init__(self, report: Callable[[int, int, str], None] | None = None):
        self._report = report
        self._base = 0
        self._total = 0
        self._what = ""

    def begin(self, total: int, what: str) -> None:
        """Start a stretch of ``total`` units called ``what`` ("rows explained")."""
        self._total, self._base, self._what = max(int(total), 1), 0, what
        self._tell()

    def expect(self, total: int) -> None:
        """Correct how many units there will be, once more is known."""
        self._total = max(int(total), self._base, 1)

    def advance(self, units: int) -> None:
        self._base = min(self._base + int(units), self._total)
        self._tell()

    def _tell(self) -> None:
        if self._report:
            self._report(self._base, self._total, self._what)
