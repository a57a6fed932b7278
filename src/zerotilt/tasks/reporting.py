"""What a report is asked for with, and what only the records know when it is written."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from typing import Any

from peewee import SQL

from zerotilt import __version__
from zerotilt.core.meaning import Context, Spec
from zerotilt.core.methods import METHODS
from zerotilt.core.predictors.made import Made
from zerotilt.core.refusal import Refused
from zerotilt.core.rows import NAMES, called
from zerotilt.core.tasks import kind_of
from zerotilt.report.document import Reader
from zerotilt.store import meaning, shelf
from zerotilt.store.decided import decisions_of
from zerotilt.store.files import FileStore
from zerotilt.store.records import (
    Audit,
    Candidate,
    DecisionRule,
    EvidenceRow,
    Kept,
    ModelVersion,
    Report,
    ReportDraft,
    ReportForm,
    ReportPreview,
    Task,
    TestLook,
    VersionChoice,
)
from zerotilt.store.state import ChangedMeanwhile
from zerotilt.store.written import draft, next_number, signed_by
from zerotilt.tasks.board import Board, basis, changes, current_table, digests_of, named, version_of
from zerotilt.tasks.candidates import standing


@dataclass(frozen=True)
class Shown:
    """The page that somebody had before them who wants the report written."""

    reader: Reader
    made_of: str
    draft: int


def ask_report(board: Board, audit: Audit, context: Context, shown: Shown | None = None) -> Task:
    """Write a report as the document stands now, which is what was shown where somebody says what that was.

    Raises
    ------
    ChangedMeanwhile : the page would be made of something else by now, or the document was written since.
    """
    payload = _payload(audit, context)
    if shown is not None:
        if shown.made_of != made_of(audit, payload | {"reader": shown.reader}):
            raise ChangedMeanwhile(f"What the report is made of has changed since this page was shown. {NOT_WRITTEN}")
        if shown.draft != (now := draft(audit)[0]):
            last = audit.drafts.where(ReportDraft.number == now).first()
            who = f" by {last.author}" if last and last.author else ""
            raise ChangedMeanwhile(f"The document was written in another window since{who}. {NOT_WRITTEN}")
    payload["made_of"] = made_of(audit, payload)
    return board.submit("report", "Report", payload, audit, named("report", audit, payload))


def ask_preview(board: Board, audit: Audit, context: Context, reader: Reader) -> Task | ReportPreview:
    """The document as a reader would get it; what there is already where nothing has changed since."""
    payload = _payload(audit, context) | {"reader": reader}
    told = made_of(audit, payload)
    found = ReportPreview.get_or_none((ReportPreview.audit == audit) & (ReportPreview.reader == reader))
    if found is not None and found.made_of == told:
        return found
    payload["made_of"] = told
    return board.submit("preview", "The page before it is written", payload, audit, named("preview", audit, payload))


def ask_form(board: Board, report: Report, name: str, source: str) -> Task | None:
    """Another form of a report, made of one of its files and of who signed it so far; None where it is there."""
    if ReportForm.get_or_none((ReportForm.report == report) & (ReportForm.name == name)) is not None:
        return None
    payload = {"report": str(report.id), "name": name, "digest": report.files.get(source, report.html_digest)}
    if signed := signed_by(report):
        payload["signed"] = signed
    audit = report.audit
    return board.submit("form", f"{name} of report {report.number}", payload, audit, named("form", audit, payload))


def _payload(audit: Audit, context: Context) -> dict[str, Any]:
    alone = context.model_copy(update={"alongside": None})
    return basis(audit, alone) | {
        "title": audit.title,
        "document": draft(audit)[1].model_dump(mode="json"),
        "policy_record": policy_record(audit),
        "rule_record": rule_record(version_of(audit, context.model)),
        "how_made": how_made(version_of(audit, context.model)),
        "versions_record": versions_record(audit),
        "alongside_said": _alongside_said(audit, context),
    }


NOT_WRITTEN = "No report was written; the page is shown as it is now."


def made_of(audit: Audit, payload: dict[str, Any]) -> str:
    """SHA-256 of all that a page depends on but arrangement and texts, which whoever looks at it has before them."""
    document = {"smallest": payload["document"]["smallest"]}
    told = {
        "release": __version__,
        "payload": {name: value for name, value in payload.items() if name != "made_of"} | {"document": document},
        "kept": [[str(one.id), one.noted] for one in audit.kept.where(~Kept.removed).order_by(Kept.created)],
        "decided": sorted([one.finding, one.number] for one in audit.judgements),
        "apart": sorted(one.finding for one in audit.apart),
        "raised": sorted(str(one.id) for one in audit.raised),
    }
    return hashlib.sha256(json.dumps(told, sort_keys=True, default=str).encode()).hexdigest()


def arguments(task: Task, files: FileStore) -> dict[str, Any]:
    """What is known when the work begins: evidence, dossier, decisions, gaps of the table."""
    audit = Audit.get_by_id(task.audit_id)
    asked = task.payload.get("made_of")
    if task.kind == "report" and asked and asked != made_of(audit, _payload_of(audit, task)):
        raise Refused(
            "What the report is made of was changed before it could be written.",
            todo="Look at the page as it is now, and write the report then.",
        )
    digests = digests_of(task.payload, Spec.model_validate(task.payload["spec"]))
    of_it = SQL("body->'digests' @> %s::jsonb", (json.dumps(digests.model_dump(include={"table", "spec", "model"})),))
    read = [name for name, method in METHODS.items() if method.place is not None]
    rows = EvidenceRow.select().where(EvidenceRow.method.in_(read) & of_it)
    return {
        "known": [shelf.whole(row, files) for row in rows],
        "kept": kept_items(audit, files),
        "number": next_number(audit) if task.kind == "report" else None,
        "decisions": decisions_of(audit, files, lambda one: list(changes(audit, one))),
        "gaps": gaps(audit),
    }


def _payload_of(audit: Audit, task: Task) -> dict[str, Any]:
    """What the task would be asked for with now."""
    context = Context.model_validate(task.payload["context"] | {"alongside": None})
    said = {name: task.payload[name] for name in ("alongside_said", "document") if name in task.payload}
    return _payload(audit, context) | said


def gaps(audit: Audit) -> list[tuple[str, int]]:
    """Columns of the table in which cells are missing, and how many, the most first."""
    columns = current_table(audit).profile["columns"]
    found = [(column["name"], column["missing"]) for column in columns if column["missing"]]
    return sorted(found, key=lambda one: (-one[1], one[0]))


def kept_items(audit: Audit, files: FileStore) -> list[dict[str, Any]]:
    """The dossier in the order it was kept."""
    rows = (
        Kept.select(Kept, EvidenceRow)
        .join(EvidenceRow)
        .where((Kept.audit == audit) & ~Kept.removed)
        .order_by(Kept.created)
    )
    return [
        {
            "evidence": shelf.whole(row.evidence, files),
            "note": row.note,
            "changed": list(changes(audit, row)),
            "spec": row.spec,
        }
        for row in rows
    ]


def rule_record(model: ModelVersion | None) -> dict[str, Any] | None:
    """Who decided a version's decision rule, and why; None where there is none."""
    last = model and model.rules.order_by(DecisionRule.number.desc()).first()
    if not last or not last.rule:
        return None
    return {"number": last.number, "author": last.author, "reason": last.reason, "made": f"{last.created:%d %B %Y}"}


def how_made(model: ModelVersion | None) -> str:
    """What a version's file says of how it was made."""
    told = model and model.card.get("made")
    return Made.model_validate(told).sentence if told else ""


def versions_record(audit: Audit) -> dict[str, Any] | None:
    """Which version was chosen, why and at what price, and how the candidates stand; None where there is neither."""
    last = audit.choices.order_by(VersionChoice.created.desc()).first()
    spec = Spec.model_validate(audit.spec)
    _, found = standing(audit, current_table(audit), spec, gap=kind_of(spec.task).headline)
    if last is None and found.table is None:
        return None
    return {
        "choice": last
        and {
            "name": last.name,
            "digest": last.digest,
            "reason": last.reason,
            "traded": last.traded,
            "said": last.said,
            "author": last.author,
            "made": f"{last.created:%d %B %Y}",
        },
        "reading": list(found.reading),
        "remedies": list(found.remedies_said),
        "warned": list(found.warned),
        "table": found.table.model_dump(mode="json") if found.table else None,
        "gap": found.gap,
        "looks": TestLook.select().join(Candidate).where(Candidate.audit == audit).count(),
    }


def policy_record(audit: Audit) -> dict[str, Any] | None:
    """Who chose the flag policy in force, and why; None while it is the one that every audit starts with."""
    last = meaning.versions(audit, "policy")[0]
    if last.author == meaning.NOBODY_YET:
        return None
    answers = last.answers
    return {
        "number": last.number,
        "author": last.author,
        "reason": last.reason,
        "made": f"{last.created:%d %B %Y}",
        "answers": answers,
    }


def _alongside_said(audit: Audit, context: Context) -> str:
    other = context.beside()
    if context.alongside is None or other is None:
        return ""
    model = version_of(audit, context.alongside.model)
    if model:
        return f"Model version “{model.name}”"
    return "" if other.row_set == context.row_set else f"The {called(NAMES[other.rows], 'rows', other.row_set.name)}"
