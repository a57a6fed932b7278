"""Rows picked one by one, what is read alongside, and audits whose outcomes nobody knows."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.api import talk
from tests.web.conftest import accessible, reading, report_written
from tests.web.test_intake_sheet import begun, table, upload  # noqa: F401


def test_rows_picked_in_cases_are_the_rows_of_every_sheet_and_can_be_kept(page, audit, restored):
    page.goto(f"/audits/{audit['id']}/cases")
    reading(page)
    list_ = page.get_by_role("region", name="Table: cases")
    names = [row.get_by_role("button").first.inner_text() for row in list_.get_by_role("row").all()[1:4]]
    for name in names:
        list_.get_by_role("checkbox", name=f"Pick {name}", exact=True).check()
    picked = page.get_by_role("group", name="Picked rows")
    expect(picked).to_contain_text("3 claims picked")
    list_.get_by_role("checkbox", name=f"Pick {names[2]}", exact=True).uncheck()
    expect(picked).to_contain_text("2 claims picked")
    accessible(page)
    picked.get_by_label("called").fill("two to look at")
    picked.get_by_role("button", name="Save as segment").click()
    expect(picked).to_have_count(0)
    page.get_by_role("button", name=re.compile("^Rows: ")).click()
    page.get_by_role("menuitemradio", name="held-out claims in two to look at").click()
    expect(page.get_by_test_id("cases-reading")).to_contain_text("2 claims", timeout=60_000)
    expect(page).to_have_url(re.compile("segment=two"))
    page.goto(page.url.replace("/cases", "/intake"))
    expect(page.get_by_test_id("reading")).to_contain_text("In two to look at:")
    expect(page.get_by_test_id("detail")).to_contain_text("2 rows picked one by one")


def test_all_rows_and_another_segment_can_stand_alongside_the_one_that_is_read(page, client, audit, restored):
    parts = [
        {"name": name, "conditions": [{"column": "channel", "levels": [level]}]}
        for name, level in (("by app", "app"), ("by telephone", "telephone"))
    ]
    body = {"intersections": audit["spec"]["intersections"], "segments": parts}
    assert talk.put_part(client, audit["id"], "comparisons", body).status_code == 200
    page.goto(f"/audits/{audit['id']}/response?segment=by app&feature=account_age")
    reading(page)
    page.get_by_role("button", name="+ alongside").click()
    page.get_by_role("menuitemradio", name="all held-out claims").click()
    expect(page).to_have_url(re.compile("beside=whole"))
    curve = page.locator('[data-curve="alongside"]')
    expect(curve).to_be_visible(timeout=60_000)
    whole = curve.get_attribute("d")
    page.get_by_role("button", name=re.compile("^alongside all")).click()
    page.get_by_role("menuitemradio", name="claims in by telephone").click()
    expect(page).to_have_url(re.compile("beside=segment"))
    expect(curve).not_to_have_attribute("d", whole, timeout=60_000)
    page.reload()
    expect(page.get_by_role("button", name="alongside claims in by telephone")).to_be_visible()
    accessible(page)


def test_decisions_whose_outcome_nobody_knows_are_a_whole_audit(begun):  # noqa: F811
    upload(begun, table(800).replace("phase", "decided").replace("older", "no").replace("newer", "yes"))
    for column, role in (("score", "ignored"), ("area", "group"), ("granted", "ignored"), ("decided", "decision")):
        begun.get_by_label(f"Role of {column}").select_option(role)
    expect(begun.get_by_text("decisions can be counted and compared, and nothing can be said about errors")).to_be_visible()
    begun.get_by_label("Event: decided is").select_option("yes")
    begun.get_by_label("Name of that decision").fill("let through")
    begun.get_by_role("button", name="Check and finish").click()
    expect(begun.get_by_test_id("reading")).to_contain_text(re.compile(r"of 800 rows are let through \(95% interval"))
    expect(begun.get_by_test_id("detail")).to_contain_text("No column says what really happened")
    accessible(begun)
    begun.keyboard.press("5")
    expect(begun.get_by_role("region", name="Table: cases")).to_contain_text("not known")
    begun.keyboard.press("7")
    reading(begun)
    compared = begun.get_by_role("region", name="Table: comparisons")
    expect(compared).to_contain_text("Selection rate")
    expect(compared).not_to_contain_text("Accuracy")
    begun.get_by_role("tab", name="Labels and decisions").click()
    expect(begun.get_by_role("alert")).to_contain_text("needs what really happened")
    report_written(begun)
    expect(begun.get_by_test_id("reading")).to_contain_text("Report 1 is the newest", timeout=60_000)
    report = begun.request.get(begun.url.split("?")[0].replace("/audits/", "/api/audits/").replace("/report", "/reports/1"))
    assert "no column says what" in report.text() and "needs a model" in report.text()
