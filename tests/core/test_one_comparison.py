"""The same of a group wherever it is read: its draws, its reference."""

from __future__ import annotations

from tests.core.systems import system
from tests.core.test_group_sheets import scored

from zerotilt.core.groups import lattice, opened, tilt
from zerotilt.core.groups.disparity import TiltSettings
from zerotilt.core.groups.lattice import LatticeSettings
from zerotilt.core.groups.opened import OpenedSettings
from zerotilt.core.meaning import Role
from zerotilt.core.work import Work


def test_a_group_has_one_interval_in_groups_and_in_crossings_whatever_is_drawn_for_it():
    """Calibration errors are drawn; a group's draws follow its name, and nothing else that is compared."""
    subject = scored(500)
    crossed = lattice.crossings_of(subject, LatticeSettings(metric="calibration_error"), 1, Work())
    whole = tilt.compare_groups(subject, TiltSettings(), 1, Work())
    for node in crossed.nodes:
        mine = next(group for group in whole.groups if group.group == node.group and group.attribute == node.attribute)
        assert node.own == mine.metrics["calibration_error"]


def test_the_largest_group_is_the_reference_on_every_sheet_and_rows_that_weigh_nothing_do_not_make_it_so():
    columns = {"g": ["a"] * 60 + ["b"] * 40, "y": [0, 1] * 50, "d": [1, 1, 0, 0] * 25}
    columns["w"] = [0.0] * 40 + [1.0] * 60
    subject = system(columns, roles={"g": Role.group, "d": Role.decision, "w": Role.weight})
    of_tilt = tilt.compare_groups(subject, TiltSettings(), 1, Work()).attributes[0].reference
    assert of_tilt == opened.open_group(subject, OpenedSettings(), 1, Work()).reference == "b"
