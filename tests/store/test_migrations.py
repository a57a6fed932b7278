"""Later migrations, from a database as earlier ones left it."""

from __future__ import annotations

import importlib
import json
import uuid
from dataclasses import replace

import psycopg2
import pytest

from zerotilt.api.views import kept
from zerotilt.core.evidence import Digests, Evidence, compute
from zerotilt.core.groups.tilt import TiltSettings
from zerotilt.core.work import Work
from zerotilt.report.compose import Kept as Shown
from zerotilt.report.compose import gather
from zerotilt.report.render import Cover, render
from zerotilt.store import database, migrations
from zerotilt.store.records import Audit, DecisionRule, Judgement, Kept, ModelVersion, PolicyVersion

NAME = "earlier_release"


@pytest.fixture(params=["m0001_first"])
def earlier(running, request):
    """A database as one migration left it, with an audit, a kept figure and a report in it."""
    admin = psycopg2.connect(**running.postgres.address)
    admin.autocommit = True
    with admin.cursor() as cursor:
        cursor.execute(f"create database {NAME}")
    address = running.postgres.address | {"dbname": NAME}
    audit = str(uuid.uuid4())
    with psycopg2.connect(**address) as connection, connection.cursor() as cursor:
        cursor.execute("create table migration (name text primary key, applied timestamptz default now())")
        for name in [name for name in database.names() if name <= request.param]:
            cursor.execute(importlib.import_module(f"{migrations.__name__}.{name}").SQL)
            cursor.execute("insert into migration (name) values (%s)", (name,))
        cursor.execute("insert into audit (id, title, spec) values (%s, 'Kept', %s)", (audit, json.dumps({"a": 1})))
        cursor.execute("insert into evidence (key, method, body) values ('k', 'drivers', '{}')")
        cursor.execute(
            "insert into kept (id, audit_id, evidence_key, context, note) values (%s, %s, 'k', '{}', 'a note')",
            (str(uuid.uuid4()), audit),
        )
        cursor.execute(
            "insert into report (id, audit_id, number, html_digest, json_digest, flagged) values (%s, %s, 1, 'h', 'j', 0)",
            (str(uuid.uuid4()), audit),
        )
    connection.close()
    database.bind(address)
    yield audit
    database.database.close_idle()
    database.bind(running.postgres.address)
    with admin.cursor() as cursor:
        cursor.execute(f"drop database {NAME} with (force)")
    admin.close()


def test_what_was_there_is_kept_and_findings_can_be_judged(earlier):
    assert database.migrate() == [name for name in database.names() if name != "m0001_first"]
    with database.database.connection_context():
        audit = Audit.get_by_id(earlier)
        assert (audit.title, audit.spec) == ("Kept", {"a": 1})
        assert [item.note for item in audit.kept] == ["a note"]
        Judgement.create(audit=audit, finding="f", decision="accepted", reason="known")
        assert [one.reason for one in audit.judgements] == ["known"]
        model = ModelVersion.create(audit=audit, name="m", digest="d", card={})
        PolicyVersion.create(audit=audit, number=2, policy={}, author="a")
        DecisionRule.create(model=model, number=2, rule=None, author="a")
        audit.delete_instance()
        # what was decided goes with its audit
        assert [record.select().count() for record in (Judgement, PolicyVersion, DecisionRule)] == [0, 0, 0]
    assert database.migrate() == []


@pytest.mark.parametrize("earlier", ["m0003_choices"], indirect=True)
def test_what_was_there_begins_at_version_nought_and_an_old_report_does_not_say_what_it_tested(earlier):
    assert database.migrate()[0].startswith("m0004")
    with database.database.connection_context():
        audit = Audit.get_by_id(earlier)
        assert (audit.version, audit.spec) == (0, {"a": 1})
        assert [(item.note, item.noted) for item in Kept.select()] == [("a note", 0)]
        assert [report.tested for report in audit.reports] == [None]


@pytest.mark.parametrize("earlier", ["m0004_fences"], indirect=True)
def test_evidence_gets_its_owners_and_what_was_kept_opens_as_it_was_written(earlier, demo_subject):
    """Bodies as earlier versions wrote them: no reading, one digest of policy and comparisons, one of an older method."""
    found = compute(demo_subject, Digests.of(demo_subject.spec, "t", "m"), "tilt", TiltSettings(), 20, Work())
    body = found.model_dump(mode="json", exclude={"reading"})
    body["digests"] = {name: body["digests"][name] for name in ("table", "spec", "model", "alongside", "compared")}
    older = body | {"key": "old", "method_version": 1, "result": {"nothing": "known"}}
    unknown = body | {"key": "gone", "method": "no_such_method"}
    database.database.connect(reuse_if_open=True)
    run = database.database.execute_sql
    for one in (body | {"key": "now"}, older, unknown):
        run(
            "insert into evidence (key, method, body) values (%s, %s, %s)", (one["key"], one["method"], json.dumps(one))
        )
    audit, other = earlier, str(uuid.uuid4())
    spec = demo_subject.spec.model_dump_json()
    run("update audit set spec = %s, ready = true where id = %s", (spec, audit))
    run("update evidence set body = %s where key = 'k'", (json.dumps(older | {"key": "k"}),))
    run("insert into audit (id, title, spec) values (%s, 'Other', %s)", (other, spec))
    for owner in (audit, other):
        run(
            "insert into table_file (id, audit_id, name, raw_digest, digest, bytes, profile) values (%s, %s, 'a', 'r', 't', 1, '{}')",
            (str(uuid.uuid4()), owner),
        )
    run(
        "insert into model_version (id, audit_id, name, digest, card) values (%s, %s, 'v', 'm', '{}')",
        (model := str(uuid.uuid4()), audit),
    )
    for key in ("now", "gone"):
        run(
            "insert into kept (id, audit_id, evidence_key, context) values (%s, %s, %s, %s)",
            (str(uuid.uuid4()), audit, key, json.dumps({"model": model})),
        )
    database.database.close()

    assert database.migrate()[0].startswith("m0005")
    with database.database.connection_context():
        mine, theirs = Audit.get_by_id(audit), Audit.get_by_id(other)
        assert {one.evidence_key for one in mine.asked} == {"now", "old", "gone", "k"}
        assert [one.evidence_key for one in theirs.asked] == []  # the same table, and not the model
        views = {row.evidence_key: kept(row, demo_subject.spec, mine) for row in mine.kept}
        assert views["now"].reading == found.read(demo_subject.spec) and not views["now"].older
        assert views["now"].changed == []
        assert views["k"].older and "by an earlier version" in views["k"].reading.text
        assert views["gone"].older and views["gone"].area == "" and views["gone"].changed == ["how it is computed"]
        items = [Shown(Evidence.model_validate(row.evidence.body), "n") for row in mine.kept]
    digests = Digests.of(demo_subject.spec, "t", "m")
    bundle = gather(replace(demo_subject, predictor=None), digests, Work(), items)
    html = render(bundle, demo_subject, Cover("Kept", 1, "t.csv", "t" * 64, 1, "m", made="today"))
    assert html.count("by an earlier version of Zero Tilt") == 2
