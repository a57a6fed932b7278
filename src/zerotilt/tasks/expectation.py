"""How long work will take: as long as it took, on this table, else on another one."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from peewee import fn

from zerotilt.core.methods import METHODS
from zerotilt.store.records import Timing
from zerotilt.tasks.ownership import now

QUICK_SECONDS = 1.0
"""Up to here work is quick: it is begun at once, and waited for where it is asked for."""
DIRECT_SECONDS, SMALL = 0.3, 500_000
"""Up to here it is asked for directly: seconds that it took before, or cells of a table where nobody knows yet."""
KNOWN_PATIENCE, PATIENCE = 1.0, 0.5
"""How long is waited for what is asked for directly: where it was quick before, and where it may be."""
GUESS = 0.5
UNKNOWN = None
KEPT = 0.5
"""Weight of what was known before against what was just measured."""


def work_of(payload: dict[str, Any]) -> str:
    """What work it is: the method, with the settings that say how much is read."""
    method = METHODS[payload["method"]]
    amount = {name: payload["settings"].get(name) for name in sorted(method.first_look)}
    return f"{method.name} {json.dumps(amount)}"


def basis_of(payload: dict[str, Any]) -> str:
    """What it is done on: table, models and rows."""
    context = payload["context"]
    named = [payload.get(f"{name}_digest") for name in ("table", "model", "alongside")]
    read = {name: value for name, value in context.items() if name not in ("output", "read_class")}
    return hashlib.sha256(json.dumps([named, read], sort_keys=True, default=str).encode()).hexdigest()[:32]


def expected(payload: dict[str, Any], cells: int) -> float | None:
    """Seconds; None where nothing is known and it may take long."""
    work = work_of(payload)
    known = Timing.get_or_none((Timing.work == work) & (Timing.basis == basis_of(payload)))
    if known is not None:
        return known.seconds
    near = Timing.select().where(Timing.work == work).order_by(fn.abs(Timing.cells - cells)).first()
    if near is not None:
        return near.seconds * max(1.0, cells / max(near.cells, 1))
    method = METHODS[payload["method"]]
    whole = method.first_look and not method.first_look.items() <= payload["settings"].items()
    return UNKNOWN if whole else GUESS


def patience(payload: dict[str, Any], cells: int) -> float:
    """Seconds for which an answer is waited for without a task; 0 where it would not be there in time."""
    known = Timing.get_or_none((Timing.work == work_of(payload)) & (Timing.basis == basis_of(payload)))
    if known is not None:
        return KNOWN_PATIENCE if known.seconds <= DIRECT_SECONDS else 0.0
    return PATIENCE if cells <= SMALL and not METHODS[payload["method"]].first_look else 0.0


def learn(payload: dict[str, Any], cells: int, seconds: float) -> None:
    """Remember what work took."""
    Timing.insert(
        work=work_of(payload), basis=basis_of(payload), cells=cells, seconds=seconds, learnt=now()
    ).on_conflict(
        conflict_target=[Timing.work, Timing.basis],
        # what took less than ever is known at once: the first time, files were opened
        update={
            Timing.seconds: fn.least(KEPT * Timing.seconds + (1 - KEPT) * seconds, seconds),
            Timing.learnt: now(),
        },
    ).execute()
