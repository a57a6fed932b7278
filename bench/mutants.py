"""Do the tests beside the code notice small changes of it? Seeded changes, each run against the tests of its own package.

./zt bench mutants [HOW MANY] [SEED]

A change turns a comparison, moves a constant, turns a sign, takes “or” for “and”, leaves a branch out, or takes the smallest for
the largest; in ``core``, ``store`` and ``report``, in code and not in words. It is made in a copy of the project. Run are the
tests of its package that name the file, or something that it declares; what they do not notice is listed, with the line. A
change that changes nothing (another order of a sum, a limit that no number meets) survives rightly.
"""

from __future__ import annotations

import ast
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

MANY, AT_ONCE, SECONDS = 100, 2, 400
PACKAGES = ("core", "store", "report")
PROJECT = Path(__file__).resolve().parents[1]
TURNED = {
    ast.Lt: "<=", ast.LtE: "<", ast.Gt: ">=", ast.GtE: ">", ast.Eq: "!=", ast.NotEq: "==", ast.In: "not in", ast.NotIn: "in",
    ast.Is: "is not", ast.IsNot: "is",
}  # fmt: skip
SIGNS = {ast.Add: "-", ast.Sub: "+", ast.Mult: "/", ast.Div: "*"}
ENDS = {"min": "max", "max": "min", "argmin": "argmax", "argmax": "argmin", "any": "all", "all": "any"}
WORDS = ("Field", "Refused", "Literal", "Method", "Remedy", "Control", "Place", "Metric")
"""Calls whose arguments are words and declarations."""


@dataclass(frozen=True)
class Change:
    """One piece of a file's text, and what stands there instead."""

    file: str
    line: int
    start: int
    end: int
    before: str
    after: str

    def __str__(self) -> str:
        return f"{self.file}:{self.line}: {self.before} → {self.after}"


def changes_of(path: Path) -> Iterator[Change]:
    """Every change that can be made in a file."""
    text = path.read_text()
    starts = [0]
    for line in text.splitlines(keepends=True):
        starts.append(starts[-1] + len(line.encode()))
    raw, file = text.encode(), str(path.relative_to(PROJECT))

    def made(low: int, high: int, after: str, line: int) -> Change:
        return Change(file, line, low, high, raw[low:high].decode(), after)

    def at(node: ast.AST, end: bool = False) -> int:
        line, column = (node.end_lineno, node.end_col_offset) if end else (node.lineno, node.col_offset)
        return starts[line - 1] + column

    def between(one: ast.AST, other: ast.AST, symbol: str, after: str) -> Iterator[Change]:
        low, high = at(one, True), at(other)
        found = re.search(re.escape(symbol), raw[low:high].decode())
        if found:
            yield made(low + found.start(), low + found.end(), after, one.end_lineno)

    def looked(node: ast.AST) -> Iterator[Change]:
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in WORDS:
            return
        if isinstance(node, ast.AnnAssign | ast.arg):  # not in types
            if isinstance(node, ast.AnnAssign) and node.value is not None:
                yield from looked(node.value)
            return
        if isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in TURNED:
            symbol = {ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">=", ast.Eq: "==", ast.NotEq: "!=", ast.In: "in",
                      ast.NotIn: "not in", ast.Is: "is", ast.IsNot: "is not"}[type(node.ops[0])]  # fmt: skip
            yield from between(node.left, node.comparators[0], symbol, TURNED[type(node.ops[0])])
        if (
            isinstance(node, ast.BinOp)
            and type(node.op) in SIGNS
            and not isinstance(node.left, ast.JoinedStr | ast.Constant)
        ):
            symbol = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/"}[type(node.op)]
            yield from between(node.left, node.right, symbol, SIGNS[type(node.op)])
        if isinstance(node, ast.BoolOp):
            symbol, after = ("and", "or") if isinstance(node.op, ast.And) else ("or", "and")
            yield from between(node.values[0], node.values[1], symbol, after)
        if isinstance(node, ast.Constant) and type(node.value) in (int, float) and node.value not in (0, 1):
            yield made(at(node), at(node, True), repr(node.value * 2), node.lineno)
        if isinstance(node, ast.If) and not node.orelse:
            yield made(at(node.test), at(node.test, True), "False", node.lineno)
        if isinstance(node, ast.Call):
            named = node.func
            name = named.id if isinstance(named, ast.Name) else named.attr if isinstance(named, ast.Attribute) else ""
            if name in ENDS:
                yield made(at(named, True) - len(name), at(named, True), ENDS[name], node.lineno)
        for inner in ast.iter_child_nodes(node):
            yield from looked(inner)

    for node in ast.parse(text).body:
        if not isinstance(node, ast.Import | ast.ImportFrom):
            yield from looked(node)


def tests_of(file: str) -> list[str]:
    """Tests of a file's package that name it, or what it declares; all of the package where none does."""
    path = PROJECT / file
    package = path.relative_to(PROJECT / "src/zerotilt").parts[0]
    declared = {one.name for one in ast.parse(path.read_text()).body if isinstance(one, ast.FunctionDef | ast.ClassDef)}
    module = str(path.relative_to(PROJECT / "src").with_suffix("")).replace("/", ".")
    named = re.compile(
        "|".join([re.escape(module) + r"\b", *(rf"\b{re.escape(one)}\b" for one in declared if len(one) > 5)])
    )
    folder = PROJECT / "tests" / package
    every = sorted(folder.glob("test_*.py"))
    found = [one for one in every if named.search(one.read_text())] or every
    return [str(one.relative_to(PROJECT)) for one in found]


def caught(change: Change, copy: Path) -> bool:
    """Whether a test fails once the change is made; the copy is as it was afterwards."""
    path = copy / change.file
    whole = path.read_bytes()
    path.write_bytes(whole[: change.start] + change.after.encode() + whole[change.end :])
    try:
        ran = subprocess.run(
            [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", *tests_of(change.file)],
            cwd=copy,
            env=os.environ | {"PYTHONPATH": f"{copy}:{copy / 'src'}", "PYTHONDONTWRITEBYTECODE": "1"},
            capture_output=True,
            timeout=SECONDS,
        )
        return ran.returncode != 0
    except subprocess.TimeoutExpired:
        return True  # what never ends is noticed
    finally:
        path.write_bytes(whole)


def main() -> None:
    many = int(sys.argv[2]) if len(sys.argv) > 2 else MANY
    seed = int(sys.argv[3]) if len(sys.argv) > 3 else 0
    every = [
        change
        for package in PACKAGES
        for path in sorted((PROJECT / "src/zerotilt" / package).rglob("*.py"))
        if "migrations" not in path.parts
        for change in changes_of(path)
    ]
    chosen = random.Random(seed).sample(every, many)
    print(f"{len(every):,} changes can be made; {many} are, by seed {seed}", flush=True)
    with tempfile.TemporaryDirectory(prefix="zt-mutants-") as folder, ThreadPoolExecutor(AT_ONCE) as pool:
        copies = [Path(folder) / str(number) for number in range(AT_ONCE)]
        for copy in copies:
            shutil.copytree(PROJECT, copy, ignore=shutil.ignore_patterns(".git", ".venv", "node_modules", ".zt"))
            (copy / "web" / "node_modules").symlink_to(PROJECT / "web" / "node_modules")

        def half(number: int) -> list[Change]:
            left = []
            for change in chosen[number::AT_ONCE]:
                noticed = caught(change, copies[number])
                print(f"{'caught  ' if noticed else 'survived'} {change}", flush=True)
                left += [] if noticed else [change]
            return left

        survivors = [change for left in pool.map(half, range(AT_ONCE)) for change in left]
    print(f"{many - len(survivors)} of {many} were caught; not noticed:")
    for change in survivors:
        print(f"  {change}")
    sys.exit(0 if len(survivors) <= 0.15 * many else 1)


if __name__ == "__main__":
    main()
