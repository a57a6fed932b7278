"""Layers import downwards only, and the core knows no web, no database, no file."""

import subprocess
import sys
from pathlib import Path

PROJECT = Path(__file__).parents[1]


def test_import_contracts_hold():
    done = subprocess.run(
        [Path(sys.executable).with_name("lint-imports"), "--no-cache"], cwd=PROJECT, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stdout


def test_the_core_opens_no_files():
    for path in (PROJECT / "src/zerotilt/core").rglob("*.py"):
        text = path.read_text()
        assert " open(" not in text.replace("pa.ipc.open", ""), path
        assert "import sqlite3" not in text, path


def test_lock_files_hold_no_registry_address():
    assert "://" not in (PROJECT / "requirements.lock").read_text()
    assert '"resolved"' not in (PROJECT / "web/package-lock.json").read_text()
