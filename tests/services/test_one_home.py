"""One folder, one start; what was left by the killed is swept; nobody else's server is touched."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

import pytest
from tests.conftest import PROJECT
from tests.services.test_start_and_stop import home  # noqa: F401  fixture

from zerotilt.services.home import Home, listening, rotate
from zerotilt.services.postgres import Postgres
from zerotilt.services.supervisor import Supervisor


def test_a_second_start_says_where_the_first_runs_and_touches_nothing(running):
    second = Supervisor(Home(running.home.folder))
    with pytest.raises(SystemExit, match=running.url):
        second.start()
    second.stop()
    assert Home(running.home.folder).running()["url"] == running.url if running.home.note.exists() else True
    assert running.postgres.process.poll() is None
    assert running.ask("/api/health")["instance"] == running.instance


def test_two_starts_at_once_make_one_database(home):  # noqa: F811
    environment = os.environ | {"ZT_HOME": str(home), "PYTHONPATH": str(PROJECT / "src"), "PYTHONUNBUFFERED": "1"}
    command = [sys.executable, "-m", "zerotilt.cli", "start"]
    both = [
        subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
        for _ in range(2)
    ]
    try:
        said = [next((line for line in one.stdout if "is running" in line or "already" in line), "") for one in both]
        assert sorted("already" in line for line in said) == [False, True], said
        winner = both[[("already" in line) for line in said].index(False)]
        assert winner.poll() is None
    finally:
        for one in both:
            one.terminate()
            one.wait(45)


def test_a_stale_lock_that_names_another_postgres_does_not_stop_that_one(running, tmp_path):
    folder = tmp_path / "postgres"
    folder.mkdir()
    other = Postgres.__new__(Postgres)
    other.home, other.as_root, other.folder = running.home, os.geteuid() == 0, folder
    (folder / "postmaster.pid").write_text(f"{running.postgres.process.pid}\n{folder}\n")
    other._clear_stale_lock()
    assert running.postgres.process.poll() is None
    assert not (folder / "postmaster.pid").exists()
    assert running.postgres._serves(running.postgres.process.pid)


def test_a_port_once_listened_on_is_nobody_elses():
    first, second = listening(9_700), listening(9_700)
    try:
        assert first.getsockname()[1] != second.getsockname()[1]
    finally:
        first.close()
        second.close()


def test_folders_are_their_owners_alone_and_scratch_of_the_killed_is_swept():
    folder = Path(tempfile.mkdtemp(prefix="zt-own-"))
    try:
        found = Home(folder / "home")
        for own in (found.files, found.logs):
            assert own.stat().st_mode & 0o077 == 0
        (found.scratch / "zt-left").mkdir()
        (found.scratch / "zt-left" / "table.parquet").write_bytes(b"somebody's")
        assert found.take()
        assert found.sweep() == 1
        assert not list(found.scratch.iterdir())
        assert not Home(folder / "home").take()
        found.let_go()
        assert Home(folder / "home").take()
    finally:
        shutil.rmtree(folder)


def test_files_of_a_running_home_are_their_owners_alone(running):
    files = [path for path in running.home.files.rglob("*") if path.is_file()]
    files += [path for path in running.home.logs.iterdir()]
    assert files
    assert all(path.stat().st_mode & 0o077 == 0 for path in files)


def test_a_log_that_has_grown_is_set_aside_while_it_is_written(tmp_path):
    log = tmp_path / "server.log"
    with log.open("ab", buffering=0) as writer:
        writer.write(b"x" * 1_000)
        assert not rotate(log, 2_000)
        writer.write(b"y" * 2_000)
        assert rotate(log, 2_000)
        writer.write(b"after")
    assert log.read_bytes() == b"after"
    assert (tmp_path / "server.log.1").stat().st_size == 3_000


def test_what_people_enter_stays_out_of_the_databases_log(running):
    import psycopg2

    with psycopg2.connect(**running.postgres.address) as connection, connection.cursor() as cursor:
        with pytest.raises(psycopg2.Error):
            cursor.execute(
                "insert into audit (id, title) values (%s, %s)", ("not an identifier", "a secret of somebody")
            )
        connection.rollback()
    assert "a secret of somebody" not in (running.home.logs / "postgres.log").read_text(errors="replace")


@pytest.mark.parametrize(
    "note",
    ["[]", "null", "7", '"x"', "{}", '{"pid": "1"}', '{"pid": true}', '{"pid": -1}', '{"pid": 1e400}', "[" * 9000],
)
def test_a_note_that_is_none_says_that_nothing_runs(tmp_path, note):
    place = Home(tmp_path)
    place.note.parent.mkdir(parents=True, exist_ok=True)
    place.note.write_text(note)
    assert place.running() is None
