"""Where the start command works: a home that the database's own user cannot enter, and a start as an ordinary user."""

from __future__ import annotations

import os
import pwd
import shutil
import signal
import tempfile
from pathlib import Path

import pytest
from tests.api import talk
from tests.conftest import ENDS, family, start

from zerotilt.services.home import Home
from zerotilt.services.postgres import Postgres

AS_ROOT = os.geteuid() == 0
# an interpreter below root's own folder can be read by the process, which is an ordinary user's all the same
ORDINARY = (
    "setpriv", "--reuid=nobody", "--regid=nogroup", "--clear-groups", "--inh-caps=+dac_read_search",
    "--ambient-caps=+dac_read_search",
)  # fmt: skip


@pytest.fixture
def closed():
    """A folder that nobody but its owner can enter, as a root user's own is."""
    folder = Path(tempfile.mkdtemp(prefix="zt-closed-"))  # made with mode 0700
    yield folder
    place = Postgres(Home(folder / "home")).folder
    shutil.rmtree(folder)
    shutil.rmtree(place, ignore_errors=True)
    if AS_ROOT and place.parent.exists():  # other homes' data lies there, too
        os.chown(place.parent, pwd.getpwnam("postgres").pw_uid, -1)


def works(address: str) -> bool:
    """Whether the server and its database answer, to a write as well."""
    with talk.to(address) as client:
        return client.post("/api/audits", json={"title": "Parcels"}).status_code == 201


def test_a_home_below_a_folder_that_the_database_cannot_enter(closed):
    process, address = start(closed / "home", "start")
    try:
        assert works(address)
        place = Postgres(Home(closed / "home")).folder
        assert (place / "PG_VERSION").exists()
        assert place.stat().st_mode & 0o077 == 0
        # as root it lies where its own user can reach it; otherwise in the home itself
        assert place.is_relative_to("/var/lib/postgresql" if AS_ROOT else closed)
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(ENDS)


def test_what_an_earlier_start_left_behind_closed_is_opened_for_the_database(closed):
    """Folders above the data, made by a release that kept them to root alone."""
    place = Postgres(Home(closed / "home")).folder
    place.parent.mkdir(mode=0o700, exist_ok=True)
    if AS_ROOT:
        os.chown(place.parent, 0, 0)
    process, address = start(closed / "home", "start")
    try:
        assert works(address)
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(ENDS)


def test_a_start_as_an_ordinary_user(closed):
    folder = closed / "own"
    folder.mkdir()
    if AS_ROOT:
        closed.chmod(0o711)
        os.chown(folder, pwd.getpwnam("nobody").pw_uid, -1)
    process, address = start(folder / "home", "start", as_user=ORDINARY if AS_ROOT else ())
    try:
        assert works(address)
        owners = {one.uids().effective for one in family(process)}
        assert 0 not in owners
        assert (folder / "home" / "postgres" / "PG_VERSION").exists()
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(ENDS)
