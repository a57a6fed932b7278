"""An audit from files to files: no browser, no server, no database."""

from __future__ import annotations

import hashlib
import io
import json
import shutil
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO, cast

import pyarrow as pa
import pyarrow.parquet as pq

from zerotilt import settings_file
from zerotilt.asked import Request, meaning
from zerotilt.core import arrayfile, guess, profiles, table, words
from zerotilt.core.contributions import stream
from zerotilt.core.contributions.stream import Streamed
from zerotilt.core.evidence import Digests
from zerotilt.core.groups.disparity import TiltResult
from zerotilt.core.groups.tilt_said import wanting
from zerotilt.core.inputs import Given, input_named
from zerotilt.core.meaning import ModelReading, Role
from zerotilt.core.predictors.formats import opened
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work
from zerotilt.report import junit
from zerotilt.report.auditfile import audit_file
from zerotilt.report.baseline import Held, held_against
from zerotilt.report.baseline import read as read_baseline
from zerotilt.report.compose import gather
from zerotilt.report.document import READERS
from zerotilt.report.lacking import unsaid
from zerotilt.report.render import Cover, render
from zerotilt.settings_file import SettingsFile
from zerotilt.study import SEED, Study

FILES = ("csv", "parquet", "json")
"""Endings of files of records."""


def digest(source: BinaryIO) -> str:
    """SHA-256 of a file, read in pieces."""
    return hashlib.file_digest(source, "sha256").hexdigest()


@dataclass(frozen=True)
class Outcome:
    """What came of an audit: flagged comparisons as sentences, what matters to the decision first, the findings that they
    are gathered into, and how many could be tested.
    """

    flagged: tuple[str, ...]
    findings: int
    comparisons: int
    tested: int
    wanting: str
    """What it would take, where nothing could be tested."""
    favourable: str = ""
    """What was taken to be the favourable decision, in a sentence."""
    unfit: tuple[str, ...] = ()
    """What of the settings did not fit the table, and what is missing in the report that they arrange."""
    held: Held | None = None
    """What has grown since the baseline, where one was given."""


@dataclass(frozen=True)
class Files:
    """What an audit from files to files works with."""

    table: Path
    model: Path | None
    out: Path
    settings: SettingsFile | None
    inputs: Mapping[str, Path] = field(default_factory=dict)


def opened_settings(
    settings: Path | None, table: Path | None, model: Path | None, out: Path | None, said: Sequence[str]
) -> Files:
    """The files of an audit: those named on the command line, else those beside the settings.

    Parameters
    ----------
    said : options given that the settings say too.

    Raises
    ------
    Refused : a file is missing, or something is said twice.
    """
    if settings is None:
        needed = {"--table": table, "--out": out, "--group": "--group" in said}
        if missing := [name for name, value in needed.items() if not value]:
            raise Refused(
                f"{words.listing(missing)} {'is' if len(missing) == 1 else 'are'} needed.",
                todo="Give them, or a file of settings.",
            )
        return Files(table or Path(), model, out or Path(), None)
    if said:
        raise Refused(
            f"{words.listing(list(said))} {'was' if len(said) == 1 else 'were'} given besides a file of settings, which says it.",
            todo="Change it there, or leave the file out.",
        )
    with _opened(settings) as source:
        text = source.read(settings_file.MOST_BYTES + 1)
    if len(text) > settings_file.MOST_BYTES:
        raise Refused("The file is too large for settings.", where=str(settings), todo="Check the path.")
    try:
        found = settings_file.read(text.decode())
    except UnicodeDecodeError:
        raise Refused("The file is no text.", where=str(settings), todo="Check the path.") from None
    here = settings.parent
    if table is None and not found.table:
        raise Refused("The settings name no table.", where=str(settings), todo="Give --table.")
    own = here / found.model if found.model else None
    inputs = {input_named(name).name: here / file for name, file in found.inputs.items()}
    return Files(table or here / found.table, model or own, out or here / found.report, found, inputs)


def audit(request: Request, work: Work) -> Outcome:
    """Run the whole audit; write report.html and audit.json.

    Raises
    ------
    Refused : anything about the input that cannot be used.
    """
    if request.settings is None:
        given = [name for name in (request.model, request.score, request.decision) if name is not None]
        if len(given) != 1:
            raise Refused(
                f"{len(given)} of --model, --score and --decision were given; exactly one is needed.",
                todo="Say where the predictions come from.",
            )
    baseline = None
    if request.against is not None:
        with _opened(request.against) as source:
            baseline = read_baseline(source.read(), str(request.against))
    request.out.mkdir(parents=True, exist_ok=True)
    with _opened(request.table) as source, tempfile.TemporaryFile() as typed:
        table_digest = digest(source)
        noted: list[str] = []
        table.convert(source, typed, work=work, name=request.table.name, notes=noted)
        typed.seek(0)
        cases = Table(typed)
        spec, context, misfits = meaning(request, cases, work)
        unfit = (*noted, *(f"not taken from the settings: {one}" for one in misfits))
        predictor = None
        model_digest = None
        if request.model:
            with _opened(request.model) as model:
                data = model.read()
            model_digest = hashlib.sha256(data).hexdigest()
            reading = ModelReading(
                model=model_digest, inputs=tuple(request.model_inputs), outputs=tuple(request.model_outputs)
            )
            if reading.inputs or reading.outputs:
                others = tuple(one for one in spec.model_readings if one.model != model_digest)
                spec = spec.model_copy(update={"model_readings": (*others, reading)})
            predictor = opened(data, cases, spec)
        files = read_inputs(request)
        subject = Subject(spec, cases, predictor, context, inputs=Given.of(files, cases, spec))
        if (
            predictor is not None
            and (question := predictor.order_in_doubt(cases, spec, subject.rows.numbers)) is not None
        ):
            raise question
        given = {name: hashlib.sha256(data).hexdigest() for name, data in files.items()}
        digests = Digests.of(spec, table_digest, model_digest, inputs=given)
        bundle = gather(subject, digests, work, explained=request.explained)
        cover = Cover(
            title=f"Audit of {request.table.name}",
            number=None,
            table_name=request.table.name,
            table_digest=table_digest,
            table_rows=cases.rows,
            model_name=request.model.name if request.model else None,
            how_made=how.sentence if predictor and predictor.card and (how := predictor.card.made) else "",
        )
        document = request.settings.document if request.settings else None
        drawn: dict[str, str] = {}
        for reader in READERS if document is not None else READERS[:1]:
            name = "report.html" if reader == "full" else f"{reader}.html"
            page = render(bundle, subject, cover, document, reader, drawn=drawn)
            _write(request.out / name, page.html)
            if document is not None:
                unfit += tuple(
                    f"missing in the report: {one}" for one in unsaid(document.complete(), reader, page.numbers)
                )
        _write(request.out / "audit.json", audit_file(bundle, subject, table_digest, spec).to_json())
        compared = bundle.evidence_of("tilt")
        tilt = cast(TiltResult, compared.typed) if compared else None
        held = None if baseline is None or tilt is None else held_against(baseline, tilt, request.grown_by)
        if request.junit:
            _write(request.junit, io.BytesIO(junit.written(tilt, spec.wording, cover.title, held)))
        if tilt is None:
            return Outcome((), 0, 0, 0, "no column makes groups", unfit=tuple(dict.fromkeys(unfit)))
        return Outcome(
            tuple(one.statement for one in bundle.findings("tilt")),
            len(bundle.facts("tilt")),
            len(tilt.disparities),
            tilt.tested,
            wanting(tilt, spec.wording),
            kind_of(spec.task).favour_told(spec),
            tuple(dict.fromkeys(unfit)),
            held,
        )


def read_inputs(request: Request) -> dict[str, bytes]:
    """What is read besides table and model, by the names of inputs.

    Raises
    ------
    Refused : one is not written as NAME=FILE, or its file cannot be read.
    """
    found: dict[str, bytes] = {}
    for name, path in request.inputs.items():
        input_named(name)
        with _opened(path) as source:
            found[name] = source.read()
    return found


def named_files(given: Sequence[str]) -> dict[str, Path]:
    """Options as NAME=FILE.

    Raises
    ------
    Refused : one is written otherwise.
    """
    found: dict[str, Path] = {}
    for one in given:
        name, sign, path = one.partition("=")
        if not sign or not path:
            raise Refused(f"--input: “{one}” was given; an input is written as NAME=FILE.")
        found[input_named(name).name] = Path(path)
    return found


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
    identifiers: Sequence[str] = (),
) -> Streamed:
    """Contributions of every row of a table file, written as Parquet, with the columns that name its rows.

    Raises
    ------
    Refused : anything about the input that cannot be used; nothing is written then.
    """
    with tempfile.TemporaryFile() as typed, tempfile.TemporaryFile() as found:
        with _opened(source) as given:
            table.convert(given, typed, work=Work(progress), name=source.name)
        typed.seek(0)
        some = stream.sample(typed, background, SEED)
        study = Study(some.whole(), model, outcome, event, task=task, output=scale, cluster=cluster, progress=progress)
        names = [one.name for one in guess.guess_columns(profiles.profile(some)) if one.role is Role.identifier]
        typed.seek(0)
        done = stream.explain_stream(study.subject, typed, found, SEED, study.work(), identifiers=identifiers or names)
        found.seek(0)
        _write(out, found)
    return done


def read_method(
    method: str,
    source: Path,
    model: Path | None,
    outcome: str | None,
    event: str | None,
    groups: list[str],
    given: list[str],
    where: list[str],
    picked: list[str],
    segment: str,
    out: Path | None,
    progress: Callable[[int, int, str], None] | None,
    score: str | None = None,
    decision: str | None = None,
    inputs: Sequence[str] = (),
) -> str:
    """Read one method of a table file by its name; its reading, and the records behind its figure in a file.

    Parameters
    ----------
    given : settings as ``name=value``; a value is JSON where it can be, else text.
    where, picked : only rows that meet every condition (see :func:`zerotilt.core.typed_conditions.parsed`), or these rows.
    segment : only rows of ``NAME: conditions`` (see :func:`zerotilt.core.typed_conditions.named`).
    score, decision : without a model, the column of recorded scores or decisions.
    inputs : what is read besides table and model, as ``NAME=FILE``.
    out : a file ending in .csv, .parquet or .json.

    Raises
    ------
    Refused : the method, a setting, the input or the file's ending is unknown or cannot be used; nothing is written then.
    """
    if out is not None:
        _kind_of(out)
    settings = {}
    for one in given:
        name, sign, value = one.partition("=")
        if not sign:
            raise Refused(f"--set: “{one}” was given; a setting is written as name=value.")
        try:
            settings[name] = json.loads(value)
        except (ValueError, RecursionError):
            settings[name] = value
    with tempfile.TemporaryFile() as typed:
        with _opened(source) as raw:
            table.convert(raw, typed, work=Work(progress), name=source.name)
        typed.seek(0)
        study = Study(pq.read_table(typed), model, outcome, event, score=score, decision=decision, groups=groups, progress=progress,
                      inputs={**named_files(inputs)})  # fmt: skip
    study = study.on(*where, picked=picked, segment=segment) if where or picked or segment else study
    found = study.read(method, **settings)
    if out is not None:
        write_records(found.table(), out)
    return "\n".join([found.reading, *found.points])


def write_records(found: pa.Table, out: Path) -> None:
    """Write records as the file's ending says.

    Raises
    ------
    Refused : the ending is none that is known.
    """
    body, _ = arrayfile.written(found, _kind_of(out))
    _write(out, io.BytesIO(body))


def _kind_of(out: Path) -> str:
    kind = out.suffix[1:]
    if kind not in FILES:
        raise Refused(f"--out: “{out}” was given; the file ends in {words.listing([f'.{one}' for one in FILES])}.")
    return kind


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
