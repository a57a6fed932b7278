"""Every record, as peewee models over the migrated schema."""

from __future__ import annotations

import uuid
from typing import Any
from uuid import UUID

from peewee import (
    SQL,
    BigIntegerField,
    BooleanField,
    CompositeKey,
    DateField,
    DoubleField,
    ForeignKeyField,
    IntegerField,
    Model,
    TextField,
    UUIDField,
)
from playhouse.postgres_ext import BinaryJSONField, DateTimeTZField

from zerotilt.core.methods import METHODS
from zerotilt.store.database import database

NOW = [SQL("default now()")]
FINDING = tuple(name for name, method in METHODS.items() if method.findings)
"""Methods whose results somebody has to decide about."""
ACTIVE = ("queued", "running")


class Record(Model):
    id = UUIDField(primary_key=True, default=uuid.uuid4)

    class Meta:
        database = database
        legacy_table_names = False


class Audit(Record):
    title = TextField()
    created = DateTimeTZField(constraints=NOW)
    demo = BooleanField(default=False)
    spec = BinaryJSONField(null=True, index=False)
    ready = BooleanField(default=False)
    opened = DateTimeTZField(null=True)
    archived = BooleanField(default=False)
    deleted = DateTimeTZField(null=True)
    """When it was deleted; it is there no more, but can be brought back for a while."""
    # what the foreign keys of other records make of it
    tables: Any
    models: Any
    candidates: Any
    choices: Any
    tasks: Any
    asked: Any
    kept: Any
    judgements: Any
    remarks: Any
    apart: Any
    raised: Any
    found: Any
    inputs: Any
    meanings: Any
    reports: Any
    drafts: Any
    previews: Any


class TableFile(Record):
    audit = ForeignKeyField(Audit, backref="tables", on_delete="cascade")
    name = TextField()
    raw_digest = TextField()
    digest = TextField()
    bytes = BigIntegerField()
    profile = BinaryJSONField(index=False)
    created = DateTimeTZField(constraints=NOW)


class InputFile(Record):
    """What an audit was given besides its table and models; of each input the last that came is read, and earlier ones are
    kept, so that reports can be computed again."""

    audit = ForeignKeyField(Audit, backref="inputs", on_delete="cascade")
    input = TextField()
    """Its name in :data:`zerotilt.core.inputs.INPUTS`."""
    name = TextField()
    digest = TextField()
    bytes = BigIntegerField()
    card = BinaryJSONField(index=False)
    created = DateTimeTZField(constraints=NOW)

    class Meta:
        table_name = "input_file"


class ModelVersion(Record):
    audit = ForeignKeyField(Audit, backref="models", on_delete="cascade")
    name = TextField()
    digest = TextField()
    card = BinaryJSONField(index=False)
    created = DateTimeTZField(constraints=NOW)
    parent = ForeignKeyField("self", backref="children", null=True, on_delete="set null")
    """The version that it came from, where somebody said or work here knows."""
    parent_id: UUID | None
    rules: Any
    notes: Any
    candidates: Any


class VersionNote(Record):
    """What somebody noted of how a version was made: a script, a cell of a notebook, a git commit, or words."""

    model = ForeignKeyField(ModelVersion, backref="notes", on_delete="cascade")
    model_id: UUID
    kind = TextField()
    text = TextField()
    author = TextField(default="")
    created = DateTimeTZField(constraints=NOW)

    class Meta:
        table_name = "version_note"


class VersionChoice(Record):
    """That a version was chosen, by whom, why and at what price; the newest holds."""

    audit = ForeignKeyField(Audit, backref="choices", on_delete="cascade")
    model = ForeignKeyField(ModelVersion, null=True, on_delete="set null")
    model_id: UUID | None
    name = TextField()
    digest = TextField()
    reason = TextField()
    traded = TextField(default="")
    said = BinaryJSONField(index=False, default=list)
    """What was known of it when it was chosen, sentence by sentence."""
    author = TextField(default="")
    created = DateTimeTZField(constraints=NOW)

    class Meta:
        table_name = "version_choice"


class Candidate(Record):
    """A model version that was trained here."""

    audit = ForeignKeyField(Audit, backref="candidates", on_delete="cascade")
    model = ForeignKeyField(ModelVersion, backref="candidates", on_delete="cascade")
    table_digest = TextField()
    meaning = TextField()
    """Digest of what the columns meant; candidates of another meaning, table or dealing are not compared."""
    recipe = BinaryJSONField(index=False)
    validated = BinaryJSONField(index=False)
    test = BinaryJSONField(null=True, index=False)
    """The rows that were put aside; not told until somebody looks."""
    seconds = DoubleField()
    bytes = BigIntegerField()
    created = DateTimeTZField(constraints=NOW)
    looks: Any


class TestLook(Record):
    """That somebody looked at the rows put aside, of one candidate."""

    candidate = ForeignKeyField(Candidate, backref="looks", on_delete="cascade")
    candidate_id: UUID
    author = TextField(default="")
    created = DateTimeTZField(constraints=NOW)

    class Meta:
        table_name = "test_look"


class EvidenceRow(Model):
    key = TextField(primary_key=True)
    method = TextField()
    body = BinaryJSONField(index=False)
    files = BinaryJSONField(index=False, default=list)
    """Digests of the files that hold its large arrays."""
    seal = TextField(null=True)
    """By the house's secret, over all of it but this and when it was made."""
    created = DateTimeTZField(constraints=NOW)

    class Meta:
        database = database
        table_name = "evidence"


class AuditEvidence(Model):
    """That an audit asked for a piece of evidence; two audits of the same table, model and meaning share it."""

    audit = ForeignKeyField(Audit, backref="asked", on_delete="cascade")
    evidence = ForeignKeyField(EvidenceRow, column_name="evidence_key", backref="owners", on_delete="cascade")
    finds = BooleanField(default=False)
    """Whether findings may come of it."""

    class Meta:
        database = database
        table_name = "audit_evidence"
        primary_key = CompositeKey("audit", "evidence")


def given_to(audit: Audit) -> list[InputFile]:
    """What is read of what an audit was given besides its table and models: of each input the last file, by name."""
    every = InputFile.select().where(InputFile.audit == audit)
    return list(every.order_by(InputFile.input, InputFile.created.desc()).distinct(InputFile.input))


def own(audit: Audit | str | UUID, key: str) -> None:
    """Write down that an audit asked for a piece of evidence."""
    finds = EvidenceRow.select(EvidenceRow.method.in_(FINDING)).where(EvidenceRow.key == key)
    AuditEvidence.insert(audit=audit, evidence=key, finds=finds).on_conflict_ignore().execute()


class FoundBefore(Model):
    """What was last found with a method in one context, in the words of then: it stays until it is measured again."""

    audit = ForeignKeyField(Audit, backref="found", on_delete="cascade")
    method = TextField()
    frame = TextField()
    """Which model version and rows were read, whatever they mean by now."""
    evidence_key = TextField()
    meant = TextField()
    """Digest of the meaning that it was found under."""
    findings = BinaryJSONField(index=False)

    class Meta:
        database = database
        table_name = "found_before"
        primary_key = CompositeKey("audit", "method", "frame")


class Task(Record):
    audit = ForeignKeyField(Audit, null=True, backref="tasks", on_delete="cascade")
    audit_id: UUID | None
    kind = TextField()
    title = TextField()
    key = TextField(null=True)
    payload = BinaryJSONField(index=False)
    state = TextField(default="queued")
    done = BigIntegerField(default=0)
    total = BigIntegerField(default=0)
    what = TextField(default="")
    seconds_left = DoubleField(null=True)
    expected = DoubleField(null=True)
    """Seconds it was expected to take when it was asked for; null where nobody knew."""
    unwatched = BooleanField(default=False)
    """Whether the page that asked for it was left."""
    cancel = BooleanField(default=False)
    attempts = IntegerField(default=0)
    error = BinaryJSONField(null=True, index=False)
    result = BinaryJSONField(null=True, index=False)
    created = DateTimeTZField(constraints=NOW)
    queued = DateTimeTZField(constraints=NOW)
    started = DateTimeTZField(null=True)
    heartbeat = DateTimeTZField(null=True)
    finished = DateTimeTZField(null=True)

    class Meta:
        table_name = "background_task"  # the queue has a table of messages called "task"


class Timing(Model):
    """What work took on this machine."""

    work = TextField()
    basis = TextField()
    cells = BigIntegerField()
    seconds = DoubleField()
    learnt = DateTimeTZField(constraints=NOW)

    class Meta:
        database = database
        primary_key = CompositeKey("work", "basis")
        table_name = "timing"


class Kept(Record):
    audit = ForeignKeyField(Audit, backref="kept", on_delete="cascade")
    evidence = ForeignKeyField(EvidenceRow, column_name="evidence_key")
    context = BinaryJSONField(index=False)
    view = BinaryJSONField(index=False, default=dict)
    note = TextField(default="")
    noted = IntegerField(default=0)
    spec = BinaryJSONField(null=True, index=False)
    """The meaning when it was kept, so that numbers keep the words that they were told with."""
    removed = BooleanField(default=False)
    created = DateTimeTZField(constraints=NOW)


class Judgement(Record):
    """What people decided about one finding of an audit, and why; who sees to it, and until when."""

    audit = ForeignKeyField(Audit, backref="judgements", on_delete="cascade")
    finding = TextField()
    decision = TextField(default="open")
    reason = TextField(default="")
    owner = TextField(default="")
    due = DateField(null=True)
    version = TextField(default="")
    """The model version in which it is mended."""
    author = TextField(default="")
    number = IntegerField(default=1)
    """Raised with every change, so that nobody writes over what they have not read."""
    seen = BinaryJSONField(null=True, index=False)
    """What was found when it was decided: the fact with its parts, and of which evidence, table and model version."""
    changed = DateTimeTZField(constraints=NOW)


class Remark(Record):
    """One line of a finding's history: what was changed, what was said, by whom; never altered."""

    audit = ForeignKeyField(Audit, backref="remarks", on_delete="cascade")
    finding = TextField()
    changes = BinaryJSONField(index=False, default=dict)
    said = TextField(default="")
    author = TextField(default="")
    created = DateTimeTZField(constraints=NOW)


class TakenApart(Model):
    """A finding that a person took out of the fact that it was gathered into."""

    audit = ForeignKeyField(Audit, backref="apart", on_delete="cascade")
    finding = TextField()
    author = TextField(default="")
    created = DateTimeTZField(constraints=NOW)

    class Meta:
        database = database
        table_name = "taken_apart"
        primary_key = CompositeKey("audit", "finding")


class Raised(Record):
    """A finding that a person raised on a figure."""

    audit = ForeignKeyField(Audit, backref="raised", on_delete="cascade")
    statement = TextField()
    evidence = ForeignKeyField(EvidenceRow, column_name="evidence_key")
    context = BinaryJSONField(index=False)
    author = TextField(default="")
    created = DateTimeTZField(constraints=NOW)


class MeaningVersion(Record):
    """One version of one part of an audit's meaning, who wrote it and why; the last one is in force."""

    audit = ForeignKeyField(Audit, backref="meanings", on_delete="cascade")
    part = TextField()
    number = IntegerField()
    body = BinaryJSONField(index=False)
    answers = BinaryJSONField(null=True, index=False)
    author = TextField()
    reason = TextField(default="")
    created = DateTimeTZField(constraints=NOW)


class DecisionRule(Record):
    """One version of a model version's decision rule; the last one is in force. None: the audit's own threshold."""

    model = ForeignKeyField(ModelVersion, backref="rules", on_delete="cascade")
    number = IntegerField()
    rule = BinaryJSONField(null=True, index=False)
    author = TextField()
    reason = TextField(default="")
    created = DateTimeTZField(constraints=NOW)


class Report(Record):
    audit = ForeignKeyField(Audit, backref="reports", on_delete="cascade")
    number = IntegerField()
    html_digest = TextField()
    json_digest = TextField()
    flagged = IntegerField()
    tested = IntegerField(null=True)
    files = BinaryJSONField(index=False, default=dict)
    """Digests of all its files by their names; none for reports of earlier versions, which have the two above."""
    manifest = TextField(null=True)
    """Digest of the file that names them all, which is what people sign."""
    title = TextField(default="")
    created = DateTimeTZField(constraints=NOW)
    signatures: Any
    forms: Any


class ReportDraft(Record):
    """One version of the document that an audit's next report is written from; the last one is in force."""

    audit = ForeignKeyField(Audit, backref="drafts", on_delete="cascade")
    number = IntegerField()
    body = BinaryJSONField(index=False)
    author = TextField(default="")
    created = DateTimeTZField(constraints=NOW)


class ReportPreview(Model):
    """The document as a reader would get it, made of what there was."""

    audit = ForeignKeyField(Audit, backref="previews", on_delete="cascade")
    reader = TextField()
    made_of = TextField()
    files = BinaryJSONField(index=False)
    lacking = BinaryJSONField(index=False, default=list)
    created = DateTimeTZField(constraints=NOW)

    class Meta:
        database = database
        table_name = "report_preview"
        primary_key = CompositeKey("audit", "reader")


class ReportForm(Model):
    """Another form of a report, made from what was written; it can be made again."""

    report = ForeignKeyField(Report, backref="forms", on_delete="cascade")
    name = TextField()
    file = TextField()

    class Meta:
        database = database
        table_name = "report_form"
        primary_key = CompositeKey("report", "name")


class Signature(Record):
    """That somebody signed a report. What was signed is a file, and each file names the one before."""

    report = ForeignKeyField(Report, backref="signatures", on_delete="cascade")
    number = IntegerField()
    name = TextField()
    role = TextField()
    note = TextField(default="")
    before = TextField(default="")
    """Digest of the signature before, or of the report's manifest."""
    file = TextField()
    created = DateTimeTZField(constraints=NOW)


RECORDS: tuple[type[Model], ...] = (
    *Record.__subclasses__(),
    *(one for one in Model.__subclasses__() if one._meta.database is database and one is not Record),
)
"""Every kind of record that the schema holds."""
