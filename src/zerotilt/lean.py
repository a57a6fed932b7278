"""What a process of ours need not load."""

from __future__ import annotations

import sys
from importlib.abc import MetaPathFinder

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
