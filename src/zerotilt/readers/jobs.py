"""What runs inside the child process: core and report only, files in, JSON and files out."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from zerotilt.core import guess, profiles, rows, table
from zerotilt.core.csvdialect import Dialect
from zerotilt.core.evidence import Digests, Evidence, compute
from zerotilt.core.meaning import Role, RowSet, Spec
from zerotilt.core.methods import method_named
from zerotilt.core.predictors.modelfile import inspect
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work
from zerotilt.readers.held import Held

HELD = Held()
"""What this process has opened. A resident reader opens once; the processes it starts for its jobs find it here."""
Job = Callable[[dict[str, Any], Path, Work], dict[str, Any]]


def read_table(arguments: dict, scratch: Path, work: Work) -> dict:
    """An uploaded file as Parquet, with its profile and the guesses for its columns."""
    dialect = Dialect(**arguments["dialect"]) if arguments.get("dialect") else None
    target = scratch / "table.parquet"
    with open(arguments["path"], "rb") as source, target.open("wb") as sink:
        used = table.convert(source, sink, dialect, work)
    return {"file": str(target), **_profiled(target, used, work)}


def _profiled(path: Path, dialect: Dialect | None, work: Work) -> dict:
    with path.open("rb") as source:
        profile = profiles.profile(Table(source), work, dialect)
    found = guess.guesses(profile)
    columns = [column for column, _ in found]
    draft = {"columns": [column.model_dump(mode="json") for column in columns]} | guess.guess_problem(profile, columns)
    told = [
        one.model_copy(update={"guessed": f"{column.role.value}: {why}" if why else ""})
        for one, (column, why) in zip(profile.columns, found, strict=True)
    ]
    profile = profile.model_copy(update={"columns": tuple(told)})
    return {"profile": profile.model_dump(mode="json"), "spec": Spec(**draft).model_dump(mode="json")}


def inspect_model(arguments: dict, scratch: Path, work: Work) -> dict:
    with open(arguments["path"], "rb") as source:
        return {"card": inspect(source.read()).model_dump(mode="json")}


def evidence(arguments: dict, scratch: Path, work: Work) -> dict:
    """Compute one method for one context."""
    subject, digests = opened(arguments)
    method = method_named(arguments["method"])
    settings = method.settings.model_validate(arguments["settings"])
    found = compute(subject, digests, method.name, settings, arguments["seed"], work)
    return {"evidence": [found.model_dump(mode="json")]}


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
    if isinstance(subject.predictor, OnnxPredictor):
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
    """The report as HTML and JSON files, and the evidence computed for it."""
    # what draws for print takes long to load, and no other job needs it
    from zerotilt.report.auditfile import audit_file
    from zerotilt.report.compose import Judged, Kept, gather
    from zerotilt.report.render import Cover, render

    subject, digests = opened(arguments)
    known = {item["key"]: Evidence.model_validate(item) for item in arguments["known"]}
    kept = [
        Kept(Evidence.model_validate(item["evidence"]), item["note"], tuple(item["changed"]))
        for item in arguments["kept"]
    ]
    judged = {name: Judged(*found) for name, found in arguments["judgements"].items()}
    bundle = gather(subject, digests, work, kept, known, judgements=judged)
    work.begin(1, "report written")
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
    )
    html, numbers = scratch / "report.html", scratch / "audit.json"
    html.write_text(render(bundle, subject, cover), encoding="utf-8")
    numbers.write_text(
        audit_file(bundle, subject, arguments["uploaded_digest"], subject.spec).to_json(), encoding="utf-8"
    )
    work.advance(1)
    flagged, tested = 0, None
    if (tilt := bundle.evidence_of("tilt")) is not None:
        flagged = sum(found["status"] == "flagged" for found in tilt.result["disparities"])
        tested = tilt.result["tested"]
    return {
        "html": str(html),
        "json": str(numbers),
        "flagged": flagged,
        "tested": tested,
        "evidence": [found.model_dump(mode="json") for found in bundle.fresh],
    }


def demo(arguments: dict, scratch: Path, work: Work) -> dict:
    """Generate the demo claims, train the demo models; one table, and an audit for each thing that is predicted."""
    import pyarrow.parquet as pq

    from zerotilt.demo import audit as demo_audit

    work.begin(2, "demo parts made")
    claims, audits = demo_audit.build_all()
    work.advance(1)
    path = scratch / "claims.parquet"
    pq.write_table(claims, path, compression="zstd")
    profile = _profiled(path, None, work)["profile"]
    made, number = [], 0
    for one in audits:
        versions = []
        for name, data in one.models.items():
            target = scratch / f"{number}.onnx"
            target.write_bytes(data)
            versions.append({"name": name, "file": str(target), "card": inspect(data).model_dump(mode="json")})
            number += 1
        made.append({"title": one.title, "spec": one.spec.model_dump(mode="json"), "models": versions})
    return {"file": str(path), "profile": profile, "audits": made}


def opened(arguments: dict) -> tuple[Subject, Digests]:
    """The subject of a job from its table file, its meaning and its model file."""
    return HELD.subject(arguments)


JOBS: dict[str, Job] = {
    "read_table": read_table,
    "inspect_model": inspect_model,
    "evidence": evidence,
    "check": check,
    "report": report,
    "demo": demo,
}
