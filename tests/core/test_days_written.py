"""Days as people write them in files."""

from __future__ import annotations

import io
from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zerotilt.core import csvdialect
from zerotilt.core.csvdialect import Dialect
from zerotilt.core.table import Table, convert


def read(cells: list[str], dialect: Dialect | None = None) -> Table:
    data = "day;n\n" + "".join(f"{cell};{place}\n" for place, cell in enumerate(cells))
    sink = io.BytesIO()
    convert(io.BytesIO(data.encode()), sink, dialect)
    return Table(io.BytesIO(sink.getvalue()))


@pytest.mark.parametrize(
    ("cells", "first"),
    [
        (["2026-02-01", "2026-12-31"], "2026-02-01"),
        (["1.2.2026", "31.12.2026"], "2026-02-01"),
        (["01.02.2026", "02.02.2026"], "2026-02-01"),
        (["01/02/2026", "31/12/2026"], "2026-02-01"),
        (["02/01/2026", "12/31/2026"], "2026-02-01"),  # a day tells that the month stands first
        (["01-02-2026", "28-02-2026"], "2026-02-01"),
        (["2026/2/1", "2026/12/31"], "2026-02-01"),
        (["2026.02.01", ""], "2026-02-01"),
        (["01/02/2026", "02/03/2026"], "2026-02-01"),  # nothing tells: the day first
        (["29.2.2024", "1.3.2024"], "2024-02-29"),
    ],
)
def test_days_are_read_as_they_are_meant(cells, first):
    found = read(cells)
    assert found.is_date("day")
    assert found.texts("day")[0] == first


@pytest.mark.parametrize(
    "cells",
    [
        ["30.2.2026", "1.3.2026"],  # no such day
        ["29.2.2026"],
        ["1.2.26", "3.4.26"],  # of which century
        ["31/12/2026", "12/31/2026"],  # each in another order
        ["1.2/2026"],
        ["0.1.2026"],
        ["1.1.0000"],
        ["1.2.2026 10:30"],
        ["12/31/2026", "soon"],
    ],
)
def test_what_is_no_day_stays_text(cells):
    found = read(cells)
    assert not found.is_date("day")
    assert found.texts("day").tolist() == cells


def test_an_order_can_be_corrected_where_the_days_leave_it_open():
    open_days = ["01/02/2026", "03/04/2026"]
    assert read(open_days, Dialect(delimiter=";", days="month first")).texts("day").tolist() == [
        "2026-01-02",
        "2026-03-04",
    ]
    # a correction does not overrule what the days say
    told = ["25/02/2026", "03/04/2026"]
    assert read(told, Dialect(delimiter=";", days="month first")).texts("day").tolist() == ["2026-02-25", "2026-04-03"]


def test_each_column_is_read_in_its_own_order():
    sink = io.BytesIO()
    convert(io.BytesIO(b"sent,back\n25/02/2026,02/25/2026\n01/02/2026,01/02/2026\n"), sink)
    found = Table(io.BytesIO(sink.getvalue()))
    assert (found.texts("sent")[1], found.texts("back")[1]) == ("2026-02-01", "2026-01-02")


def test_an_order_is_found_out_beyond_the_first_piece():
    """The one telling day stands far below what is looked at first."""
    found = read(["01/02/2026"] * 40_000 + ["02/28/2026"])
    assert found.texts("day")[0] == "2026-01-02"


def test_the_head_of_a_file_tells_the_order():
    assert csvdialect.sniff(io.BytesIO(b"a,b\n12/31/2026,1\n1/2/2026,2\n")).days == "month first"
    assert csvdialect.sniff(io.BytesIO(b"a,b\n1/2/2026,1\n3/4/2026,2\n")).days == "day first"


@given(
    st.lists(st.dates(), min_size=1, max_size=20),
    st.sampled_from(["{0.day}.{0.month}.{0.year:04}", "{0.day:02}/{0.month:02}/{0.year:04}"]),
)
def test_any_day_comes_back(days: list[date], how: str):
    cells = [how.format(day) for day in days]
    found = read([*cells, how.format(date(2026, 12, 31))])
    assert found.texts("day").tolist()[:-1] == [day.isoformat() for day in days]
