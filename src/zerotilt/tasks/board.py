"""Asking for work: what is already there is given back, what is under way is joined, the rest is queued."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import uuid
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import peewee

from zerotilt.core.attached import digests_in
from zerotilt.core.evidence import Digests, Evidence, changed_since, key
from zerotilt.core.meaning import MOST_OTHERS, Context, Other, Rule, Spec
from zerotilt.core.methods import METHODS, first_shown, method_named
from zerotilt.core.refusal import Refused
from zerotilt.core.rows import nothing_trained
from zerotilt.report.compose import SEED
from zerotilt.store.bell import ASKED, ring
from zerotilt.store.check import lock_file
from zerotilt.store.database import database
from zerotilt.store.records import (
    ACTIVE,
    Audit,
    DecisionRule,
    EvidenceRow,
    Kept,
    ModelVersion,
    Raised,
    TableFile,
    Task,
    given_to,
    own,
)
from zerotilt.tasks.expectation import GUESS, QUICK_SECONDS, expected, patience
from zerotilt.tasks.queue import Queue, Turn

QUICK_KINDS = ("read_table", "inspect_model", "read_input", "check")
"""What a person waits for in Intake: begun at once, whatever else is under way."""


@dataclass(frozen=True)
class Direct:
    """What is asked for without a task: the key that the evidence will have, what it is computed from, in which time, and
    the keys of what is computed with it.
    """

    key: str
    payload: dict[str, Any]
    seconds: float
    beside: tuple[str, ...] = ()


class Board:
    """Creates tasks and puts them on the queue."""

    def __init__(self, queue: Queue):
        self.queue = queue

    def submit(
        self,
        kind: str,
        title: str,
        payload: dict[str, Any],
        audit: Audit | None = None,
        wanted: str | None = None,
        turn: Turn = Turn.asked,
        expected: float | None = None,
    ) -> Task:
        """A queued task; the one under way when ``wanted`` names the same result."""
        try:
            with database.atomic():
                if "digest" in payload:
                    lock_file(payload["digest"])  # nobody takes the file away while the task is written down
                if kind in QUICK_KINDS:
                    expected = GUESS
                ahead = turn.unwatched and kind == "evidence"
                task = Task.create(
                    audit=audit, kind=kind, title=title, payload=payload, key=wanted, expected=expected, unwatched=ahead
                )
                # in the same transaction: task and message exist together or not at all
                self.queue.send(str(task.id), turn)
                if not turn.unwatched and _quick(expected):
                    ring(ASKED, str(task.id))
        except peewee.IntegrityError:
            # what was told to end is not joined: whoever asks again wants it after all
            Task.update(key=None).where((Task.key == wanted) & Task.state.in_(ACTIVE) & Task.cancel).execute()
            found = Task.get_or_none((Task.key == wanted) & (Task.state.in_(ACTIVE)))
            if found is not None and not turn.unwatched:
                self._look_at(found, turn)
            return found or self.submit(kind, title, payload, audit, wanted, turn, expected)
        return task

    def _look_at(self, task: Task, turn: Turn) -> None:
        """Somebody looks at what was left, or was being made ready: it comes forward."""
        with database.atomic():
            left = Task.update(unwatched=False).where((Task.id == task.id) & Task.unwatched).execute()
            if left and task.state == "queued":
                self.queue.send(str(task.id), turn)
                if _quick(task.expected):
                    ring(ASKED, str(task.id))

    def ahead(self, audit: Audit, context: Context) -> None:
        """Queue what the parts show first, in the order in which they stand, so that who opens them does not wait.

        Nothing is made ready where the environment says ZT_AHEAD=off.
        """
        if os.environ.get("ZT_AHEAD") == "off":
            return
        spec = Spec.model_validate(audit.spec)
        given = [one.input for one in given_to(audit)]
        for name, settings in first_shown(spec, context.model is not None, given):
            with contextlib.suppress(Refused):
                self.reading(audit, context, name, settings, turn=Turn.ahead)

    def reading(
        self, audit: Audit, context: Context, method: str, settings: dict[str, Any], turn: Turn = Turn.asked
    ) -> EvidenceRow | Task:
        """The evidence when it exists, else the task that computes it."""
        wanted, payload = _wanted(audit, context, method, settings)
        row = EvidenceRow.get_or_none(EvidenceRow.key == wanted)
        if row is not None:
            own(audit, wanted)  # another audit may have asked for it first
        found = method_named(method)
        if found.first_look and found.first_look.items() <= payload["settings"].items():
            turn = Turn.first_look
        # joined within an audit only: another's page does not see this one's work; the result is shared all the same
        if row is not None:
            return row
        if needed := found.reads(found.settings.model_validate(settings)):
            other = self.known(audit, context, needed, {})
            payload["given_digest"] = next(iter(digests_in(other.body["result"]).values()), None) if other else None
        seconds = expected(payload, payload["cells"])
        return self.submit("evidence", found.title, payload, audit, f"{wanted}:{audit.id}", turn, seconds)

    def at_hand(
        self, audit: Audit, context: Context, method: str, settings: dict[str, Any]
    ) -> EvidenceRow | Direct | None:
        """The evidence when it exists, else how to ask for it directly; None where it has to be a task.

        Asked for directly is what leaves no files and is known to be quick on these very rows, or may be: of a small table.
        """
        starts: dict[tuple[bool, bool], _Start] = {}
        wanted, payload = _wanted(audit, context, method, settings, starts)
        row = EvidenceRow.get_or_none(EvidenceRow.key == wanted)
        if row is not None:
            own(audit, wanted)
            return row
        found = method_named(method)
        if found.attaches or found.reads_others or found.reads(found.settings.model_validate(settings)):
            return None
        seconds = patience(payload, payload["cells"])
        if not seconds:
            return None
        also = found.also(found.settings.model_validate(settings))
        beside = tuple(_wanted(audit, context, name, dict(asked), starts)[0] for name, asked in also)
        return Direct(wanted, payload, seconds, beside)

    def known(self, audit: Audit, context: Context, method: str, settings: dict[str, Any]) -> EvidenceRow | None:
        """The evidence when it exists; nothing is queued."""
        return EvidenceRow.get_or_none(EvidenceRow.key == _wanted(audit, context, method, settings)[0])

    def there(self, audit: Audit, context: Context, wanted: Mapping[str, dict[str, Any]]) -> dict[str, str]:
        """By method the key of the evidence that exists, of several at once; settings by method."""
        starts: dict[tuple[bool, bool], _Start] = {}
        keys = {method: _wanted(audit, context, method, asked, starts)[0] for method, asked in wanted.items()}
        found = {one.key for one in EvidenceRow.select(EvidenceRow.key).where(EvidenceRow.key << list(keys.values()))}
        return {method: key for method, key in keys.items() if key in found}

    def failed(self, audit: Audit, context: Context, method: str, settings: dict[str, Any]) -> bool:
        """Whether computing it was tried, and failed."""
        wanted = f"{_wanted(audit, context, method, settings)[0]}:{audit.id}"
        return Task.select().where((Task.key == wanted) & (Task.state == "failed")).exists()

    def check(self, audit: Audit, context: Context) -> Task:
        payload = basis(audit, context) | {"seed": SEED}
        return self.submit("check", "Model scored, roles checked", payload, audit, named("check", audit, payload))


def _quick(expected: float | None) -> bool:
    return expected is not None and expected <= QUICK_SECONDS


def named(kind: str, audit: Audit, payload: dict[str, Any]) -> str:
    """One name for the same work: what it starts from counts, so that two models' are never joined into one."""
    body = json.dumps(payload, sort_keys=True, default=str)
    return f"{kind}:{audit.id}:{hashlib.sha256(body.encode()).hexdigest()[:32]}"


def current_table(audit: Audit) -> TableFile:
    found = audit.tables.order_by(TableFile.created.desc()).first()
    if found is None:
        raise Refused("The audit has no table yet.", todo="Upload a table in Intake.")
    return found


def basis(audit: Audit, context: Context, table: TableFile | None = None, others: bool = False) -> dict[str, Any]:
    """What every computation of an audit starts from: meaning, table, model and context, by digest; ``others``: with all
    other versions of the audit."""
    table = table or current_table(audit)
    if audit.spec is None:
        raise Refused("The columns have no meaning yet.", todo="Finish Intake first.")
    model = version_of(audit, context.model)
    beside = context.alongside and version_of(audit, context.alongside.model)
    context = in_force(context, model, beside)
    told = {"others": _others(audit, model), "model_named": model.name if model else ""} if others else {}
    context = context.model_copy(update={"others": (), "model_named": ""} | told)
    if model is None and nothing_trained(Spec.model_validate(audit.spec)):
        context = context.model_copy(update={"rows": "all"})
    return {
        "spec": audit.spec,
        "table_digest": table.digest,
        "uploaded_digest": table.raw_digest,
        "table_name": table.name,
        "model_digest": model.digest if model else None,
        "model_name": model.name if model else None,
        "alongside_digest": beside.digest if beside else None,
        "alongside_name": beside.name if beside else None,
        "inputs": {one.input: one.digest for one in given_to(audit)},
        "context": context.model_dump(mode="json"),
    }


def _others(audit: Audit, model: ModelVersion | None) -> tuple[Other, ...]:
    """The audit's other versions, the newest first, by names that tell them apart."""
    every = audit.models.order_by(ModelVersion.created.desc(), ModelVersion.id)
    newest = [one for one in every if model is None or one.digest != model.digest][:MOST_OTHERS]
    seen = Counter(one.name for one in [*newest, *([model] if model else [])])
    return tuple(
        Other(
            name=one.name if seen[one.name] == 1 else f"{one.name} ({one.digest[:6]})",
            digest=one.digest,
            rule=rule_of(one),
        )
        for one in newest
    )


def in_force(context: Context, model: ModelVersion | None, beside: ModelVersion | None) -> Context:
    """The context with the decision rules that its model versions are under."""
    alongside = context.alongside
    if alongside is not None:
        alongside = alongside.model_copy(update={"rule": rule_of(beside)})
    return context.model_copy(update={"rule": rule_of(model), "alongside": alongside})


def rule_of(model: ModelVersion | None) -> Rule | None:
    """A version's decision rule; None where the audit's threshold holds."""
    last = model and model.rules.order_by(DecisionRule.number.desc()).first()
    return Rule.model_validate(last.rule) if last and last.rule else None


def version_of(audit: Audit, wanted: str | None) -> ModelVersion | None:
    if wanted is None:
        return None
    try:
        found = ModelVersion.get_or_none((ModelVersion.id == uuid.UUID(wanted)) & (ModelVersion.audit == audit))
    except ValueError:
        found = None
    if found is None:
        raise Refused("The audit has no such model version.", where="model", todo="Choose one of its versions.")
    return found


@dataclass(frozen=True)
class _Start:
    """What results of one audit and context start from."""

    table: TableFile
    arguments: dict[str, Any]
    digests: Digests
    context: Context

    @classmethod
    def of(cls, audit: Audit, context: Context, others: bool) -> _Start:
        table = current_table(audit)
        arguments = basis(audit, context, table, others)
        digests = digests_of(arguments, Spec.model_validate(arguments["spec"]))
        return cls(table, arguments, digests, Context.model_validate(arguments["context"]))


def _wanted(
    audit: Audit,
    context: Context,
    method: str,
    settings: dict[str, Any],
    starts: dict[tuple[bool, bool], _Start] | None = None,
) -> tuple[str, dict[str, Any]]:
    """The key of a result, and the payload of the task that would compute it.

    ``starts``: what was found for other results of the same audit and context, with what is read alongside and without;
    added to.
    """
    found = method_named(method)
    checked = found.settings.model_validate(settings)
    starts = {} if starts is None else starts
    reads = found.reads_alongside, found.reads_others
    if reads not in starts:
        read = context if found.reads_alongside else context.model_copy(update={"alongside": None})
        starts[reads] = _Start.of(audit, read, found.reads_others)
    start = starts[reads]
    table, arguments = start.table, start.arguments
    payload = arguments | {
        "method": method,
        "settings": checked.model_dump(mode="json"),
        "seed": SEED,
        "cells": table.profile["rows"] * len(table.profile["columns"]),
    }
    return key(found, start.digests, start.context, checked, SEED), payload


def changes(audit: Audit, kept: Kept | Raised) -> tuple[str, ...]:
    """What has changed since a figure was kept, or a finding raised on it, in words."""
    found = Evidence.model_validate(kept.evidence.body)
    return changes_of(audit, found, Context.model_validate(kept.context))


def changes_of(audit: Audit, found: Evidence, context: Context) -> tuple[str, ...]:
    """What has changed since a result was computed that would be asked for in a context, in words."""
    return Since(audit).computed(found, context)


class Since:
    """What has changed in an audit since results were computed; what many of them have in common is looked up once."""

    def __init__(self, audit: Audit):
        self._audit = audit
        self._today: dict[tuple[str, bool], tuple[Digests, Context]] = {}

    def computed(self, found: Evidence, context: Context | None = None) -> tuple[str, ...]:
        """In words; empty where it would be computed alike today.

        Parameters
        ----------
        context : in which it would be asked for; its own with the audit's versions of the same models when None.
        """
        others = found.method in METHODS and METHODS[found.method].reads_others
        try:
            digests, now = self._now(context or self._own(found), others)
        except Refused:
            return ("the model version",)
        return changed_since(found, digests, now)

    def _own(self, found: Evidence) -> Context:
        """Its context: it may have been computed for another audit, of which this one is a copy."""
        alongside = found.context.alongside
        if alongside is not None and alongside.model is not None:
            alongside = alongside.model_copy(update={"model": self._version(found.digests.alongside)})
        model = self._version(found.digests.model) if found.context.model is not None else None
        return found.context.model_copy(update={"model": model, "alongside": alongside})

    def _version(self, digest: str | None) -> str:
        version = model_of(self._audit, digest)
        if version is None:
            raise Refused("The audit has no such model version.", where="model", todo="Choose one of its versions.")
        return version

    def _now(self, context: Context, others: bool) -> tuple[Digests, Context]:
        wanted = context.model_dump_json(), others
        if wanted not in self._today:
            today = basis(self._audit, context, others=others)
            self._today[wanted] = (
                digests_of(today, Spec.model_validate(today["spec"])),
                Context.model_validate(today["context"]),
            )
        return self._today[wanted]


def now_of(audit: Audit, context: Context) -> tuple[Digests, Context]:
    """Of what a reading in a context would be computed now: the digests, and the context with the rules in force."""
    today = basis(audit, context)
    return digests_of(today, Spec.model_validate(today["spec"])), Context.model_validate(today["context"])


def model_of(audit: Audit, digest: str | None) -> str | None:
    """The audit's model version of a digest."""
    found = digest and audit.models.where(ModelVersion.digest == digest).order_by(ModelVersion.created.desc()).first()
    return str(found.id) if found else None


def digests_of(arguments: dict[str, Any], spec: Spec) -> Digests:
    return Digests.of(
        spec,
        arguments["table_digest"],
        arguments["model_digest"],
        alongside=arguments["alongside_digest"],
        inputs=arguments.get("inputs"),
    )
