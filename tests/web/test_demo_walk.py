"""The whole way with the demo, in a real browser; numbers on screen are the API's."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

from tests.api import talk
from tests.web.conftest import accessible, legible_in_the_dark, reading, report_written


def test_from_the_first_page_by_keys_through_every_area(page, audit):
    page.goto("/")
    accessible(page)
    page.get_by_role("link", name="Skerry Post claims").first.click()
    assert "settled at once" in reading(page)
    for key, heading in (
        ("1", "are decided rightly"), ("2", "concerns in 3,600 held-out claims"), ("3", "of the importance"),
        ("4", "mean chance that the claim is valid"), ("5", "the model puts the chance"),
        ("6", "confirmed in 3,600 held-out claims"), ("7", "times as often as harbour town claims"),
        ("8", "Nothing was trained here yet"), ("9", "findings are open"),
    ):  # fmt: skip
        page.keyboard.press(key)
        expect(page.get_by_test_id("reading")).to_contain_text(heading)
        accessible(page)
        legible_in_the_dark(page)
    page.keyboard.press("?")
    expect(page.get_by_role("dialog", name="Keys")).to_be_visible()
    page.keyboard.press("Escape")


def number(text: str | None) -> float:
    return float(text or "nan")


def test_levels_sit_where_the_numbers_say(page, client, audit, context):
    found = talk.read(client, audit["id"], "tilt", context)
    page.goto(f"/audits/{audit['id']}/tilt")
    said = "".join(span["text"] for span in found["reading"]["headline"])
    reading(page)
    assert page.get_by_test_id("reading").text_content().replace("Flagged: ", "") == said
    shown = {"selection_rate", "true_positive_rate", "false_positive_rate", "positive_predictive_value"}
    marks = 0
    places: list[tuple[float, float]] = []
    for d in found["result"]["disparities"]:
        if d["metric"] not in shown:
            continue
        mark = page.locator(f'[data-mark="{d["attribute"]}|{d["group"]}|{d["metric"]}"]')
        assert mark.get_attribute("data-status") == d["status"]
        marks += 1
        if d["status"] == "too_few":
            assert "too few rows" in mark.inner_text()
            continue
        at = number(mark.locator("circle").get_attribute("cx"))
        whisker = mark.locator("line.whisker")
        assert number(whisker.get_attribute("x1")) <= at <= number(whisker.get_attribute("x2"))
        places.append((d["ratio"]["value"], at))
        assert f"{d['ratio']['value']:.2f}" in mark.get_attribute("aria-label")
    assert marks == len([d for d in found["result"]["disparities"] if d["metric"] in shown])
    places.sort()
    assert [at for _, at in places] == sorted(at for _, at in places)


def test_a_mark_opens_its_rows_and_leads_to_the_cases(page, client, audit, context):
    found = talk.read(client, audit["id"], "tilt", context)
    group = next(g for g in found["result"]["groups"] if g["group"] == "outer isles")
    page.goto(f"/audits/{audit['id']}/tilt")
    reading(page)
    mark = page.locator('[data-mark="home_area|outer isles|selection_rate"]')
    mark.focus()
    page.keyboard.press("Enter")
    card = page.get_by_role("dialog", name="Rows of outer isles")
    expect(card).to_contain_text(f"outer isles: {group['rows']:,} claims")
    expect(card).to_contain_text(f"{group['metrics']['selection_rate']['value'] * 100:.1f}%")
    card.get_by_role("link", name="Open in Cases").click()
    expect(page.get_by_test_id("cases-reading")).to_contain_text(f"{group['rows']:,} of 3,600 claims in outer isles")


def test_a_ladder_adds_up_on_screen(page, client, audit, context):
    found = talk.read(client, audit["id"], "ladder", context, {"row": 3})["result"]
    page.goto(f"/audits/{audit['id']}/cases?row=3")
    assert f"{found['probability'] * 100:.1f}%" in reading(page)
    rungs = page.locator("[data-rung]")
    total = sum(float(rungs.nth(i).get_attribute("data-contribution")) for i in range(rungs.count()))
    assert found["baseline"] + total == pytest.approx(found["prediction"], abs=1e-9)
    start = number(page.locator('[data-part="baseline"]').get_attribute("cx"))
    end = number(page.locator('[data-part="prediction"]').get_attribute("cx"))
    threshold = number(page.locator('[data-part="threshold"]').get_attribute("x1"))
    per_unit = (end - start) / (found["prediction"] - found["baseline"])
    assert threshold == pytest.approx(start + (0.5 - found["baseline"]) * per_unit, abs=0.6)
    bars = [rungs.nth(i).locator("rect") for i in range(rungs.count())]
    widths = [number(bar.get_attribute("width")) for bar in bars]
    for width, i in zip(widths, range(rungs.count()), strict=True):
        expected = abs(float(rungs.nth(i).get_attribute("data-contribution")) * per_unit)
        assert width == pytest.approx(max(expected, 0.5), abs=0.6)


def test_driver_rows_are_ranked_and_lead_to_the_response(page, client, audit, context):
    found = talk.read(client, audit["id"], "drivers", context)["result"]["drivers"]
    page.goto(f"/audits/{audit['id']}/drivers")
    reading(page)
    rows = page.locator("[data-driver]")
    assert [rows.nth(i).get_attribute("data-driver") for i in range(rows.count())] == [d["feature"] for d in found]
    widths = [number(rows.nth(i).locator('[data-part="bar"]').get_attribute("width")) for i in range(4)]
    for i in range(1, 4):
        expected = found[i]["permutation"]["value"] / found[0]["permutation"]["value"]
        assert widths[i] / widths[0] == pytest.approx(expected, rel=0.01)
    rows.first.click()
    expect(page.get_by_role("button", name="Feature: missed scans")).to_be_visible()
    assert "falls" in reading(page)


def test_response_points_lie_on_their_curve(page, client, audit, context):
    found = talk.read(client, audit["id"], "response", context, {"feature": "account_age"})["result"]
    page.goto(f"/audits/{audit['id']}/response?feature=account_age")
    reading(page)
    points = page.locator("circle[data-point]")
    on_scale = [point for point in found["points"] if point["position"] is not None]
    assert points.count() == len(on_scale)
    drawn = [
        (number(points.nth(i).get_attribute("cx")), number(points.nth(i).get_attribute("cy"))) for i in range(points.count())
    ]
    (x0, y0), (x1, y1) = drawn[0], max(drawn, key=lambda at: abs(at[1] - drawn[0][1]))
    last = on_scale[drawn.index((x1, y1))]
    first = on_scale[0]
    for point, (x, y) in zip(on_scale, drawn, strict=True):
        across = (point["position"] - first["position"]) / (last["position"] - first["position"])
        up = (point["mean"] - first["mean"]) / (last["mean"] - first["mean"])
        assert x == pytest.approx(x0 + across * (x1 - x0), abs=0.6)
        assert y == pytest.approx(y0 + up * (y1 - y0), abs=0.6)
    expect(page.locator('[data-part="missing"]')).to_be_visible()


def test_the_context_is_in_the_address_and_a_link_opens_the_same_view(page, audit):
    page.goto(f"/audits/{audit['id']}/response?feature=missed_scans")
    before = reading(page)
    page.get_by_role("button", name=re.compile("^Output")).click()
    page.get_by_role("menuitemradio", name="log-odds that the claim is valid").click()
    expect(page.get_by_test_id("reading")).to_contain_text("mean log-odds that the claim is valid")
    page.get_by_role("button", name=re.compile("^Model version")).click()
    page.get_by_role("menuitemradio", name="logistic regression v1").click()
    expect(page).to_have_url(re.compile("as=log-odds.*model=|model=.*as=log-odds"))
    page.wait_for_selector("[aria-busy=true]", state="detached")
    after = reading(page)
    assert after != before
    address = page.url
    page.goto("/")
    page.goto(address)
    assert reading(page) == after


def test_keeping_noting_and_reporting(page, client, audit):
    page.goto(f"/audits/{audit['id']}/response?feature=ferry_legs")
    said = reading(page)
    page.keyboard.press("k")
    dossier = page.get_by_role("complementary", name="Dossier")
    expect(dossier).to_contain_text(said[:40])
    note = dossier.get_by_label("Note on Response").last
    note.fill("Typical of the isles.")
    note.blur()
    number = len(client.get(f"/api/audits/{audit['id']}/reports").json()) + 1
    report_written(page)
    expect(page.get_by_test_id("reading")).to_contain_text(f"Report {number} is the newest", timeout=90_000)
    newest = client.get(f"/api/audits/{audit['id']}/reports").json()[-1]
    assert newest["number"] == number
    html = client.get(f"/api/audits/{audit['id']}/reports/{newest['number']}").text
    text = re.sub(r"<[^>]+>", "", html)
    assert said in text
    assert "Typical of the isles." in text
    dossier.get_by_role("button", name="take out “Response”").last.click()
    dossier.get_by_role("button", name="Undo").click()
    expect(dossier).to_contain_text(said[:40])


def test_figures_and_tables_download(page, audit):
    page.goto(f"/audits/{audit['id']}/tilt")
    reading(page)
    for label, kind in (("Picture (SVG)", ".svg"), ("Picture (PNG)", ".png"), ("Data (CSV)", ".csv")):
        page.get_by_role("button", name=re.compile("^Download figure")).click()
        with page.expect_download() as download:
            page.get_by_role("menuitem", name=label).click()
        path = download.value.path()
        assert download.value.suggested_filename.endswith(kind)
        assert path.stat().st_size > 1_000
        if kind == ".csv":
            assert path.read_text().startswith("column,group,metric,value,interval")


def test_work_can_be_cancelled_and_taken_up_from_the_page(page, audit):
    page.goto(f"/audits/{audit['id']}/drivers?rows=all&loss=auc")
    # the expected directions beneath may show their own progress
    page.get_by_role("status", name=re.compile("^Drivers")).get_by_role("button", name="Cancel").click()
    told = page.get_by_role("alert").filter(has_text="Drivers was cancelled.")
    expect(told).to_be_visible()
    told.get_by_role("button", name="Try again").click()
    expect(page.get_by_test_id("reading")).to_contain_text("of the importance", timeout=90_000)


