"""The command line as it is typed: in a process of its own, or, where that is not the question, in this one."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

from typer.testing import CliRunner

from zerotilt import cli

PROJECT = Path(__file__).parents[2]
ALONE = {"ZT_HOME": "/nonexistent/never-made"}
"""No server, no database, no home of ours."""


@dataclass(frozen=True)
class Done:
    returncode: int
    stdout: str
    stderr: str


def started(*arguments: object, folder: Path | None = None) -> Done:
    """As a shell starts it."""
    command = [sys.executable, "-m", "zerotilt.cli", *map(str, arguments)]
    environment = os.environ | {"PYTHONPATH": str(PROJECT / "src")} | ALONE
    run = subprocess.run(command, capture_output=True, text=True, cwd=folder, env=environment, timeout=240)
    return Done(run.returncode, run.stdout, run.stderr)


def typed(*arguments: object, folder: Path | None = None) -> Done:
    """The same arguments, without the seconds that loading the libraries takes."""
    with contextlib.chdir(folder or PROJECT):
        run = CliRunner().invoke(cli.app, cli.spread(list(map(str, arguments))), env=ALONE)
    if run.exception is not None and not isinstance(run.exception, SystemExit):
        raise run.exception
    return Done(run.exit_code, run.stdout, run.stderr)
