"""Whose a task is: taken by one attempt at a time, and what is carried over to its audit."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from zerotilt.core.guess import guess_by_model, outcome_by_model
from zerotilt.core.meaning import PARTS, Spec
from zerotilt.core.profiles import TableProfile
from zerotilt.store.database import database
from zerotilt.store.meaning import NOBODY_YET, By, in_force, write
from zerotilt.store.records import Audit, TableFile, Task


def now() -> datetime:
    return datetime.now(UTC)


def carried_over(earlier: dict | None, profile: dict | None, result: dict[str, Any]) -> dict[str, Any]:
    """The guesses for a new table, with what a person had entered for columns that are still there.

    A column that is now stored otherwise keeps its role and takes the new kind.
    """
    if earlier is None or profile is None:
        return result["spec"]
    entered = {column["name"]: column for column in earlier["columns"]}
    stored = {column["name"]: column["stored"] for column in profile["columns"]}
    now_stored = {column["name"]: column["stored"] for column in result["profile"]["columns"]}
    names = set(now_stored)
    if not names & set(entered):
        return result["spec"]
    columns = []
    for guess in result["spec"]["columns"]:
        kept = entered.get(guess["name"])
        if kept is not None and stored.get(guess["name"]) != now_stored[guess["name"]]:
            kept = kept | {"kind": guess["kind"], "order": guess["order"], "cuts": []}
        columns.append(kept or guess)
    crossings = [crossing for crossing in earlier["intersections"] if set(crossing) <= names]
    inputs = [name for name in earlier["model_inputs"] if name in names]
    allowed = [one for one in earlier.get("allowed", []) if one["feature"] in names]
    readings = [one for one in earlier.get("model_readings", []) if set(one["inputs"]) <= names]
    return earlier | {
        "columns": columns, "intersections": crossings, "model_inputs": inputs, "model_readings": readings,
        "allowed": allowed,
    }  # fmt: skip


def guess_again(audit: Audit, card: dict[str, Any]) -> None:
    """What is predicted, told by the model that has come, as long as no person has said it."""
    table = audit.tables.order_by(TableFile.created.desc()).first()
    if table is None or audit.spec is None or in_force(audit)["problem"].author != NOBODY_YET:
        return
    profile, spec = TableProfile.model_validate(table.profile), Spec.model_validate(audit.spec)
    if in_force(audit)["schema"].author == NOBODY_YET:
        moved = outcome_by_model(profile, spec, card["classes"])
        if moved is not None:
            spec = moved
            for part in ("schema", "problem"):
                write(audit, PARTS[part].model_validate(spec.part(part)), By(NOBODY_YET))
    told = guess_by_model(profile, spec, card.get("gives"), card["classes"])
    if told is not None:
        write(audit, told, By(NOBODY_YET))


class Superseded(Exception):
    """Another attempt has taken the task over, or it is no longer there."""


def ours(task: Task):
    """The task's row as long as this attempt is the one that performs it."""
    return (Task.id == task.id) & (Task.state == "running") & (Task.attempts == task.attempts)


def locked(task: Task) -> Audit:
    """The audit of a task as it is now, held until the transaction ends."""
    audit = Audit.select().where(Audit.id == task.audit_id).for_update().first()
    if audit is None:
        raise Superseded
    return audit


def claim(task_id: str) -> Task | None:
    """Take a queued task; None when it has ended or is another's."""
    with database.atomic():
        taken = (
            Task.update(state="running", heartbeat=now(), started=now(), attempts=Task.attempts + 1)
            .where((Task.id == task_id) & (Task.state == "queued") & ~Task.cancel)
            .execute()
        )
        if not taken:
            Task.update(state="cancelled", finished=now()).where(
                (Task.id == task_id) & (Task.state == "queued") & Task.cancel
            ).execute()
            return None
        task = Task.get_by_id(task_id)
        _ = task.audit  # read here, while connected
        return task
