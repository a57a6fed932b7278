"""An audit from files to files: no browser, no server, no database."""

from __future__ import annotations

import hashlib
import io
import json
import shutil
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import pyarrow.parquet as pq

from zerotilt.core import arrayfile, guess, levels, rows, segments, table, words
from zerotilt.core.contributions import stream
from zerotilt.core.contributions.stream import Streamed
from zerotilt.core.evidence import Digests
from zerotilt.core.groups.tilt_said import wanting
from zerotilt.core.meaning import ColumnSpec, Context, Kind, ModelReading, Role, Spec
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work
from zerotilt.notebook import SEED, Study
from zerotilt.report.auditfile import audit_file
from zerotilt.report.compose import gather
from zerotilt.report.render import Cover, render

FILES = ("csv", "parquet", "json")
"""Endings of files of records."""


@dataclass(frozen=True)
class Request:
    """What the command line asks for. Exactly one of model, score and decision is given."""

    table: Path
    outcome: str | None
    event: str
    groups: Sequence[str]
    out: Path
    model: Path | None = None
    score: str | None = None
    decision: str | None = None
    favourable: str | None = None
    threshold: float = 0.5
    ignore: Sequence[str] = ()
    explained: int | None = None
    split: str | None = None
    where: Sequence[str] = ()
    picked: Sequence[str] = ()
    model_inputs: Sequence[str] = ()
    model_outputs: Sequence[str] = ()


def digest(source: BinaryIO) -> str:
    """SHA-256 of a file, read in pieces."""
    return hashlib.file_digest(source, "sha256").hexdigest()


@dataclass(frozen=True)
class Outcome:
    """What came of an audit: flagged comparisons as sentences, furthest off parity first, and how many could be tested."""

    flagged: tuple[str, ...]
    comparisons: int
    tested: int
    wanting: str
    """What it would take, where nothing could be tested."""


def audit(request: Request, work: Work) -> Outcome:
    """Run the whole audit; write report.html and audit.json.

    Raises
    ------
    Refused : anything about the input that cannot be used.
    """
    given = [name for name in (request.model, request.score, request.decision) if name is not None]
    if len(given) != 1:
        raise Refused(
            f"{len(given)} of --model, --score and --decision were given; exactly one is needed.",
            todo="Say where the predictions come from.",
        )
    request.out.mkdir(parents=True, exist_ok=True)
    with _opened(request.table) as source, tempfile.TemporaryFile() as typed:
        table_digest = digest(source)
        table.convert(source, typed, work=work)
        typed.seek(0)
        cases = Table(typed)
        spec = _spec(request, cases, work)
        part = segments.typed(request.where, request.picked, cases.names) if request.where or request.picked else None
        context = Context(rows="hold-out" if request.split else "all", segment=part)
        predictor = None
        model_digest = None
        if request.model:
            with _opened(request.model) as model:
                data = model.read()
            model_digest = hashlib.sha256(data).hexdigest()
            reading = ModelReading(
                model=model_digest, inputs=tuple(request.model_inputs), outputs=tuple(request.model_outputs)
            )
            spec = spec.model_copy(update={"model_readings": (reading,)})
            predictor = OnnxPredictor(data, cases, spec)
        subject = Subject(spec, cases, predictor, context)
        if (
            predictor is not None
            and (question := predictor.order_in_doubt(cases, spec, subject.rows.numbers)) is not None
        ):
            raise question
        digests = Digests.of(spec, table_digest, model_digest)
        bundle = gather(subject, digests, work, explained=request.explained)
        cover = Cover(
            title=f"Audit of {request.table.name}",
            number=None,
            table_name=request.table.name,
            table_digest=table_digest,
            table_rows=cases.rows,
            model_name=request.model.name if request.model else None,
        )
        _write(request.out / "report.html", render(bundle, subject, cover))
        _write(request.out / "audit.json", audit_file(bundle, subject, table_digest, spec).to_json())
        compared = bundle.evidence_of("tilt")
        if compared is None:
            return Outcome((), 0, 0, "no column makes groups")
        tilt = compared.typed
        return Outcome(
            tuple(one.statement for one, _ in bundle.findings("tilt")),
            len(tilt.disparities),
            tilt.tested,
            wanting(tilt, spec.wording),
        )


def explain_table(
    source: Path,
    model: Path,
    outcome: str | None,
    out: Path,
    event: str | None,
    task: str | None,
    scale: str,
    background: int,
    cluster: str | None,
    progress: Callable[[int, int, str], None] | None,
) -> Streamed:
    """Contributions of every row of a table file, written as Parquet.

    Raises
    ------
    Refused : anything about the input that cannot be used; nothing is written then.
    """
    with tempfile.TemporaryFile() as typed, tempfile.TemporaryFile() as found:
        with _opened(source) as given:
            table.convert(given, typed, work=Work(progress))
        typed.seek(0)
        some = stream.sample(typed, background, SEED)
        study = Study(some.whole(), model, outcome, event, task=task, output=scale, cluster=cluster, progress=progress)
        typed.seek(0)
        done = stream.explain_stream(study.subject, typed, found, SEED, study.work())
        found.seek(0)
        _write(out, found)
    return done


def read_method(
    method: str,
    source: Path,
    model: Path,
    outcome: str | None,
    event: str | None,
    groups: list[str],
    given: list[str],
    where: list[str],
    picked: list[str],
    out: Path | None,
    progress: Callable[[int, int, str], None] | None,
) -> str:
    """Read one method of a table file by its name; its reading, and the records behind its figure in a file.

    Parameters
    ----------
    given : settings as ``name=value``; a value is JSON where it can be, else text.
    where, picked : only rows that meet every condition (see :func:`zerotilt.core.segments.parsed`), or these rows.
    out : a file ending in .csv, .parquet or .json.

    Raises
    ------
    Refused : the method, a setting, the input or the file's ending is unknown or cannot be used; nothing is written then.
    """
    kind = out.suffix[1:] if out else "csv"
    if kind not in FILES:
        raise Refused(f"--out: “{out}” was given; the file ends in {words.listing([f'.{one}' for one in FILES])}.")
    settings = {}
    for one in given:
        name, sign, value = one.partition("=")
        if not sign:
            raise Refused(f"--set: “{one}” was given; a setting is written as name=value.")
        try:
            settings[name] = json.loads(value)
        except ValueError:
            settings[name] = value
    with tempfile.TemporaryFile() as typed:
        with _opened(source) as raw:
            table.convert(raw, typed, work=Work(progress))
        typed.seek(0)
        study = Study(pq.read_table(typed), model, outcome, event, groups=groups, progress=progress)
    study = study.on(*where, picked=picked) if where or picked else study
    found = study.read(method, **settings)
    if out is not None:
        body, _ = arrayfile.written(found.table(), kind)
        _write(out, io.BytesIO(body))
    return found.reading


def _opened(path: Path) -> BinaryIO:
    try:
        return path.open("rb")
    except OSError as problem:
        raise Refused(
            f"The file cannot be read: {problem.strerror}.", where=str(path), todo="Check the path."
        ) from None


def _write(path: Path, content: str | BinaryIO) -> None:
    """Whole or not at all: a disk that fills up leaves the earlier file as it was."""
    path.parent.mkdir(parents=True, exist_ok=True)
    try:
        with tempfile.NamedTemporaryFile("wb", dir=path.parent, delete=False) as part:
            if isinstance(content, str):
                part.write(content.encode())
            else:
                shutil.copyfileobj(content, part)
        shutil.move(part.name, path)
    except OSError as problem:
        Path(part.name).unlink(missing_ok=True)
        raise Refused(f"The file cannot be written: {problem.strerror}.", where=str(path)) from None


def _spec(request: Request, cases: Table, work: Work) -> Spec:
    """What the command line said, and guesses for the rest. Roles nobody asked for are not guessed."""
    references = dict(_group(given, cases.names) for given in request.groups)
    split, _, held = (request.split or "").rpartition(":") if ":" in (request.split or "") else (request.split, "", "")
    named = {
        **({request.outcome: Role.outcome} if request.outcome else {}),
        **{name: Role.group for name in references},
        **{name: Role.ignored for name in request.ignore},
    }
    asked = {request.outcome: "outcome"} if request.outcome else {}
    for name, role in ((request.score, Role.score), (request.decision, Role.decision), (split, Role.split)):
        if name and name in asked:
            raise Refused(
                f"“{name}” was given as {asked[name]} and as {role.value}; a column can be one of them.",
                where=f"column “{name}”",
                todo="Give another column, or leave one of them out.",
            )
        if name:
            asked[name] = role.value
            named[name] = role
    for name in named:
        if name not in cases.names:
            raise Refused(
                f"The table has no column “{name}”; it has {', '.join(cases.names[:20])}.",
                where=f"column “{name}”",
                todo="Check the spelling.",
            )
    if request.outcome in references:
        raise Refused("The outcome cannot be a group as well.", where=f"column “{request.outcome}”")
    columns = []
    for found in guess.guess_columns(table.profile(cases, work)):
        role = named.get(found.name)
        if found.kind is Kind.bytes and role not in (None, Role.ignored):
            raise Refused(
                f"It holds bytes, which are kept and passed by; it cannot be the {role.value}.",
                where=f"column “{found.name}”",
                todo="Name another column.",
            )
        if role is None:
            plain = found.role in (Role.feature, Role.group, Role.outcome, Role.weight, Role.score, Role.decision)
            role = Role.feature if plain and found.kind is not Kind.text else found.role
            role = Role.ignored if role is Role.split else role
        columns.append(
            ColumnSpec(
                name=found.name, kind=found.kind, role=role, order=found.order, reference=references.get(found.name)
            )
        )
    spec = Spec(columns=tuple(columns), event=request.event, threshold=request.threshold)
    found = list(levels.predicted_levels(spec, cases)) or [request.event]
    event = levels.match_level(request.event, found) or request.event
    spec = spec.model_copy(update={"event": event, "favourable": _favourable(request, event, found)})
    rows.known(spec, cases)  # refuses an outcome that cannot be used
    for name, reference in references.items():
        found = [str(level) for level in cases.coded(name)[0]]
        if reference is not None and reference not in found and not cases.is_number(name):
            raise Refused(
                f"The reference group “{reference}” has no rows; the groups are {words.listing(found[:8])}.",
                where=f"column “{name}”",
                todo="Name one of these groups.",
            )
    if split:
        values = sorted({value for value in cases.texts(split) if value is not None})
        held_out, training = ((held,), tuple(v for v in values if v != held)) if held else guess.split_values(values)
        spec = spec.model_copy(update={"holdout_values": held_out, "training_values": training})
    return spec


def _favourable(request: Request, event: str, found: list[str]) -> str:
    if request.favourable is None:
        return "event"
    level = levels.match_level(request.favourable, found)
    if level is None:
        raise Refused(
            f"--favourable: “{request.favourable}” is not in the outcome column; it holds {', '.join(found[:6])}.",
            todo="Give one of these values.",
        )
    return "event" if level == event else "other"


def _group(given: str, names: list[str]) -> tuple[str, str | None]:
    """COLUMN or COLUMN:REFERENCE; a column whose own name holds a colon is tried first."""
    if given in names or ":" not in given:
        return given, None
    parts = given.split(":")
    for cut in range(len(parts) - 1, 0, -1):
        if ":".join(parts[:cut]) in names:
            return ":".join(parts[:cut]), ":".join(parts[cut:])
    return parts[0], ":".join(parts[1:])
