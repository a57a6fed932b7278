"""The second migration, from a database as the first release left it."""

from __future__ import annotations

import importlib
import json
import uuid

import psycopg2
import pytest

from zerotilt.store import database, migrations
from zerotilt.store.records import Audit, DecisionRule, Judgement, ModelVersion, PolicyVersion

NAME = "earlier_release"


@pytest.fixture
def earlier(running):
    """A database under the first schema alone, with an audit and a kept figure in it."""
    admin = psycopg2.connect(**running.postgres.address)
    admin.autocommit = True
    with admin.cursor() as cursor:
        cursor.execute(f"create database {NAME}")
    address = running.postgres.address | {"dbname": NAME}
    audit = str(uuid.uuid4())
    with psycopg2.connect(**address) as connection, connection.cursor() as cursor:
        cursor.execute("create table migration (name text primary key, applied timestamptz default now())")
        cursor.execute(importlib.import_module(f"{migrations.__name__}.m0001_first").SQL)
        cursor.execute("insert into migration (name) values ('m0001_first')")
        cursor.execute("insert into audit (id, title, spec) values (%s, 'Kept', %s)", (audit, json.dumps({"a": 1})))
        cursor.execute("insert into evidence (key, method, body) values ('k', 'drivers', '{}')")
        cursor.execute(
            "insert into kept (id, audit_id, evidence_key, context, note) values (%s, %s, 'k', '{}', 'a note')",
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
