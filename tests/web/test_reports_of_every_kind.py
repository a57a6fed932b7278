"""A person writes the report of an audit of numbers and of ordered classes from the pages, and reads it there."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect
from tests.web.conftest import accessible, report_written


@pytest.fixture
def own(client, request):
    """A copy of one of the demo's audits, by its title."""
    known = next(one["id"] for one in client.get("/api/audits").json() if one["title"] == request.param)
    name = client.post(f"/api/audits/{known}/duplicate").json()["id"]
    yield name
    client.delete(f"/api/audits/{name}?for_good=true")


@pytest.mark.parametrize(
    ("own", "said"),
    [
        ("Skerry Post, days to settle", "mean absolute error"),
        ("Skerry Post, routing desk", "field inspection"),
    ],
    indirect=["own"],
)
def test_a_report_is_composed_written_and_read(page, client, own, said):
    page.goto(f"/audits/{own}/report?part=compose")
    look = page.frame_locator("iframe").first
    expect(look.locator("main")).to_contain_text(re.compile(said, re.IGNORECASE), timeout=90_000)
    report_written(page)
    expect(page.get_by_test_id("reading")).to_contain_text("is the newest", timeout=90_000)
    html = client.get(f"/api/audits/{own}/reports/1").text
    assert re.search(said, html, re.IGNORECASE) and "nan" not in re.sub(r"<style.*?</style>|data:[^\"']*", "", html, flags=re.S).lower().split()
    accessible(page)
    fits_the_window(page)


def fits_the_window(page) -> None:
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
