"""A person follows Pockets: the planted place is found, confirmed, explained, kept, and written into the report (fact 5)."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

from tests.api import talk
from tests.web.conftest import accessible, choose, fits, legible_in_the_dark, reading, report_written
from zerotilt.demo import planted


@pytest.fixture
def own(client, audit):
    """A copy of the demo's first audit, which findings and segments can be made in."""
    name = client.post(f"/api/audits/{audit['id']}/duplicate").json()["id"]
    yield client.get(f"/api/audits/{name}").json()
    client.delete(f"/api/audits/{name}?for_good=true")


def page_text(page) -> str:
    reading(page)
    return page.get_by_test_id("reading").text_content().replace("Flagged: ", "")


def telephone(page):
    """The planted place in the drawing, as it was found."""
    return page.locator("[data-pocket*='channel=telephone'][data-pocket*='parcel_weight>']").first


def test_the_planted_place_is_followed_from_the_list_to_the_report(page, client, own):
    page.goto(f"/audits/{own['id']}/pockets")
    assert "confirmed in 3,600 held-out claims" in reading(page)
    choose(page, "Error", "log loss")  # of scores it tells more than whether they were on the right side
    expect(page.get_by_test_id("reading")).to_contain_text("the log loss is")
    place = telephone(page)
    expect(place).to_have_attribute("data-status", "confirmed")
    assert "in the half that confirms" in place.get_attribute("aria-label")
    place.press("Enter")
    card = page.get_by_role("region", name=re.compile("^Rows of .*telephone"))
    expect(card).to_contain_text("of all other rows")
    expect(card).to_contain_text("Share in which the claim is valid")
    card.get_by_role("button", name="Save as segment").click()
    expect(card).to_contain_text("It is a segment of the audit.")
    made = client.get(f"/api/audits/{own['id']}").json()["spec"]["segments"][-1]
    assert made["by_errors"]  # Tilt does not test it on the rows in which it was looked for
    card.get_by_role("button", name="Explain this place").click()
    said = page.get_by_test_id("reading")
    expect(said).to_contain_text("channel is telephone")
    reading(page)
    expect(page.get_by_text(re.compile("carries it most: without it the log loss is"))).to_be_visible()
    expect(page.get_by_test_id("detail")).to_contain_text("the half in which it was not searched")
    expect(page.get_by_role("region", name="Table: inside and outside")).to_contain_text("False positive rate")
    expect(page.get_by_role("region", name="Table: who is there")).to_contain_text("home area: outer isles")
    expect(page.get_by_role("region", name="Table: cases to look at").locator("tbody tr").first).to_be_visible()
    statement = page_text(page).split("; ")[0]
    page.keyboard.press("k")
    expect(page.get_by_role("complementary", name="Dossier")).to_contain_text(statement[:60])
    page.get_by_role("button", name="Make a finding of it").click()
    expect(page.get_by_text("It is among the findings of the report.")).to_be_visible()
    report_written(page)
    expect(page.get_by_test_id("reading")).to_contain_text("is the newest", timeout=90_000)
    number = client.get(f"/api/audits/{own['id']}/reports").json()[-1]["number"]
    html = client.get(f"/api/audits/{own['id']}/reports/{number}").text
    text = re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", html))
    assert "Pockets of error" in text and text.count(statement) >= 2  # as a finding, and from the dossier
    found = client.get(f"/api/audits/{own['id']}/reports/{number}/audit.json").json()["pockets"]
    assert any(one["status"] == "confirmed" for one in found)


def test_the_same_numbers_stand_in_drawing_table_and_sentence(page, client, audit, context):
    found = talk.read(client, audit["id"], "pockets", context)
    result = found["result"]
    page.goto(f"/audits/{audit['id']}/pockets")
    assert page_text(page) == "".join(one["text"] for one in found["reading"]["headline"])
    marks = page.locator("[data-pocket]")
    assert [marks.nth(i).get_attribute("data-pocket") for i in range(marks.count())] == [
        one["typed"] for one in result["pockets"]
    ]
    table = page.get_by_role("region", name="Table: pockets")
    for one in result["pockets"]:
        row = table.get_by_role("row").filter(has=page.get_by_role("button", name=one["described"], exact=True))
        expect(row).to_contain_text(f"{one['gap']['inside']['value'] * 100:.1f}%")
        expect(row).to_contain_text(f"{round(one['again'] * result['halvings'])} of {result['halvings']}")
    blocks = page.locator("[data-block]")
    assert blocks.count() == len(result["parts"])
    widths = [float(blocks.nth(i).locator("rect").first.get_attribute("width")) for i in range(blocks.count())]
    assert widths[0] == pytest.approx(max(widths))
    for one, width in zip(result["parts"], widths, strict=True):
        assert width == pytest.approx(one["share"] * widths[0], rel=0.02, abs=1.5)
    blocks.nth(1).click()
    expect(page.get_by_role("region", name=re.compile("^Rows of "))).to_contain_text("Explain this place")
    accessible(page)
    fits(page, 1280)
    legible_in_the_dark(page)


def test_another_error_is_searched_and_the_address_opens_it_again(page, audit):
    page.goto(f"/audits/{audit['id']}/pockets")
    reading(page)
    choose(page, "Error", "log loss")
    expect(page.get_by_test_id("reading")).to_contain_text("the log loss is")
    expect(page.get_by_test_id("detail")).to_contain_text("halved 12 times")  # before, it is a first look
    before = reading(page)
    page.reload()
    expect(page.get_by_test_id("detail")).to_contain_text("halved 12 times")
    assert reading(page) == before
    page.get_by_role("tab", name="By hand").click()
    expect(page.get_by_test_id("reading")).to_contain_text("the log loss of 3,600 held-out claims")
    choose(page, "Column down", "parcel weight")
    choose(page, "Column across", "channel")
    heavy = page.locator("[data-cell*='telephone'][data-mark='denser']")
    expect(heavy).to_have_count(1)
    assert float(re.search(r"parcel_weight>([\d.]+)", heavy.get_attribute("data-cell"))[1]) >= planted.POCKET["parcel_weight"]
    heavy.click()
    expect(page.get_by_role("region", name=re.compile("^Rows of .*telephone"))).to_contain_text("against")
    accessible(page)
    fits(page, 1280)


def test_conditions_are_typed_and_what_cannot_be_read_is_said(page, audit):
    page.goto(f"/audits/{audit['id']}/pockets?part=explained&conditions=channel%3Dtelephone%20and%20parcel_weight%3E10")
    assert reading(page).startswith("Where channel is telephone and parcel weight is over 10, the error rate is")
    expect(page.get_by_test_id("detail")).to_contain_text("Read of all 3,600 held-out claims")
    expect(page.get_by_text("The score orders rows worse there")).to_be_visible()
    alike = page.get_by_role("region", name="Table: rows like these elsewhere")
    expect(alike).to_contain_text("share in which the claim is valid")
    expect(alike).to_contain_text("what no prediction accounts for")
    curves = page.get_by_role("img", name=re.compile("^Mean curves inside and outside: channel, .*; parcel weight, "))
    expect(curves.locator("[data-curve='parcel_weight'] [data-part='few']").first).to_be_attached()
    field = page.get_by_label("Conditions of the place")
    field.fill("parcel_weight>1000")
    page.get_by_role("button", name="Explain these rows").click()
    expect(page.get_by_text("None of these 3,600 rows meet the conditions")).to_be_visible()
    expect(field).to_have_value("parcel_weight>1000")
    field.fill("channel is loud <b>")
    page.get_by_role("button", name="Explain these rows").click()
    expect(page.get_by_text("cannot be read", exact=False).or_(page.get_by_text("They are written like", exact=False)).first).to_be_visible()
    accessible(page)


def test_another_version_is_set_beside_every_place(page, audit):
    page.goto(f"/audits/{audit['id']}/pockets")
    reading(page)
    choose(page, re.escape("+ alongside"), "version logistic regression v1")
    table = page.get_by_role("region", name="Table: pockets")
    expect(table.get_by_role("columnheader", name="logistic regression v1")).to_be_visible()
    expect(table.locator("tbody tr").first).to_contain_text(re.compile("gone|smaller|larger|not told apart"))
    choose(page, "Error", "share newly wrong")
    expect(page.get_by_test_id("reading")).to_contain_text("share newly wrong")
