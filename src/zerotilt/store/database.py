"""The connection to PostgreSQL and the numbered migrations applied at start."""

from __future__ import annotations

import importlib
import pkgutil
import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any, TypeVar

import peewee
import psycopg2.extensions
from playhouse.pool import PooledPostgresqlDatabase

from zerotilt.store import migrations

END_OF_TIME = datetime(9999, 1, 1, tzinfo=UTC)


def _moment(value: Any, cursor: Any) -> Any:
    """A time as the database has it; it knows later ones than there are here, and one of these would break every list."""
    try:
        return psycopg2.extensions.PYDATETIMETZ(value, cursor)
    except (ValueError, OverflowError):
        return END_OF_TIME


psycopg2.extensions.register_type(
    psycopg2.extensions.new_type(psycopg2.extensions.PYDATETIMETZ.values, "MOMENT", _moment)
)

POOL = 45
"""Connections of one process: a few more than the threads that answer requests, so that none has to wait for long."""
database = PooledPostgresqlDatabase(None, max_connections=POOL, stale_timeout=300, timeout=5, autoconnect=True)
DISK_FULL = "53100"
MIGRATING = 8420
"""Number of the lock that who migrates holds."""
T = TypeVar("T")


class Unreachable(Exception):
    """The database does not answer; nothing was written."""


def disk_is_full(problem: BaseException) -> bool:
    """Whether the database answers, and has no room left to write."""
    causes = (problem, problem.__cause__, problem.__context__, *getattr(problem, "args", ()))
    return any(getattr(one, "pgcode", None) == DISK_FULL for one in causes)


def bind(url: dict) -> None:
    """Point every record at a server: keys dbname, host, port, user, password."""
    database.close_idle()  # connections to an earlier server
    settings = dict(url)
    database.init(settings.pop("dbname"), connect_timeout=3, **settings)


def migrate() -> list[str]:
    """Apply the migrations not yet applied, each in its own transaction; their names."""
    applied_now = []
    with database.connection_context():
        # several machines may start at the same moment; the lock goes with the connection
        database.execute_sql("select pg_advisory_lock(%s)", (MIGRATING,))
        database.execute_sql(
            "create table if not exists migration (name text primary key, applied timestamptz default now())"
        )
        done = {name for (name,) in database.execute_sql("select name from migration").fetchall()}
        for name in names():
            if name in done:
                continue
            with database.atomic():
                database.execute_sql(importlib.import_module(f"{migrations.__name__}.{name}").SQL)
                database.execute_sql("insert into migration (name) values (%s)", (name,))
            applied_now.append(name)
        database.execute_sql("select pg_advisory_unlock(%s)", (MIGRATING,))
    return applied_now


def names() -> list[str]:
    return sorted(module.name for module in pkgutil.iter_modules(migrations.__path__))


def patiently(action: Callable[[], T], seconds: float) -> T:
    """Do something with the database, trying again while it does not answer.

    ``action`` must be one transaction, so that a broken connection leaves nothing half-written.
    """
    until = time.monotonic() + seconds
    pause = 0.1
    while True:
        try:
            with database.connection_context():
                return action()
        except (peewee.OperationalError, peewee.InterfaceError) as problem:
            if disk_is_full(problem):
                raise
            database.close_idle()
            if time.monotonic() + pause > until:
                raise Unreachable(str(problem).strip()) from problem
        time.sleep(pause)
        pause = min(pause * 1.6, 2.0)
