"""A level in a condition is a value: it is met by the cells that hold it, however it is written."""

from __future__ import annotations

from datetime import date

import numpy as np
import pyarrow as pa
import pytest

from zerotilt.core.meaning import Condition
from zerotilt.core.segments import meeting
from zerotilt.core.table import Table
from zerotilt.core.typed_conditions import asked_for

COLUMNS = {
    "age": pa.array([30, 31, None, 30, 5]),
    "dose": pa.array([30.0, 0.5, None, 1e-8, 1e16]),
    "big": pa.array([2**53 + 1, 2**53, None, 7, 7]),
    "flag": pa.array([True, False, None, True, False]),
    "day": pa.array([date(2026, 1, 2), date(2026, 11, 30), None, date(2026, 1, 2), date(1999, 12, 31)]),
    "text": pa.array(["30", "30.0", None, "True", "yes"]),
}
TABLE = Table(pa.table(COLUMNS))
ROWS = np.arange(5)


@pytest.mark.parametrize(
    ("column", "written", "value"),
    [
        *(("age", one, 30) for one in ("30", "30.0", "30.", "3e1", "+30", "030", " 30 ")),
        ("dose", "30", 30.0),
        ("dose", ".5", 0.5),
        ("dose", "0.50", 0.5),
        ("dose", "1e-08", 1e-8),
        ("dose", "0.00000001", 1e-8),
        ("dose", "10000000000000000", 1e16),
        ("big", str(2**53 + 1), 2**53 + 1),
        ("big", str(2**53), 2**53),
        *(("flag", one, True) for one in ("true", "True", "TRUE", "yes", "1")),
        *(("flag", one, False) for one in ("false", "no", "0")),
        *(("day", one, date(2026, 1, 2)) for one in ("2026-01-02", "2026-1-2")),
        ("text", "30", "30"),
        ("text", "30.0", "30.0"),
        ("text", "yes", "yes"),
        ("age", "thirty", "thirty"),
        ("age", "nan", None),
        ("age", "inf", None),
        ("day", "2026-13-40", "never"),
    ],
)
def test_a_level_is_met_by_its_value(column, written, value):
    here = np.array([cell is not None and cell == value for cell in COLUMNS[column].to_pylist()])
    assert (meeting(Condition(column=column, levels=(written,)), TABLE, ROWS) == here).all()
    assert (meeting(Condition(column=column, levels=(written,), negated=True), TABLE, ROWS) == ~here).all()
    if value is None or written != written.strip():
        return
    for typed, wanted in (
        (f"{column}={written}", here),
        (f"{column}!={written}", ~here),
        (f"not {column}={written}", ~here),
    ):
        segment = asked_for((), (), f"here: {typed}", list(COLUMNS), ())
        found = np.ones(5, bool)
        for condition in segment.blocks[0]:
            found &= meeting(condition, TABLE, ROWS)
        assert (found == wanted).all(), typed


def test_several_levels_are_met_by_each():
    found = meeting(Condition(column="age", levels=("30.0", "31", "6")), TABLE, ROWS)
    assert found.tolist() == [True, True, False, True, False]
