"""Each sheet's own controls, in a real browser."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

from tests.api import talk
from tests.web.conftest import accessible, choose, reading


def column(page, table: str, place: int) -> list[str]:
    return page.locator(f'section[aria-label="Table: {table}"] tbody tr td:nth-child({place})').all_inner_texts()


def test_tables_sort_both_ways_and_open_whole(page, client, audit, context):
    total = len(talk.read(client, audit["id"], "tilt", context)["result"]["disparities"])
    page.goto(f"/audits/{audit['id']}/tilt")
    reading(page)
    table = page.get_by_role("region", name="Table: comparisons")
    head = table.get_by_role("button", name="ratio", exact=True)
    for expected in ("ascending", "descending"):
        head.click()
        expect(table.get_by_role("columnheader", name=re.compile("^ratio"))).to_have_attribute("aria-sort", expected)
        shown = [float(text) for text in column(page, "comparisons", 8) if text != "not defined"]
        assert shown == sorted(shown, reverse=expected == "descending")
    # the order is over all rows, of which those in view are drawn, under a head that stays
    assert total > 100 and 10 < len(column(page, "comparisons", 1)) < 60
    expect(table.get_by_role("table")).to_have_attribute("aria-rowcount", str(total + 1))
    known = [d["ratio"]["value"] for d in talk.read(client, audit["id"], "tilt", context)["result"]["disparities"]]
    highest = max(value for value in known if value is not None)
    assert float(column(page, "comparisons", 8)[0]) == pytest.approx(highest, abs=0.01)
    table.evaluate("found => found.scrollTo(0, found.scrollHeight)")
    expect(table.get_by_text("not defined").last).to_be_visible()
    expect(head).to_be_in_viewport()


def test_the_drawn_metrics_and_the_comparison_can_be_chosen(page, client, audit, context):
    found = talk.read(client, audit["id"], "tilt", context)["result"]
    page.goto(f"/audits/{audit['id']}/tilt")
    reading(page)
    page.get_by_role("button", name="4 metrics drawn").click()
    page.get_by_role("menuitemcheckbox", name="Base rate").click()
    page.keyboard.press("Escape")
    expect(page.locator('[data-mark="home_area|outer isles|base_rate"]')).to_be_visible()
    expect(page).to_have_url(re.compile("metrics=base_rate"))
    choose(page, "Comparison", "difference from the reference")
    difference = next(
        d["difference"]["value"]
        for d in found["disparities"]
        if (d["group"], d["metric"]) == ("outer isles", "selection_rate")
    )
    mark = page.locator('[data-mark="home_area|outer isles|selection_rate"]')
    expect(mark).to_have_attribute("aria-label", re.compile(f"difference {difference:.2f}"))
    page.reload()
    expect(page.locator('[data-mark="home_area|outer isles|base_rate"]')).to_be_visible()


def sorted_scores(client, audit, context) -> list[float]:
    settings = {"which": "false negative", "order": "score", "limit": 20}
    return [case["output"] for case in talk.read(client, audit["id"], "cases", context, settings)["result"]["cases"]]


def test_cases_are_filtered_ordered_found_and_paged(page, client, audit, context):
    page.goto(f"/audits/{audit['id']}/cases")
    reading(page)
    choose(page, "Which cases", "false negative")
    found = talk.read(client, audit["id"], "cases", context, {"which": "false negative", "limit": 20})["result"]
    expect(page.get_by_test_id("cases-reading")).to_contain_text(f"{found['matching']:,} of 3,600 claims")
    assert set(column(page, "cases", 6)) == {"wrong"}
    choose(page, "Order", "lowest output first")
    lowest = f"{sorted_scores(client, audit, context)[0] * 100:.1f}%"
    expect(page.locator('section[aria-label="Table: cases"] tbody tr td:nth-child(3)').first).to_have_text(lowest)
    scores = [float(text.rstrip("%")) for text in column(page, "cases", 3)]
    assert scores == sorted(scores) and max(scores) < 50
    page.get_by_role("button", name="Later").click()
    expect(page.get_by_text(re.compile(r"^21 to 40 of"))).to_be_visible()
    choose(page, "Which cases", "all predictions")
    page.get_by_label("Find by identifier").fill("20123")
    found = talk.read(client, audit["id"], "cases", context, {"find": "20123", "limit": 20})
    said = "".join(span["text"] for span in found["reading"]["headline"])
    expect(page.get_by_test_id("cases-reading")).to_have_text(said)
    assert found["result"]["matching"] == sum("20123" in one["name"] for one in found["result"]["cases"]) <= 1


def test_choosing_a_case_shows_its_ladder(page, audit):
    page.goto(f"/audits/{audit['id']}/cases")
    before = reading(page)
    page.get_by_role("region", name="Table: cases").get_by_role("button").nth(-3).click()
    expect(page.get_by_test_id("reading")).not_to_have_text(before)
    expect(page).to_have_url(re.compile(r"row=\d+"))


def test_a_method_that_cannot_serve_says_so_beside_the_sheet(page, audit):
    page.goto(f"/audits/{audit['id']}/cases?row=3&method=enumeration")
    expect(page.get_by_role("alert")).to_contain_text("enumeration takes up to 12 features, the model has 13")


def test_single_curves_and_the_full_range(page, audit):
    page.goto(f"/audits/{audit['id']}/response?feature=account_age")
    reading(page)
    expect(page.locator('[data-part="band"]')).to_be_visible()
    choose(page, "Drawn", "30 single curves")
    expect(page.locator('[data-part="band"]')).to_have_count(0)
    expect(page.get_by_text("Thin lines: 30 single claims.")).to_be_visible()
    before = reading(page)
    choose(page, "Axis", "the full range")
    expect(page.get_by_test_id("reading")).not_to_have_text(before)
    expect(page.get_by_test_id("detail")).to_contain_text("thin and dashed")


def test_levels_of_a_feature_keep_their_order(page, audit):
    page.goto(f"/audits/{audit['id']}/response?feature=packaging_grade")
    reading(page)
    levels = page.locator("[data-level]")
    assert [levels.nth(i).get_attribute("data-level") for i in range(4)] == ["A", "B", "C", "D"]


def test_training_rows_read_otherwise(page, audit):
    page.goto(f"/audits/{audit['id']}/intake")
    held = reading(page)
    assert "3,600 held-out claims" in held
    page.get_by_role("button", name=re.compile("^Rows")).click()
    page.get_by_role("menuitemradio", name="training claims, 6,000").click()
    expect(page.get_by_test_id("reading")).to_contain_text("6,000 training claims")


def test_how_it_was_computed_names_its_evidence(page, client, audit, context):
    found = talk.read(client, audit["id"], "tilt", context)
    page.goto(f"/audits/{audit['id']}/tilt")
    reading(page)
    page.get_by_text("How this was computed").click()
    expect(page.get_by_text(found["key"])).to_be_visible()
    expect(page.get_by_text(found["digests"]["model"])).to_be_visible()
    expect(page.get_by_text("Wilson's intervals").first).to_be_visible()


def test_the_dossier_folds_away_and_a_kept_figure_opens_its_view(page, audit):
    page.goto(f"/audits/{audit['id']}/response?feature=claims_three_years")
    said = reading(page)
    page.keyboard.press("k")
    dossier = page.get_by_role("complementary", name="Dossier")
    expect(dossier.get_by_role("link", name=re.compile("claims three years"))).to_be_visible()
    page.keyboard.press("7")
    reading(page)
    dossier.get_by_role("link", name=re.compile("claims three years")).click()
    expect(page.get_by_test_id("reading")).to_have_text(said)
    dossier.get_by_role("button", name="Fold the dossier away").click()
    expect(dossier).to_have_count(0)


def test_keys_do_nothing_while_one_types(page, audit):
    page.goto(f"/audits/{audit['id']}/cases")
    reading(page)
    page.get_by_label("Find by identifier").fill("7")
    page.get_by_label("Find by identifier").press("3")
    expect(page).to_have_url(re.compile("/cases"))


def test_an_audit_that_is_not_there_leads_back(page):
    page.allowed_errors.append("404")
    page.goto("/audits/00000000-0000-0000-0000-000000000000/tilt")
    expect(page.get_by_role("alert")).to_contain_text("There is no such audit.")
    page.get_by_role("link", name="All audits").click()
    expect(page.get_by_role("heading", name="Zero Tilt")).to_be_visible()


def until(page, met) -> None:
    for _ in range(200):
        if met():
            return
        page.wait_for_timeout(50)
    raise AssertionError("it did not come to be so")


def test_a_sheet_opens_at_its_top_and_going_back_finds_it_as_it_was_left(page, audit):
    sheet = page.locator("#sheet")

    def at() -> int:
        return sheet.evaluate("found => found.scrollTop")

    page.goto(f"/audits/{audit['id']}/drivers")
    reading(page)
    until(page, lambda: sheet.evaluate("found => found.scrollHeight") > 1500)
    sheet.hover()
    page.mouse.wheel(0, 500)
    until(page, lambda: at() > 300)
    page.wait_for_timeout(300)  # a wheel goes on for a moment
    left = at()
    page.get_by_role("navigation").get_by_role("link", name=re.compile("Response")).click()
    page.wait_for_url("**/response*")
    reading(page)
    assert at() == 0
    page.go_back()
    page.wait_for_url("**/drivers*")
    until(page, lambda: at() == left)
    # one scrollbar alone: what is hidden from the eye makes the page itself no longer
    assert page.evaluate("document.documentElement.scrollHeight <= window.innerHeight")
