"""Records against the migrated schema, on a real PostgreSQL."""

import hashlib

import peewee
import pytest

from zerotilt.store import check, database
from zerotilt.store.files import FileStore
from zerotilt.store.records import (
    RECORDS,
    Audit,
    EvidenceRow,
    Kept,
    ModelVersion,
    Raised,
    Report,
    ReportPreview,
    TableFile,
    Task,
)


@pytest.fixture
def connection(running):
    database.bind(running.postgres.address)
    with database.database.connection_context():
        yield database.database


def test_every_record_matches_the_migrated_schema(connection):
    for record in RECORDS:
        table = record._meta.table_name
        in_database = {column.name: column.null for column in connection.get_columns(table)}
        in_code = {field.column_name: field.null for field in record._meta.sorted_fields}
        assert in_code == in_database, table


def test_migrations_are_applied_once(connection):
    assert database.migrate() == []
    assert database.names() == sorted(database.names())


def test_each_migration_starts_from_the_schema_before_it(running):
    """From nothing, through every number in order, in a database of its own."""
    import psycopg2

    admin = psycopg2.connect(**running.postgres.address)
    admin.autocommit = True
    with admin.cursor() as cursor:
        cursor.execute("create database stepwise")
    try:
        database.bind(running.postgres.address | {"dbname": "stepwise"})
        assert database.migrate() == database.names()
        database.database.close_idle()
    finally:
        database.bind(running.postgres.address)
        with admin.cursor() as cursor:
            cursor.execute("drop database stepwise with (force)")
        admin.close()


def test_a_written_report_is_never_altered(connection):
    with connection.atomic() as transaction:
        audit = Audit.create(title="frozen")
        report = Report.create(audit=audit, number=1, html_digest="h", json_digest="j", flagged=0)
        with pytest.raises(peewee.InternalError, match="never altered"), connection.atomic():
            Report.update(flagged=1).where(Report.id == report.id).execute()
        transaction.rollback()


def test_only_one_task_for_one_result_is_under_way(connection):
    with connection.atomic() as transaction:
        Task.create(kind="demo", title="t", payload={}, key="same", state="running")
        with pytest.raises(peewee.IntegrityError), connection.atomic():
            Task.create(kind="demo", title="t", payload={}, key="same")
        transaction.rollback()


def test_the_check_finds_missing_damaged_and_unowned_files(connection, tmp_path):
    store = FileStore(tmp_path)
    whole, damaged, unowned = store.put(b"whole"), store.put(b"damaged"), store.put(b"unowned")
    store.path(damaged).write_bytes(b"changed")
    missing = hashlib.sha256(b"missing").hexdigest()
    with connection.atomic() as transaction:
        Task.delete().execute()
        Report.delete().execute()
        ReportPreview.delete().execute()
        TableFile.delete().execute()
        Kept.delete().execute()
        Raised.delete().execute()
        EvidenceRow.delete().execute()
        ModelVersion.delete().execute()
        audit = Audit.create(title="checked")
        TableFile.create(audit=audit, name="t", raw_digest=whole, digest=damaged, bytes=1, profile={})
        ModelVersion.create(audit=audit, name="m", digest=missing, card={})
        problems, verified = check.check(store)
        transaction.rollback()
    assert verified == 3
    assert len(problems) == 3
    assert any("“m”" in problem and "missing" in problem for problem in problems)
    assert any("“t”" in problem and "damaged" in problem for problem in problems)
    assert any(unowned in problem and "no record" in problem for problem in problems)


def test_only_files_without_a_record_are_discarded(connection, tmp_path):
    store = FileStore(tmp_path)
    owned, unowned = store.put(b"owned"), store.put(b"unowned")
    with connection.atomic() as transaction:
        audit = Audit.create(title="checked")
        ModelVersion.create(audit=audit, name="m", digest=owned, card={})
        assert not check.discard_unowned(store, owned)
        assert check.discard_unowned(store, unowned)
        transaction.rollback()
    assert list(store.digests()) == [owned]


def test_the_running_installation_is_whole(connection, running):
    problems, verified = check.check(FileStore(running.home.files))
    assert problems == []
    assert verified >= 3
