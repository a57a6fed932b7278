"""How a method tells how far it is. Methods are pure; this is their only way to speak while they run."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

from zerotilt.core.executor import Executor, LocalExecutor
from zerotilt.core.marks import unmarked


class Work:
    """Progress of one computation, and who does its pieces.

    ``report(done, total, what)`` is called between pieces; it may raise
    :class:`~zerotilt.core.refusal.Cancelled`, which methods let through.
    ``executor``: this machine's cores unless another is given.
    """

    def __init__(self, report: Callable[[int, int, str], None] | None = None, executor: Executor | None = None):
        self._report = report
        self.executor = executor or LocalExecutor()
        self._base = 0
        self._total = 0
        self._what = ""

    def begin(self, total: int, what: str) -> None:
        """Start a stretch of ``total`` units called ``what`` ("rows explained")."""
        self._total, self._base, self._what = max(int(total), 1), 0, unmarked(what)
        self._tell()

    def expect(self, total: int) -> None:
        """Correct how many units there will be, once more is known."""
        self._total = max(int(total), self._base, 1)

    def advance(self, units: int) -> None:
        self._base = min(self._base + int(units), self._total)
        self._tell()

    def spread(
        self,
        function: Callable[[Any, Any], Any],
        shared: Any,
        pieces: Sequence[Any],
        what: str,
        units: Sequence[int] | None = None,
    ) -> Iterator[Any]:
        """``function(shared, piece)`` for every piece, in order, wherever it is computed.

        How the work is cut must not depend on who does it, so that merging the
        results in this order gives the same numbers everywhere. ``units``: how
        much of ``what`` each piece is.
        """
        sizes = list(units) if units is not None else [1] * len(pieces)
        self.begin(sum(sizes), what)
        for size, result in zip(sizes, self.executor.run(function, shared, pieces), strict=True):
            yield result
            self.advance(size)

    def _tell(self) -> None:
        if self._report:
            self._report(self._base, self._total, self._what)
