"""What is told of a case: the page for the person it is about, and contributions of every row."""

from __future__ import annotations

import io
import re

import pyarrow.parquet as pq
from playwright.sync_api import expect
from pypdf import PdfReader
from tests.web.conftest import accessible, legible_in_the_dark, reading


def opened(page, audit, part: str, more: str = "") -> None:
    page.goto(f"/audits/{audit['id']}/cases?part={part}{more}")
    reading(page)


def test_the_page_for_the_person_is_shown_as_it_is_printed(page, audit):
    opened(page, audit, "person", "&decided=inspected")
    expect(page.get_by_test_id("reading")).to_contain_text("inspected")
    letter = page.frame_locator("iframe")
    expect(letter.get_by_role("heading", name="What counted most")).to_be_visible()
    expect(letter.locator("body")).not_to_contain_text("Home area")
    page.get_by_label("What you add at its end").fill("Ask at the claims desk.\n\n<b>Within four weeks.</b>")
    page.get_by_label("home area", exact=True).check()
    expect(letter.locator("body")).to_contain_text("<b>Within four weeks.</b>")
    assert "shown=home_area" in page.url and "closing=" in page.url
    page.wait_for_selector("main [aria-busy=true]", state="detached")
    accessible(page)
    legible_in_the_dark(page)
    with page.expect_download() as found:
        page.get_by_role("link", name="Download as PDF").click()
    printed = PdfReader(io.BytesIO(found.value.path().read_bytes()))
    assert len(printed.pages) == 1 and "Within four weeks" in printed.pages[0].extract_text()
    page.reload()
    expect(page.get_by_label("What you add at its end")).to_have_value(re.compile("claims desk"))
    expect(page.get_by_label("home area", exact=True)).to_be_checked()


def test_rows_are_ordered_by_what_lowered_them_most(page, audit):
    """Cases where missed scans lowered the chance most, by somebody who follows the sheet."""
    opened(page, audit, "rows", "&as=log-odds")
    page.get_by_role("button", name="With contributions").click()
    told = page.get_by_role("region", name=re.compile("^Every .* explained$"))
    line = told.get_by_role("row", name=re.compile("^missed scans"))
    expect(line).to_be_visible(timeout=60_000)
    lowest = line.get_by_role("link").first.inner_text()
    line.get_by_role("button", name="lowered first: missed scans").click()
    rows = page.get_by_role("region", name="All rows")
    expect(rows.get_by_role("button", name=re.compile("^missed scans moved it"))).to_be_visible()
    expect(rows.locator("tbody th").first).to_have_text(lowest)
    accessible(page)
    with page.expect_download() as found:
        told.get_by_role("link", name=re.compile("as Parquet$")).click()
    table = pq.read_table(io.BytesIO(found.value.path().read_bytes()))
    values = table.column("missed_scans").to_pylist()
    identifier = table.column_names[1]
    assert str(table.column(identifier)[values.index(min(values))].as_py()) == lowest
    page.reload()
    expect(page.get_by_role("region", name="All rows").locator("tbody th").first).to_have_text(lowest)
    page.get_by_role("button", name="Without contributions").click()
    expect(told).to_have_count(0)
    assert "contribution" not in page.url
