"""The same pieces of work on a Dask cluster, when the address of a scheduler is given."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator, Sequence
from typing import Any

from zerotilt.core.executor import Executor, Function, LocalExecutor, in_order
from zerotilt.core.refusal import Refused

VARIABLE = "ZEROTILT_CLUSTER"
"""Environment variable that holds the scheduler's address for the worker and the command line."""
CONNECT_SECONDS = 10
RETRIES = 3
AHEAD = 4
"""Pieces under way for each thread of the cluster."""


class DaskExecutor:
    """Pieces sent to a Dask scheduler.

    What all pieces share goes to every worker once. A worker that dies has its
    pieces computed again by another; the order of results, and so every merged
    number, stays as it is on one machine. The cluster must run the same version
    of Zero Tilt, and it runs what it is sent: give only the address of a
    scheduler that you trust.

    Raises
    ------
    Refused : nobody answers at the address.
    """

    def __init__(self, address: str):
        from distributed import Client

        try:
            self._client = Client(address, timeout=CONNECT_SECONDS, set_as_default=False, direct_to_workers=True)
        except (OSError, ValueError, TimeoutError) as problem:
            raise Refused(
                f"No Dask scheduler answers at “{address}”: {str(problem).splitlines()[0] if str(problem) else 'timed out'}",
                where="cluster",
                todo="Start one there, or leave the address out to compute on this machine.",
            ) from None
        self.address = address

    def run(self, function: Function, shared: Any, pieces: Sequence[Any]) -> Iterator[Any]:
        if not pieces:
            return
        held = self._client.scatter(shared, broadcast=True, hash=False)
        threads = sum(worker["nthreads"] for worker in self._client.scheduler_info(n_workers=-1)["workers"].values())

        def submit(piece: Any) -> _Sent:
            return _Sent(self._client, function, held, piece)

        yield from in_order(submit, pieces, AHEAD * max(threads, 1))

    def close(self) -> None:
        self._client.close()


class _Sent:
    """A piece sent straight to a worker, past the scheduler; sent again when it was lost with its worker."""

    def __init__(self, client: Any, function: Function, held: Any, piece: Any):
        self._client, self._work, self._piece = client, (function, held), piece
        self._send()

    def _send(self) -> None:
        there = self._piece
        with contextlib.suppress(
            TimeoutError, OSError
        ):  # with no worker there, the piece waits for one at the scheduler
            there = self._client.scatter(self._piece, direct=True, hash=False)
        self._future = self._client.submit(*self._work, there, pure=False, retries=RETRIES)

    def result(self) -> Any:
        from distributed.client import FutureCancelledError

        for _ in range(RETRIES):
            try:
                return self._future.result()
            except FutureCancelledError:
                self._send()
        return self._future.result()

    def cancel(self) -> None:
        self._future.cancel()


def executor_at(address: str | None = None) -> Executor:
    """This machine's cores, or the cluster at an address; that of the environment when none is given."""
    address = address or os.environ.get(VARIABLE)
    return DaskExecutor(address) if address else LocalExecutor()
