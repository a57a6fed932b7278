"""What the command line says of stored records where the database is not there."""

from __future__ import annotations

from types import SimpleNamespace

import peewee
import pytest
from tests.cli.shell import typed

from zerotilt import stored
from zerotilt.services.home import Home

ASKED = {
    "check": ("check",),
    "export": ("export", "An audit", "audit.zip"),
    "import": ("import", "audit.zip"),
    "reproduce": ("reproduce", "An audit/1"),
}


@pytest.mark.parametrize("command", ASKED)
def test_a_database_that_is_being_started_is_said(command, monkeypatch, tmp_path):
    def starting():
        raise peewee.OperationalError("connection failed\nFATAL:  the database system is starting up\n")

    ended = []
    server = SimpleNamespace(port=0, address="postgresql://nobody@127.0.0.1:1/none", stop=lambda: ended.append(True))
    monkeypatch.setattr(Home, "running", lambda self: {"database_port": 1})
    monkeypatch.setattr(stored, "database_for", lambda home: server)
    monkeypatch.setattr(stored.database, "bind", lambda address: None)
    monkeypatch.setattr(stored.database, "migrate", starting)
    (tmp_path / "audit.zip").write_bytes(b"")
    run = typed(*ASKED[command], folder=tmp_path)
    assert run.returncode == 2 and ended == [True]
    said = "refused: The database does not answer (FATAL:  the database system is starting up). It may be starting"
    assert run.stderr.startswith(said), run.stderr
