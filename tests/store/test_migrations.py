"""Later migrations, from a database as earlier ones left it."""

from __future__ import annotations

import importlib
import json
import uuid

import psycopg2
import pytest

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
