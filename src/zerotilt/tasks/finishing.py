"""What is written down when a task is done: the records of its result, in the transaction that ends it."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.meaning import Context, Spec
from zerotilt.core.refusal import Refused
from zerotilt.store.check import lock_file
from zerotilt.store.files import FileStore
from zerotilt.store.meaning import begin
from zerotilt.store.records import Audit, Candidate, InputFile, ModelVersion, Report, ReportForm, TableFile, Task
from zerotilt.store.written import freeze, keep_preview, signed_by
from zerotilt.tasks.board import Board
from zerotilt.tasks.candidates import ask_to_train, free_names
from zerotilt.tasks.ownership import carried_over, guess_again, locked, now


def table(board: Board, files: FileStore, task: Task, result: dict[str, Any]) -> dict[str, Any]:
    payload = task.payload
    # files before the audit, as where work is asked for: in the other order two of them can wait for one another
    for digest in sorted({payload["digest"], result["file"]}):
        lock_file(digest)
    # as it is now, not as it was when reading began: what was entered meanwhile is carried over
    audit = locked(task)
    before = audit.tables.order_by(TableFile.created.desc()).first()
    spec = carried_over(audit.spec, before.profile if before else None, result)
    TableFile.create(
        audit=audit,
        name=payload["name"],
        raw_digest=payload["digest"],
        digest=result["file"],
        bytes=payload["bytes"],
        profile=result["profile"],
    )
    begin(audit, Spec.model_validate(spec))
    if last := audit.models.order_by(ModelVersion.created.desc()).first():
        guess_again(audit, last.card)
    return {"rows": result["profile"]["rows"]}


def model(board: Board, files: FileStore, task: Task, result: dict[str, Any]) -> dict[str, Any]:
    guess_again(locked(task), result["card"])
    model = ModelVersion.create(
        audit=task.audit, name=task.payload["name"], digest=task.payload["digest"], card=result["card"]
    )
    return {"model": str(model.id)}


def given(board: Board, files: FileStore, task: Task, result: dict[str, Any]) -> dict[str, Any]:
    """The file of an input; it is read from now on in place of the one before."""
    audit, payload = locked(task), task.payload
    InputFile.create(
        audit=audit,
        input=payload["input"],
        name=payload["name"],
        digest=payload["digest"],
        bytes=payload["bytes"],
        card=result["card"],
    )
    return {"input": payload["input"]}


def check(board: Board, files: FileStore, task: Task, result: dict[str, Any]) -> dict[str, Any]:
    audit = locked(task)
    checked = Spec.model_validate(task.payload["spec"]).digest()
    same = audit.spec is not None and Spec.model_validate(audit.spec).digest() == checked
    newest = audit.tables.order_by(TableFile.created.desc()).first()
    if not same or newest is None or newest.digest != task.payload["table_digest"]:
        raise Refused(
            "The table or the meaning of its columns was changed while it was checked.",
            todo="Finish once more, so that what stands there now is checked.",
        )
    Audit.update(ready=True).where(Audit.id == task.audit_id).execute()
    board.ahead(audit, Context.model_validate(task.payload["context"]))
    return {name: result[name] for name in ("counts", "unknown_outcomes", "classes")}


def report(board: Board, files: FileStore, task: Task, result: dict[str, Any]) -> dict[str, Any]:
    audit = locked(task)  # reports of one audit are numbered one after the other
    return {"number": freeze(audit, files, result, task.payload["document"]).number}


def form_made(board: Board, files: FileStore, task: Task, result: dict[str, Any]) -> dict[str, Any]:
    locked(task)
    if task.payload.get("signed", []) != signed_by(Report.get_by_id(task.payload["report"])):
        raise Refused("The report was signed meanwhile, and this form does not name who did.", todo="Make it again.")
    for name, digest in result["files"].items():
        ReportForm.insert(report=task.payload["report"], name=name, file=digest).on_conflict_ignore().execute()
    return {"name": task.payload["name"]}


def preview(board: Board, files: FileStore, task: Task, result: dict[str, Any]) -> dict[str, Any]:
    audit, payload = locked(task), task.payload
    left = keep_preview(audit, payload["reader"], payload["made_of"], result["files"], result["lacking"])
    return {"left": left}


def train(board: Board, files: FileStore, task: Task, result: dict[str, Any]) -> dict[str, Any]:
    lock_file(result["file"])
    audit, payload = locked(task), task.payload
    named = payload.get("parent")
    # the version before may have been deleted meanwhile
    parent = ModelVersion.get_or_none((ModelVersion.id == named) & (ModelVersion.audit == audit)) if named else None
    model = ModelVersion.create(
        audit=audit, name=payload["name"], digest=result["file"], card=result["card"], parent=parent
    )
    Candidate.create(
        audit=audit,
        model=model,
        table_digest=payload["table_digest"],
        recipe=payload["recipe"],
        bytes=result["file_bytes"],
        validated=result["validated"] | {"found_among": payload.get("found_among", 1)},
        **{name: result[name] for name in ("meaning", "test", "seconds")},
    )
    return {"model": str(model.id)}


def search(board: Board, files: FileStore, task: Task, result: dict[str, Any]) -> dict[str, Any]:
    """What a search found is trained as a candidate."""
    audit, payload, found = locked(task), task.payload, result["searched"]
    told = {"said": result["said"], "recipes": found["recipes"], "tries": found["tries"]}
    if found["best"] is None:
        return told
    recipe = Recipe.model_validate(found["best"])
    (name,) = free_names(audit, [recipe])
    trained = {name: payload[name] for name in ("spec", "table_digest", "parent")}
    ask_to_train(board, audit, name, trained | {"recipe": found["best"], "found_among": found["recipes"]})
    return told | {"name": name}


def demo(board: Board, files: FileStore, task: Task, result: dict[str, Any]) -> dict[str, Any]:
    began = now()  # one transaction has one time; the audits keep their order all the same
    opened = [
        _demo_audit(made, result, began + timedelta(milliseconds=place)) for place, made in enumerate(result["audits"])
    ]
    for audit, first in opened:
        board.check(audit, first)
    for audit, first in opened:
        board.ahead(audit, first)
    return {"audit": str(opened[0][0].id)}


def _demo_audit(made: dict[str, Any], result: dict[str, Any], created: datetime) -> tuple[Audit, Context]:
    """One audit of the demo's table, and the context it opens with."""
    audit = Audit.create(title=made["title"], demo=True, created=created)
    begin(audit, Spec.model_validate(made["spec"]))
    Audit.update(ready=True).where(Audit.id == audit.id).execute()
    TableFile.create(
        audit=audit,
        name="claims.parquet",
        raw_digest=result["file"],
        digest=result["file"],
        bytes=result["file_bytes"],
        profile=result["profile"],
    )
    models = [
        ModelVersion.create(
            audit=audit,
            name=model["name"],
            digest=model["file"],
            card=model["card"],
            created=created + timedelta(milliseconds=place),
        )
        for place, model in enumerate(made["models"])
    ]
    return audit, Context(model=str(models[0].id))


FINISHERS: dict[str, Callable[[Board, FileStore, Task, dict[str, Any]], dict[str, Any]]] = {
    "read_table": table,
    "inspect_model": model,
    "read_input": given,
    "check": check,
    "report": report,
    "preview": preview,
    "form": form_made,
    "train": train,
    "search": search,
    "demo": demo,
}
