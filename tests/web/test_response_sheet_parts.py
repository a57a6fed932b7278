"""The parts of Response in a real browser."""

from __future__ import annotations

import json
import re

import pytest
from playwright.sync_api import expect

from tests.api import talk
from tests.web.conftest import accessible, reading


def titled(client, words: str) -> dict:
    return next(one for one in client.get("/api/audits").json() if words in one["title"])


def place(mark) -> tuple[float, float]:
    x, y = re.match(r"translate\(([-\d.]+),([-\d.]+)\)", mark.get_attribute("transform")).groups()
    return float(x), float(y)


def test_a_case_is_drawn_with_its_marker_on_its_curve(page, client, audit, context):
    page.goto(f"/audits/{audit['id']}/response?feature=days_in_transit")
    reading(page)
    page.get_by_label("claim of row").fill("11")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("case=10"))
    marker = page.locator("[data-marker]")
    expect(marker).to_be_visible()
    settings = {"feature": "days_in_transit", "case": 10}
    case = talk.read(client, audit["id"], "response", context, settings)["result"]["case"]
    corners = page.locator('[data-curve="case"] path').first.get_attribute("d")
    points = [tuple(map(float, pair.split(","))) for pair in re.findall(r"[-\d.]+,[-\d.]+", corners)]
    x, y = place(marker)
    assert min(abs(a - x) + abs(b - y) for a, b in points) < 0.01
    expect(page.get_by_test_id("case-words")).to_contain_text(f"Row 11 lies at {case['label']}: {case['output'] * 100:.1f}%")
    accessible(page)


def test_the_axis_is_zoomed_by_dragging_and_typing_and_left_with_one_key(page, audit):
    page.goto(f"/audits/{audit['id']}/response?feature=account_age")
    whole = reading(page)
    box = page.locator('[data-part="drag"]').bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.1, box["y"] + 30)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.4, box["y"] + 60, steps=5)
    page.mouse.up()
    expect(page).to_have_url(re.compile(r"from=[\d.]+&to=[\d.]+"))
    expect(page.get_by_test_id("detail")).to_contain_text("rows lie beyond the drawn range")
    expect(page.get_by_test_id("reading")).not_to_have_text(whole)
    page.keyboard.press("b")
    expect(page.get_by_test_id("reading")).to_have_text(whole)
    page.get_by_label("Region from").fill("2")
    page.get_by_label("Region to").fill("6")
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("reading")).to_contain_text("from 2 to 6")
    page.get_by_label("Region from").fill("400")
    page.get_by_label("Region to").fill("500")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("no row has account age between 400 and 500")
    page.locator("body").press("b")
    expect(page.get_by_test_id("reading")).to_have_text(whole)


def test_two_thousand_single_curves_are_drawn_by_part(page, audit):
    page.goto(f"/audits/{audit['id']}/response?feature=missed_scans&curves=2000&colour=sender_kind&centred=1")
    assert "change of the mean chance" in reading(page)
    expect(page.locator("[data-curves]")).to_have_count(2)
    expect(page.get_by_text("2,000 single claims")).to_be_visible()
    moves = sum(page.locator(f'[data-curves="{part}"]').get_attribute("d").count("M") for part in (0, 1))
    assert moves == 2_000


def test_levels_are_sorted_by_their_mean(page, client, audit, context):
    page.goto(f"/audits/{audit['id']}/response?feature=channel")
    reading(page)
    points = talk.read(client, audit["id"], "response", context, {"feature": "channel"})["result"]["points"]
    page.get_by_label("levels by their mean").click()
    expect(page.get_by_label("levels by their mean")).to_be_checked()
    levels = page.locator("[data-level]")
    shown = [levels.nth(i).get_attribute("data-level") for i in range(levels.count())]
    assert shown == [point["label"] for point in sorted(points, key=lambda point: -point["mean"])]


def test_classes_are_lines_that_light_up_and_shares_that_stack(page, client):
    audit = titled(client, "routing desk")
    page.goto(f"/audits/{audit['id']}/response?feature=declared_value&view=lines")
    reading(page)
    classes = page.locator("[data-class]")
    assert classes.count() == 4
    page.get_by_role("list", name="Lines by class").get_by_role("button", name="senior desk").hover()
    expect(page.locator('[data-class="senior desk"]')).to_have_attribute("opacity", "1")
    expect(page.locator('[data-class="front desk"]')).to_have_attribute("opacity", "0.2")
    page.get_by_role("button", name=re.compile("^Classes")).click()
    page.get_by_role("menuitemradio", name="shares of all classes").click()
    expect(page.locator('[data-class="senior desk"] path[stroke="var(--sheet)"]')).to_have_count(1)
    accessible(page)
    page.keyboard.press("l")
    expect(page.get_by_test_id("reading")).to_contain_text("log-odds that routing desk is")


def test_numbers_are_read_in_their_unit(page, client):
    audit = titled(client, "days to settle")
    page.goto(f"/audits/{audit['id']}/response?feature=declared_value")
    assert " days to " in reading(page) and "days to settle, in days" in page.content()
    page.keyboard.press("l")
    expect(page).not_to_have_url(re.compile("as=log-odds"))
    page.keyboard.press("1")
    expect(page.get_by_test_id("reading")).to_contain_text("is off by")


def test_rows_against_the_expectation_are_listed_and_drawn(page, client, audit, context):
    page.goto(f"/audits/{audit['id']}/response?feature=account_age")
    reading(page)
    part = page.get_by_role("region", name="Against the expectation that it rises")
    settings = {"feature": "account_age", "expected": "rises"}
    found = talk.read(client, audit["id"], "expected", context, settings)["result"]
    expect(part).to_contain_text(f"{found['curves_against'] * 100:.1f}% of the curves go against")
    first = found["worst"][0]["row"]
    part.get_by_role("button", name=f"row {first + 1:,}", exact=True).click()
    expect(page).to_have_url(re.compile(f"case={first}"))
    expect(page.locator('[data-curve="case"]')).to_be_visible()
    accessible(page)


@pytest.mark.parametrize("view", ["cells", "decision", "relief", "pure"])
def test_a_surface_is_drawn_in_every_way(page, audit, view):
    page.goto(f"/audits/{audit['id']}/response?part=two&first=parcel_weight&second=account_age&view={view}")
    said = reading(page)
    assert ("Beyond their own effects" in said) == (view == "pure")
    accessible(page)
    if view == "relief":
        relief = page.locator("[data-turned]")
        before = relief.get_attribute("data-turned")
        relief.focus()
        page.keyboard.press("ArrowRight")
        assert relief.get_attribute("data-turned") != before
        box = relief.bounding_box()
        page.mouse.move(box["x"] + 200, box["y"] + 200)
        page.mouse.down()
        page.mouse.move(box["x"] + 300, box["y"] + 210, steps=4)
        page.mouse.up()
        assert relief.get_attribute("data-turned") == "95"
    else:
        expect(page.locator('[data-part="hatch"]').first).to_be_attached()


def test_a_surface_held_at_a_case_follows_values_changed_by_hand(page, client, audit, context):
    page.goto(f"/audits/{audit['id']}/response?part=two&first=parcel_weight&second=missed_scans&case=9")
    before = reading(page)
    assert before.startswith("The chance")
    expect(page.locator('[data-part="case"]')).to_be_visible()
    field = page.get_by_label("photo attached")
    value = {"yes": "no", "no": "yes"}[field.input_value()]
    field.fill(value)
    field.press("Enter")
    expect(page.get_by_test_id("detail")).to_contain_text("Other columns held at row 10 as changed.")
    assert reading(page) != before
    settings = {"first": "parcel_weight", "second": "missed_scans", "case": 9, "edits": {"photo_attached": value}}
    found = talk.read(client, audit["id"], "surface", context, settings)
    assert reading(page) == found["reading"]["headline"][0]["text"]
    address = page.url
    page.goto("about:blank")
    page.goto(address)
    assert reading(page) == found["reading"]["headline"][0]["text"]
    days = page.get_by_label("days in transit")
    days.fill("many")
    days.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("“many” was given for “days_in_transit”; it takes a number")


def test_data_downloads_in_open_formats_from_the_figure_and_from_the_note(page, audit):
    page.goto(f"/audits/{audit['id']}/response?feature=channel")
    reading(page)
    page.get_by_role("button", name=re.compile("^Download figure response-channel")).click()
    with page.expect_download() as download:
        page.get_by_role("menuitem", name="Data (JSON)").click()
    assert len(json.loads(download.value.path().read_text())) == 3
    page.get_by_text("How this was computed").last.click()
    arrays = page.get_by_role("list", name="Arrays of this result").last
    with page.expect_download() as download:
        arrays.get_by_role("link", name="parquet of curves").click()
    assert download.value.suggested_filename.endswith(".parquet")
    assert download.value.path().read_bytes()[:4] == b"PAR1"
