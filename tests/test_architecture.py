"""Layers import downwards only, and the core knows no web, no database, no file."""

import ast
import re
import subprocess
import sys
from pathlib import Path

import pytest

PROJECT = Path(__file__).parents[1]


def test_import_contracts_hold():
    done = subprocess.run(
        [Path(sys.executable).with_name("lint-imports"), "--no-cache"], cwd=PROJECT, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stdout


FILES = {
    "read_bytes",
    "read_text",
    "write_bytes",
    "write_text",
    "load",
    "save",
    "savez",
    "fromfile",
    "tofile",
    "memmap",
}


def opening(text: str) -> list[str]:
    """What in a module opens files of its own."""
    found = []
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "open":
            found.append("open")
        if (
            isinstance(node, ast.Call)
            and isinstance(node.func, ast.Attribute)
            and (
                node.func.attr in FILES
                or (node.func.attr == "open" and getattr(node.func.value, "id", "") in ("os", "io", "gzip"))
            )
        ):
            found.append(node.func.attr)
        if isinstance(node, ast.Import | ast.ImportFrom):
            names = {getattr(node, "module", None), *(one.name for one in node.names)}
            found += sorted(names & {"sqlite3", "open"})
    return found


def test_the_model_runtime_comes_from_one_place_where_it_is_told_to_collect_nothing():
    for path in (PROJECT / "src").rglob("*.py"):
        if path.name != "runtime.py":
            assert not re.search(r"^\s*(import|from) onnxruntime", path.read_text(), re.MULTILINE), path


def test_the_core_opens_no_files():
    for path in (PROJECT / "src/zerotilt/core").rglob("*.py"):
        assert opening(path.read_text()) == [], path


@pytest.mark.parametrize(
    "text",
    [
        "f(open('a'))",
        "Path('a').read_bytes()",
        "import sqlite3",
        "from os import open",
        "np.load('a')",
        "x.write_text('')",
    ],
)
def test_what_opens_a_file_is_recognised(text):
    assert opening(text)


def test_lock_files_hold_no_registry_address():
    assert "://" not in (PROJECT / "requirements.lock").read_text()
    assert '"resolved"' not in (PROJECT / "web/package-lock.json").read_text()


ASKED_BY_TAGS = {
    "api/state.ts", "api/useReading.ts",  # keep answers under the tags of what they depend on
    "api/tasks.tsx",  # asks again for what a task has computed
    "frame/Frame.tsx",  # the audit itself, which holds the tags
    "frame/Sheet.tsx",  # notes of methods, and arrays of evidence named by its key: neither ever changes
}  # fmt: skip
ASKING = re.compile(
    r"\b(useQuery|useQueries|useInfiniteQuery|useSuspenseQuery|invalidateQueries|setQueryData|prefetchQuery)\b"
)


def test_questions_of_a_page_are_kept_under_the_tags_of_what_they_depend_on():
    """Who asks in another way could show what is of before; who calls an answer old by hand could forget one."""
    pages = PROJECT / "web/src"
    files = [path for ending in ("ts", "tsx") for path in pages.rglob(f"*.{ending}") if ".test." not in path.name]
    asking = {str(path.relative_to(pages)) for path in files if ASKING.search(path.read_text())}
    assert asking == ASKED_BY_TAGS
