"""Two groups whose counts are known by hand."""

from tests.core.systems import system

from zerotilt.core.groups import tilt
from zerotilt.core.groups.disparity import TiltSettings
from zerotilt.core.meaning import (
    Role,
)
from zerotilt.core.work import Work

ROLES = {"g": Role.group, "d": Role.decision}


def rows_of(cells: dict[tuple[str, int, int], int]) -> dict[str, list]:
    """Columns g, y, d from counts of (group, outcome, decision)."""
    flat = [key for key, times in cells.items() for _ in range(times)]
    return {"g": [g for g, _, _ in flat], "y": [y for _, y, _ in flat], "d": [d for _, _, d in flat]}


TWO_GROUPS = {
    ("a", 1, 1): 80, ("a", 1, 0): 20, ("a", 0, 1): 30, ("a", 0, 0): 70,
    ("b", 1, 1): 30, ("b", 1, 0): 30, ("b", 0, 1): 10, ("b", 0, 0): 50,
}  # fmt: skip


def compared(columns, roles=ROLES, **more):
    return tilt.compare_groups(system(columns, roles=roles, **more), TiltSettings(), 1, Work())
