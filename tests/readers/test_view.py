"""Where Python lies under a folder of root's own, what reads models gets a view in which another user can enter what is
needed, and nothing else of that folder is there."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import pytest

from zerotilt.readers import view

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="only root can take such a view")


@pytest.fixture
def closed():
    """A closed folder with what is needed, and with a secret."""
    with tempfile.TemporaryDirectory(prefix="zt-closed-") as name:
        folder = Path(name)  # made with mode 0700
        for part in (folder / "deep", folder / "deep" / "python"):
            part.mkdir()
            part.chmod(0o755)  # whatever the umask
        (folder / "deep" / "python" / "line").write_text("import x")
        (folder / "deep" / "python" / "line").chmod(0o644)
        (folder / "secret").write_text("a word")
        yield folder


def seen(monkeypatch, folder: Path, needed: list[Path]) -> tuple[bool, list[str], str, str]:
    """What another user sees after the view was taken: whether it was, names in the folder, the file, the secret."""
    monkeypatch.setattr(view, "needed", lambda: needed)
    read, write = os.pipe()
    pid = os.fork()
    if not pid:
        told: list[object] = []
        try:
            told.append(view.open_to_others())
            os.setgroups([])
            os.setgid(65534)
            os.setuid(65534)
            for look in (
                lambda: sorted(os.listdir(folder)),
                lambda: (folder / "deep" / "python" / "line").read_text(),
                lambda: (folder / "secret").read_text(),
            ):
                try:
                    told.append(look())
                except OSError as problem:
                    told.append(type(problem).__name__)
            os.write(write, repr(told).encode())
        finally:
            os._exit(0)
    os.close(write)
    os.waitpid(pid, 0)
    with os.fdopen(read) as source:
        return tuple(eval(source.read()))


@pytest.mark.skipif(not view.can_be_taken(), reason="this machine lets nobody take a view of its own")
def test_what_is_needed_can_be_entered_and_the_rest_is_not_there(monkeypatch, closed):
    taken, names, line, secret = seen(monkeypatch, closed, [closed / "deep" / "python"])
    assert (taken, names, line, secret) == (True, ["deep"], "import x", "FileNotFoundError")
    # nothing of it is seen from outside
    assert sorted(os.listdir(closed)) == ["deep", "secret"] and (closed / "secret").read_text() == "a word"
    assert closed.stat().st_mode & 0o777 == 0o700
    assert not list(Path(tempfile.gettempdir()).glob("zt-view-*"))


def test_what_is_closed_itself_is_left_closed(monkeypatch, closed):
    (closed / "deep" / "python").chmod(0o700)
    taken, names, *_ = seen(monkeypatch, closed, [closed / "deep" / "python"])
    assert (taken, names) == (False, "PermissionError")


def test_where_nothing_is_closed_nothing_is_done(monkeypatch, tmp_path):
    monkeypatch.setattr(view, "closed", lambda paths: {})
    monkeypatch.setattr(view, "_taken", lambda tops: pytest.fail("a view was taken"))
    assert view.open_to_others()


def test_where_the_machine_refuses_it_is_said(monkeypatch, closed):
    def refused(tops):
        raise PermissionError(1, "refused")

    monkeypatch.setattr(view, "needed", lambda: [closed / "deep" / "python"])
    monkeypatch.setattr(view, "_taken", refused)
    assert not view.open_to_others()


def test_folders_that_lie_in_others_are_named_once(tmp_path):
    one, two = tmp_path / "a", tmp_path / "a" / "b"
    assert view._outermost([two, one, one, tmp_path / "ab"]) == [one, tmp_path / "ab"]
