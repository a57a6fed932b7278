"""What runs inside the child process: core and report only, files in, JSON and files out."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from zerotilt.core import guess, profiles, rows, table
from zerotilt.core.csvdialect import Dialect
from zerotilt.core.evidence import Digests, Evidence, compute
from zerotilt.core.findings import Finding, Judged
from zerotilt.core.inputs import input_named
from zerotilt.core.meaning import Role, RowSet, Spec
from zerotilt.core.methods import method_named
from zerotilt.core.predictors import formats
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work
from zerotilt.readers.held import Held, mapped

HELD = Held()
"""What this process has opened. A resident reader opens once; the processes it starts for its jobs find it here."""
Job = Callable[[dict[str, Any], Path, Work], dict[str, Any]]


def read_table(arguments: dict, scratch: Path, work: Work) -> dict:
    """An uploaded file as Parquet, with its profile and the guesses for its columns."""
    dialect = Dialect(**arguments["dialect"]) if arguments.get("dialect") else None
    target = scratch / "table.parquet"
    with open(arguments["path"], "rb") as source, target.open("wb") as sink:
        marks: dict[str, int] = {}
        notes: list[str] = []
        used = table.convert(source, sink, dialect, work, arguments.get("name", ""), marks, notes)
    return {"file": str(target), **_profiled(target, used, work, marks, notes)}


def _profiled(
    path: Path, dialect: Dialect | None, work: Work, marks: dict[str, int], notes: Sequence[str] = ()
) -> dict:
    with path.open("rb") as source:
        profile = profiles.profile(Table(source), work, dialect, marks)
    profile = profile.model_copy(update={"notes": (*notes, *profile.notes)})
    found = guess.guesses(profile)
    columns = [column for column, _ in found]
    draft = {"columns": [column.model_dump(mode="json") for column in columns]} | guess.guess_problem(profile, columns)
    told = [
        one.model_copy(
            update={
                "guessed": f"{column.role.value}: {why}" if why else "",
                "as_outcome": guess.as_outcome(one, column.kind),
                "as_split": guess.as_split(one),
            }
        )
        for one, (column, why) in zip(profile.columns, found, strict=True)
    ]
    profile = profile.model_copy(update={"columns": tuple(told)})
    return {"profile": profile.model_dump(mode="json"), "spec": Spec(**draft).model_dump(mode="json")}


def inspect_model(arguments: dict, scratch: Path, work: Work) -> dict:
    with open(arguments["path"], "rb") as source:
        return {"card": formats.card_of(source.read()).model_dump(mode="json")}


def read_input(arguments: dict, scratch: Path, work: Work) -> dict:
    """What is in a file that an audit is given besides its table and models."""
    work.begin(1, "files looked into")
    card = input_named(arguments["input"]).look(mapped(arguments["path"]), work)
    return {"card": card.model_dump(mode="json")}


def evidence(arguments: dict, scratch: Path, work: Work) -> dict:
    """Compute one method for one context."""
    subject, digests = opened(arguments)
    method = method_named(arguments["method"])
    settings = method.settings.model_validate(arguments["settings"])
    if path := arguments.get("given_path"):
        subject = subject.with_given({method.reads(settings): mapped(path).read_buffer()})
    if "recipe" in method.needs:
        from zerotilt.train.again import trainable

        subject = trainable(subject)
    if method.reads_others:
        subject = with_others(subject, arguments.get("others_paths", {}))
    found = compute(subject, digests, method.name, settings, arguments["seed"], work)
    files = {}
    for name, data in found.attached.items():
        files[name] = str(scratch / f"{name}.parquet")
        Path(files[name]).write_bytes(data)
    beside = []
    for name, asked in method.also(settings):
        with contextlib.suppress(Refused):  # who asks for it is told
            also = method_named(name).settings.model_validate(asked)
            beside.append(compute(subject, digests, name, also, arguments["seed"], work))
    told = [one.model_dump(mode="json") for one in (found, *beside)]
    return {"evidence": told, **({"files": files} if files else {})}


def with_others(subject: Subject, paths: dict[str, str]) -> Subject:
    """A subject with the other versions of its context, of files by digest, on the same rows; of one that does not fit the
    table what is wrong with it."""
    found: dict[str, Subject | Refused] = {}
    for one in subject.context.others:
        with mapped(paths[one.digest]) as source:
            try:
                predictor = formats.opened(source.read(), subject.table, subject.spec)
            except Refused as refused:
                found[one.name] = refused
                continue
        own = subject.context.model_copy(update={"others": (), "model_named": one.name, "rule": one.rule})
        found[one.name] = Subject(subject.spec, subject.table, predictor, own, inputs=subject.inputs)
    return replace(subject, others=found, alike=subject)


def check(arguments: dict, scratch: Path, work: Work) -> dict:
    """Intake's last step: everything the roles promise is tried on the real rows; the model is scored."""
    subject, _ = opened(arguments)
    spec, cases = subject.spec, subject.table
    rows.weights(spec, cases)
    known = rows.known(spec, cases)
    if (split := spec.only(Role.split)) and not spec.holdout_values:
        raise Refused(
            "No value of the split column is marked as held out.",
            where=f"column “{split.name}”",
            todo="Choose which of its values are the held-out rows.",
        )
    if subject.predictor is not None:
        question = subject.predictor.order_in_doubt(cases, spec, subject.rows.numbers)
        if question is not None:
            raise question
    measured = evidence(arguments | {"method": "performance", "settings": {}}, scratch, work)
    counts = {}
    for which in rows.NAMES:
        try:
            counts[which] = len(rows.select(spec, cases, RowSet(split=which)))
        except Refused:
            counts[which] = 0
    return measured | {
        "counts": counts,
        "unknown_outcomes": int((~known).sum()),
        "classes": list(subject.classes),
    }


def report(arguments: dict, scratch: Path, work: Work) -> dict:
    """The report for each of its readers, its numbers, and the evidence computed for it."""
    # what draws for print takes long to load, and no other job needs it
    from zerotilt.report.archive import EVIDENCE, evidence_file, write_tables
    from zerotilt.report.auditfile import audit_file
    from zerotilt.report.document import READERS
    from zerotilt.report.render import render

    subject, bundle, cover, document = _composed(arguments, work)
    work.begin(len(READERS), "documents written")
    files: dict[str, str] = {}
    drawn: dict[str, str] = {}
    for reader in READERS:
        name = "report.html" if reader == "full" else f"{reader}.html"
        made = render(bundle, subject, cover, document, reader, drawn=drawn)
        files[name] = _text(scratch / name, made.html)
        work.advance(1)
    numbers = audit_file(bundle, subject, arguments["uploaded_digest"], subject.spec).to_json()
    write_tables(bundle, scratch / "tables.zip")
    files["tables.zip"] = str(scratch / "tables.zip")
    files["audit.json"] = _text(scratch / "audit.json", numbers)
    files[EVIDENCE] = _text(scratch / EVIDENCE, evidence_file(bundle, arguments))
    tilt = bundle.evidence_of("tilt")
    return {
        "files": files,
        "flagged": len(bundle.all_facts()),
        "tested": None if tilt is None else tilt.result["tested"],
        "evidence": [found.model_dump(mode="json") for found in bundle.fresh],
    }


def preview(arguments: dict, scratch: Path, work: Work) -> dict:
    """The report as one reader would get it, the numbers that a text can name there, and what nobody has decided."""
    from zerotilt.report.lacking import undecided
    from zerotilt.report.render import render

    subject, bundle, cover, document = _composed(arguments, work)
    work.begin(1, "page made")
    made = render(bundle, subject, cover, document, arguments["reader"], preview=True)
    work.advance(1)
    numbers = json.dumps([one._asdict() for one in made.numbers.values()], ensure_ascii=False)
    return {
        "files": {
            "preview.html": _text(scratch / "preview.html", made.html),
            "numbers.json": _text(scratch / "numbers.json", numbers),
        },
        "lacking": undecided(bundle, cover, arguments["reader"]),
        "evidence": [found.model_dump(mode="json") for found in bundle.fresh],
    }


def form(arguments: dict, scratch: Path, work: Work) -> dict:
    """Another form of a report that was written."""
    from zerotilt.report import forms

    work.begin(1, "pages set")
    with open(arguments["path"], encoding="utf-8") as source:
        html = forms.with_signatures(source.read(), arguments.get("signed", []))
    made = scratch / "made"
    if arguments["name"].endswith(".pdf"):
        made.write_bytes(forms.pdf(html))
    elif arguments["name"].endswith(".docx"):
        from zerotilt.report import word

        word.document(html, made)
    else:
        forms.markdown(html, made)
    work.advance(1)
    return {"files": {arguments["name"]: str(made)}}


def _text(path: Path, content: str) -> str:
    path.write_text(content, encoding="utf-8")
    return str(path)


def _composed(arguments: dict, work: Work):
    """What a report is rendered from: subject, bundle of evidence, cover and document."""
    from zerotilt.report.compose import Decisions, Kept, Raised, gather
    from zerotilt.report.document import Document
    from zerotilt.report.render import Cover

    subject, digests = opened(arguments)
    known = {item["key"]: Evidence.model_validate(item) for item in arguments["known"]}
    kept = [
        Kept(
            Evidence.model_validate(item["evidence"]),
            item["note"],
            tuple(item["changed"]),
            Spec.model_validate(item["spec"]) if item["spec"] else None,
        )
        for item in arguments["kept"]
    ]
    told = arguments["decisions"]
    decisions = Decisions(
        {name: Judged.model_validate(found) for name, found in told["judged"].items()},
        frozenset(told["apart"]),
        tuple(
            Raised(
                Finding(name=one["name"], kind="concern", statement=one["statement"]),
                Evidence.model_validate(one["evidence"]),
                one["author"],
                tuple(one["changed"]),
            )
            for one in told["raised"]
        ),
    )
    bundle = gather(subject, digests, work, kept, known, decisions=decisions)
    cover = Cover(
        title=arguments["title"],
        number=arguments["number"],
        table_name=arguments["table_name"],
        table_digest=arguments["uploaded_digest"],
        table_rows=subject.table.rows,
        model_name=arguments["model_name"],
        policy_record=arguments.get("policy_record"),
        rule_record=arguments.get("rule_record"),
        alongside=arguments.get("alongside_said", ""),
        how_made=arguments.get("how_made", ""),
        versions=arguments.get("versions_record"),
        gaps=[(name, missing) for name, missing in arguments["gaps"]],
    )
    return subject, bundle, cover, Document.model_validate(arguments["document"])


def train(arguments: dict, scratch: Path, work: Work) -> dict:
    """One candidate, trained from the audit's table and written as a model version."""
    from zerotilt.core.candidates.recipe import Recipe
    from zerotilt.train.fitting import train as trained

    spec = Spec.model_validate(arguments["spec"])
    with open(arguments["table_path"], "rb") as source:
        made = trained(spec, Table(source), Recipe.model_validate(arguments["recipe"]), work, arguments["table_digest"])
    path = scratch / "candidate.onnx"
    path.write_bytes(made.data)
    whole = made.validated
    return {
        "file": str(path),
        "card": formats.card_of(made.data).model_dump(mode="json"),
        "validated": whole.model_copy(update={"test": None}).model_dump(mode="json"),
        "test": None if whole.test is None else whole.test.model_dump(mode="json"),
        "seconds": made.seconds,
        "meaning": spec.digest(),
    }


def search(arguments: dict, scratch: Path, work: Work) -> dict:
    """Settings of a candidate searched within ranges, for the time that was set."""
    from zerotilt.core.candidates.recipe import Recipe
    from zerotilt.core.candidates.searching import Search, say
    from zerotilt.train.searching import searched

    with open(arguments["table_path"], "rb") as source:
        found = searched(
            Spec.model_validate(arguments["spec"]),
            Table(source),
            Recipe.model_validate(arguments["base"]),
            Search.model_validate(arguments["search"]),
            work,
        )
    return {"searched": found.model_dump(mode="json"), "said": say(found)}


def demo(arguments: dict, scratch: Path, work: Work) -> dict:
    """Generate the demo claims, train the demo models; one table, and an audit for each thing that is predicted."""
    import pyarrow.parquet as pq

    from zerotilt.demo import audit as demo_audit

    work.begin(2, "demo parts made")
    claims, audits = demo_audit.build_all()
    work.advance(1)
    path = scratch / "claims.parquet"
    pq.write_table(claims, path, compression="zstd")
    profile = _profiled(path, None, work, {})["profile"]
    made, number = [], 0
    for one in audits:
        versions = []
        for name, data in one.models.items():
            target = scratch / f"{number}.onnx"
            target.write_bytes(data)
            versions.append({"name": name, "file": str(target), "card": formats.card_of(data).model_dump(mode="json")})
            number += 1
        made.append({"title": one.title, "spec": one.spec.model_dump(mode="json"), "models": versions})
    return {"file": str(path), "profile": profile, "audits": made}


def opened(arguments: dict) -> tuple[Subject, Digests]:
    """The subject of a job from its table file, its meaning and its model file."""
    return HELD.subject(arguments)


JOBS: dict[str, Job] = {
    "read_table": read_table,
    "inspect_model": inspect_model,
    "read_input": read_input,
    "evidence": evidence,
    "train": train,
    "search": search,
    "check": check,
    "report": report,
    "preview": preview,
    "form": form,
    "demo": demo,
}
