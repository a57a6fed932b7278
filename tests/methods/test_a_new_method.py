"""What one file with a method's declaration brings: served, typed, kept, reopened, reported, exported; nothing else is touched."""

from __future__ import annotations

import json
import shutil
import subprocess
from collections import Counter
from pathlib import Path

import pytest
from starlette.testclient import TestClient
from tests.methods import toy
from tests.tasks.test_board import Recorded

from zerotilt.api import contract
from zerotilt.api.app import create
from zerotilt.core.evidence import Digests, compute
from zerotilt.core.meaning import ColumnSpec, Context, Spec
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays
from zerotilt.core.work import Work
from zerotilt.notebook import Study
from zerotilt.readers import jobs
from zerotilt.report.compose import gather
from zerotilt.report.render import Cover, render
from zerotilt.store import database
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit, EvidenceRow, Task
from zerotilt.tasks import board
from zerotilt.tasks.board import Board
from zerotilt.tasks.ownership import claim
from zerotilt.tasks.ticker import Ticker
from zerotilt.tasks.worker import Worker

WEB = Path(__file__).parents[2] / "web"


@pytest.fixture(autouse=True)
def registered(monkeypatch):
    """The one line in the list of methods."""
    monkeypatch.setitem(METHODS, "echo", toy.METHOD)


@pytest.fixture
def written(running):
    """The demo audit, read and written as the server does, each step for itself."""
    database.bind(running.postgres.address)
    with database.database.connection_context():
        yield Audit.select().where(Audit.demo).order_by(Audit.created).get()


def test_it_is_served_kept_reopened_and_exported(running, written, tmp_path, monkeypatch):
    monkeypatch.setattr(board, "ring", lambda channel, name: None)  # the worker that runs knows no such method
    files = FileStore(running.home.files)
    app = create(files)
    queue = Recorded()
    app.state.desk.__dict__["board"] = Board(queue)
    with TestClient(app, base_url="http://127.0.0.1") as client:
        own = f"/api/audits/{written.id}"
        ask = {"context": {"model": str(written.models[0].id)}, "settings": {"column": "channel", "most": 2}}
        assert client.post(f"{own}/readings/echo", json=ask | {"settings": {"most": 99}}).status_code == 422
        task_id = client.post(f"{own}/readings/echo", json=ask).json()["task"]["id"]
        task = claim(task_id)
        worker = Worker(queue, files)
        result = jobs.evidence(worker._arguments(task, Ticker(task)), tmp_path, Work())
        worker._finish(task, result)
        assert Task.get_by_id(task_id).state == "done"

        found = client.post(f"{own}/readings/echo", json=ask).json()["evidence"]
        first = found["result"]["echoes"][0]
        said = "".join(span["text"] for span in found["reading"]["headline"])
        assert said.startswith(f"“{first['value']}” stands in {first['rows']:,} of ") and said.endswith(" claims.")

        address = f"{own}/evidence/{found['key']}/arrays"
        assert client.get(address).json() == ["echoes"]
        assert client.get(f"{address}/echoes").text.splitlines()[:2] == [
            '"value","rows"',
            f'"{first["value"]}",{first["rows"]}',
        ]

        kept = client.post(f"{own}/dossier", json={"key": found["key"], "context": ask["context"]}).json()
        assert (kept["area"], kept["part"], kept["settings"]) == ("intake", "echo", ask["settings"])
        assert contract.declared(toy.METHOD)["settings"]["most"]["address"] == "echo-most"
        assert client.delete(f"{own}/dossier/{kept['id']}").status_code == 204
        EvidenceRow.delete().where(EvidenceRow.key == found["key"]).execute()


def test_the_screens_get_its_settings_and_result_typed(tmp_path):
    documents = {path.name: text for path, text in contract.documents().items()}
    for name in ("methods.json", "metrics.json"):
        (tmp_path / name).write_text(documents[name])
    for name in ("methods.ts", "settings.ts"):
        shutil.copy(WEB / "src/api" / name, tmp_path)
    (tmp_path / "openapi.json").write_text(documents["openapi.json"])
    (tmp_path / "used.ts").write_text(
        'import type { Readings, Settings } from "./methods";\n'
        'import { settingsOf } from "./settings";\n'
        'export const asked: Settings<"echo"> = { column: "channel", most: 3 };\n'
        'export const rows = (found: Readings["echo"]): number => found.result.echoes[0].rows;\n'
        'export const most: number | undefined = settingsOf("echo", new URLSearchParams()).most;\n'
        "// @ts-expect-error: no such setting\n"
        'export const wrong: Settings<"echo"> = { columns: "channel" };\n'
    )
    run = {"cwd": WEB, "capture_output": True, "text": True}
    made = subprocess.run(
        ["npx", "openapi-typescript", tmp_path / "openapi.json", "-o", tmp_path / "schema.d.ts"], **run
    )
    assert made.returncode == 0, made.stderr
    checked = [
        "--noEmit",
        "--strict",
        "--resolveJsonModule",
        "--module",
        "esnext",
        "--moduleResolution",
        "bundler",
        "--skipLibCheck",
    ]
    done = subprocess.run(["npx", "tsc", *checked, "--target", "es2022", tmp_path / "used.ts"], **run)
    assert done.returncode == 0, done.stdout


def test_it_stands_in_the_report_with_figure_table_note_and_evidence(demo_subject):
    digests = Digests.of(demo_subject.spec, "t" * 64, "m" * 64)
    others = {name: METHODS[name] for name in METHODS if name in ("performance", "echo", "tilt")}
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("zerotilt.report.compose.METHODS", others)
        bundle = gather(demo_subject, digests, Work())
    html = render(
        bundle, demo_subject, Cover("Skerry Post claims", 1, "claims.parquet", "t" * 64, 12_000, "v3", made="today")
    ).html
    assert '<h2 id="echo">Echoes</h2>' in html and "<b>commonest values</b>" in html
    counts = Counter(demo_subject.table.texts("channel")[row] for row in demo_subject.rows.numbers)
    value, rows = counts.most_common(1)[0]
    section = html[html.index('<h2 id="echo">') :]
    assert f"“{value}” stands in {rows:,} of {demo_subject.n:,} claims." in section
    assert f'<td class="left">{value}</td><td class="left">{rows}</td>' in section and "<svg" in section
    assert bundle.evidence_of("echo").key in html
    named = [one.statement for one, standing in bundle.facts("echo") if standing.decision == "open"]
    assert named == ([f"“{value}” stands in most claims."] if rows > demo_subject.n / 2 else [])


def test_a_notebook_reads_it(demo):
    claims, _, models = demo
    found = Study(claims.slice(0, 400), models["gradient trees v3"], "claim_valid", event="yes").echo(column="channel")
    assert found.table().num_rows == len(found.result.echoes) and "stands in" in found.reading
    assert found.plot() is not None
    assert json.loads(json.dumps(found.result.model_dump()))["column"] == "channel"


def test_what_needs_the_table_alone_is_read_without_outcome_and_model():
    names = ["hill", "shore", "hill", "hill"]
    table = from_arrays({"area": names, "amount": [1, 2, 3, 4]})
    columns = tuple(ColumnSpec(name=name, kind="categorical", role="ignored") for name in table.names)
    subject = Subject(Spec(columns=columns, event=""), table, None, Context(rows="all"))
    assert toy.METHOD.lacking(subject) is None
    found = compute(subject, Digests.of(subject.spec, "t", None), "echo", toy.EchoSettings(column="area"), 1, Work())
    assert [(one.value, one.rows) for one in found.typed.echoes] == [("hill", 3), ("shore", 1)]
    wants = {name: getattr(toy.METHOD, name) for name in toy.METHOD.__dataclass_fields__}
    for need, said in (("model", "needs a model"), ("outcome", "needs what really happened")):
        with pytest.raises(Refused, match=said):
            toy.Method(**wants | {"needs": frozenset({need})}).refuse(subject)


def test_a_declaration_that_names_what_is_not_there_is_refused():
    for wrong in ({"address": {"colums": "c"}}, {"first_look": {"rows": 3}}, {"main": "echos"}):
        with pytest.raises(ValueError, match="echo: "):
            toy.Method(**{name: getattr(toy.METHOD, name) for name in toy.METHOD.__dataclass_fields__} | wrong)
