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


def test_every_benchmark_that_is_named_has_a_file_of_its_own():
    import re

    text = (PROJECT / "zt").read_text()
    known = dict(re.findall(r'^            "(\w+)": "(\w+)",$', text[text.index('"growth": "engine"') - 40 :], re.M))
    named = set(re.findall(r"\./zt bench (\w+)", (PROJECT / "README.md").read_text()))
    assert named <= set(known), sorted(named - set(known))
    assert all((PROJECT / f"bench/{file}.py").exists() for file in known.values())
