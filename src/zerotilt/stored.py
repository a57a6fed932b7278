"""What the command line does with stored records, whether or not Zero Tilt is running."""

from __future__ import annotations

import contextlib
import json
import os
import uuid
from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple

import peewee
from pydantic import ValidationError

from zerotilt.core import words
from zerotilt.core.evidence import LIBRARIES, Digests, Evidence, compute
from zerotilt.core.inputs import path_of
from zerotilt.core.meaning import Spec
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.reproduction import Compared, compared
from zerotilt.core.work import Work
from zerotilt.readers.held import Held
from zerotilt.report.archive import EVIDENCE, FORMAT
from zerotilt.services.addresses import FILES, database_for
from zerotilt.services.home import Home
from zerotilt.store import database, ledger
from zerotilt.store.files import Damaged, FileStore, Missing, elsewhere
from zerotilt.store.records import Audit, Report

FEWEST = 8
"""Signs of a digest that name a report."""


@contextlib.contextmanager
def opened() -> Iterator[FileStore]:
    """The stored files, with a connection to their records; the database is started for as long where it does not run.

    Raises
    ------
    Refused : the database does not answer, or stops answering before this is done.
    """
    home = Home()
    running = home.running()
    postgres = database_for(home)
    if running:
        postgres.port = running["database_port"]
    else:
        postgres.start()
    try:
        database.bind(postgres.address)
        database.migrate()
        with database.database.connection_context():
            files = FileStore(home.files, elsewhere(os.environ.get(FILES)))
            ledger.begin(files)
            yield files
    except (peewee.OperationalError, peewee.InterfaceError) as problem:
        said = str(problem).strip().splitlines()
        raise Refused(
            f"The database does not answer ({said[-1] if said else type(problem).__name__}).",
            todo="It may be starting: try again in a moment.",
        ) from None
    finally:
        postgres.stop()


@contextlib.contextmanager
def written_whole(path: Path) -> Iterator[BinaryIO]:
    """A file that is there whole or not at all; one of this name stays as it was where writing fails.

    Raises
    ------
    Refused : it cannot be written.
    """
    part = path.with_name(f".{path.name}.{uuid.uuid4().hex}")
    try:
        with part.open("xb") as sink:
            yield sink
        part.replace(path)
    except OSError as problem:
        raise Refused(f"The file cannot be written: {problem.strerror}.", where=str(path)) from None
    finally:
        with contextlib.suppress(OSError):  # where nothing could be written there is nothing to be removed
            part.unlink(missing_ok=True)


def audit_named(name: str) -> Audit:
    """An audit by its identity or its title.

    Raises
    ------
    Refused : there is none, or several have this title.
    """
    with contextlib.suppress(ValueError):
        found = Audit.get_or_none(Audit.id == uuid.UUID(name))
        if found is not None:
            return found
    named = list(Audit.select().where((Audit.title == name) & Audit.deleted.is_null()))
    if len(named) == 1:
        return named[0]
    if named:
        ids = words.listing([str(one.id) for one in named])
        raise Refused(f"{len(named)} audits are called “{name}”.", todo=f"Give one by its identity: {ids}.")
    titles = [one.title for one in Audit.select().where(Audit.deleted.is_null()).order_by(Audit.created)]
    raise Refused(f"There is no audit “{name}”; there are {words.listing(titles) or 'none'}.")


def report_named(name: str) -> Report:
    """A report by its digest, or as AUDIT/NUMBER.

    Raises
    ------
    Refused : there is no such report.
    """
    audit, slash, number = name.rpartition("/")
    if slash and number.isdigit():
        owner = audit_named(audit)
        found = Report.get_or_none((Report.audit == owner) & (Report.number == int(number)))
        if found is None:
            raise Refused(f"“{owner.title}” has no report {number}; it has {owner.reports.count()}.")
        return found
    told = name.lower().removeprefix("sha-256").strip()
    if len(told) >= FEWEST and set(told) <= set("0123456789abcdef"):
        for column in (Report.manifest, Report.html_digest):
            if (found := Report.get_or_none(column.startswith(told))) is not None:
                return found
    raise Refused(
        f"There is no report “{name}”.", todo="Give AUDIT/NUMBER, or the digest that the list of reports shows."
    )


class Again(NamedTuple):
    """One figure computed again."""

    name: str
    title: str
    compared: Compared | None
    """None where it could not be computed."""
    why: str = ""
    libraries: tuple[str, ...] = ()
    """What has another version today."""

    @property
    def sentence(self) -> str:
        said = self.compared.sentence if self.compared is not None else f"not computed again: {self.why}"
        other = f" [{', '.join(self.libraries)}]" if self.libraries else ""
        return f"{self.name} {self.title}: {said}{f' ({self.why})' if self.compared and self.why else ''}{other}"


def reproduce(report: Report, files: FileStore, work: Work) -> Iterator[Again]:
    """Compute every figure of a report again from the stored inputs, one after the other.

    Raises
    ------
    Refused : the report was written before its evidence was kept with it. Missing, Damaged : that file is not whole.
    """
    if EVIDENCE not in report.files:
        raise Refused(
            f"Report {report.number} was written before the evidence of a report was kept with it.",
            todo="Write a new report; that one can be made again.",
        )
    stored = json.loads(files.verified(report.files[EVIDENCE]).read_bytes())
    if stored["format"] != FORMAT:
        raise Refused(f"Its evidence is in the format {stored['format']}, which this release does not read.")
    held, spec = Held(), Spec.model_validate(stored["spec"])
    for body in stored["evidence"]:
        yield _again(
            Evidence.model_validate({name: body[name] for name in body if name != "name"}),
            body["name"],
            spec,
            held,
            files,
            work,
        )


def _again(was: Evidence, name: str, spec: Spec, held: Held, files: FileStore, work: Work) -> Again:
    method = METHODS.get(was.method)

    def not_again(why: str) -> Again:
        return Again(name, was.title, None, why)

    if method is None:
        return not_again("there is no such method any more")
    of_now, of_then = Digests.of(spec, was.digests.table), was.digests
    other = [part for part in sorted(method.depends) if getattr(of_now, part) != getattr(of_then, part)]
    if other:
        return not_again(
            "it was computed under another meaning of the columns, comparisons or limits than the report's"
        )
    arguments: dict[str, Any] = {"spec": spec.model_dump(mode="json"), "context": was.context.model_dump(mode="json")}
    try:
        for part in ("table", "model", "alongside"):
            arguments[f"{part}_digest"] = digest = getattr(of_then, part)
            if digest:
                arguments[f"{part}_path"] = str(files.verified(digest))
        arguments["inputs"] = of_then.inputs
        for part, digest in of_then.inputs.items():
            arguments[path_of(part)] = str(files.verified(digest))
        settings = method.settings.model_validate(was.settings)
        subject, digests = held.subject(arguments)
        now = compute(subject, digests, method.name, settings, was.seed, work)
    except ValidationError:
        return not_again("its settings are not known any more")
    except (Missing, Damaged, Refused) as problem:
        return not_again(problem.sentence())
    why = (
        f"by version {was.method_version} of its method then, {method.version} today"
        if was.method_version != method.version
        else ""
    )
    names = ("zerotilt", *LIBRARIES)
    moved = tuple(
        f"{one} {was.libraries[one]} → {now.libraries[one]}"
        for one in names
        if one in was.libraries and was.libraries[one] != now.libraries[one]
    )
    return Again(name, was.title, compared(was.result, now.result), why, moved)
