"""What a process of ours need not load."""

from __future__ import annotations

import sys
from collections.abc import Callable
from importlib.abc import MetaPathFinder
from types import ModuleType
from typing import Any

NEEDLESS = "pandas"
"""Arrow loads it, wherever it is installed, to see whether an array is one of its own; that takes seconds, in every
process that reads a table, and nobody here gives it one. In a notebook, where people do, nothing is left out."""


class _Absent(MetaPathFinder):
    def find_spec(self, fullname, path, target=None):
        if fullname == NEEDLESS or fullname.startswith(f"{NEEDLESS}."):
            raise ModuleNotFoundError(f"{fullname} is left out here", name=fullname)
        return None


def leave_out() -> None:
    """From here on, what is needless is as if it were not installed."""
    if not any(isinstance(one, _Absent) for one in sys.meta_path):
        sys.meta_path.insert(0, _Absent())


def compile_nothing() -> None:
    """From here on kernels stay as they are written: right, and slow.

    For server and worker, which ask readers and jobs for every figure: the
    compiler is a third of what they would load at each start. To be said
    before anything of the core is imported.
    """
    compiler, extending = ModuleType("numba"), ModuleType("numba.extending")
    vars(compiler)["njit"] = vars(extending)["intrinsic"] = _as_written
    vars(compiler)["extending"] = extending
    sys.modules.setdefault("numba", compiler)
    sys.modules.setdefault("numba.extending", extending)


def _as_written(function: Callable | None = None, **_: Any) -> Callable:
    return function or _as_written
