"""The start script before anything of ours is installed."""

import subprocess
from pathlib import Path

PROJECT = Path(__file__).parents[1]


def zt(*arguments: str) -> subprocess.CompletedProcess:
    return subprocess.run(["python3", "-S", PROJECT / "zt", *arguments], capture_output=True, text=True)


def test_it_tells_its_commands():
    found = zt()
    assert found.returncode == 0
    for command in ("demo", "start", "stop", "audit", "check", "test", "bench"):
        assert f"./zt {command}" in found.stdout


def test_an_unknown_command_is_refused():
    assert zt("fly").returncode == 2


def test_what_ci_runs_is_the_documented_command():
    assert "./zt test" in (PROJECT / ".ci/run").read_text()
    readme = (PROJECT / "README.md").read_text()
    assert "./zt test" in readme and "./zt demo" in readme


def test_every_picture_the_readme_shows_is_there():
    import re

    for path in re.findall(r"\]\((docs/[^)]+)\)", (PROJECT / "README.md").read_text()):
        assert (PROJECT / path).exists(), path
