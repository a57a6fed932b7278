"""Data as a person reads it: concerns with their numbers, columns told apart, a population typed in."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect
from tests.api import talk
from tests.web.conftest import accessible, choose, fits, legible_in_the_dark, reading


def test_planted_facts_are_found_by_somebody_who_follows_the_sheet(page, client, audit, context):
    """Stand-ins of home area (1), who is missing (6)."""
    page.goto(f"/audits/{audit['id']}/data")
    reading(page)
    found = talk.read(client, audit["id"], "concerns", context)["result"]["concerns"]
    lines = page.get_by_test_id("concerns").get_by_role("listitem")
    expect(lines).to_have_count(len(found))
    for place, one in enumerate(found):
        expect(lines.nth(place)).to_contain_text(one["sentence"])
    stand_in = page.locator("[data-concern='stand-in']").filter(has_text="home area").first
    expect(stand_in).to_contain_text("postal district")
    uneven = page.locator("[data-concern='missing unevenly']").filter(has_text="age band")
    expect(uneven).to_contain_text("70 and over")
    accessible(page)
    legible_in_the_dark(page)
    uneven.get_by_role("link", name="account age").click()
    expect(page.get_by_role("heading", name=re.compile("^account age feature · missing in"))).to_be_visible()
    choose(page, "Told apart by", "age band")
    expect(page.get_by_test_id("reading")).to_contain_text("told apart by age band")
    expect(page.get_by_role("list", name="Lines by age band").get_by_text("70 and over")).to_be_visible()
    assert "by=age_band" in page.url and "column=account_age" in page.url


def test_the_leak_is_found_in_the_version_that_takes_it(page, client, audit):
    """Planted fact 7."""
    withdrawn = next(one for one in audit["models"] if "withdrawn" in one["name"])
    page.goto(f"/audits/{audit['id']}/data?model={withdrawn['id']}")
    reading(page)
    leak = page.locator("[data-concern=leak]")
    expect(leak).to_contain_text("Reference photo score alone tells the outcome")
    expect(page.locator("[data-concern]").first).to_have_attribute("data-concern", "leak")


def test_a_population_is_tested_kept_in_the_address_and_taken_back(page, audit, client):
    page.goto(f"/audits/{audit['id']}/data")
    reading(page)
    page.get_by_text("Shares in the population", exact=True).click()
    page.get_by_label("Group column").select_option("home area")
    page.get_by_label("Group", exact=True).select_option("outer isles")
    page.get_by_label("Share in percent").fill("140")
    expect(page.get_by_text("a share lies between 0 and 100")).to_be_visible()
    page.get_by_label("Share in percent").fill("35")
    page.get_by_role("button", name="Test it").click()
    share = page.locator("[data-concern='share of a group']")
    expect(share).to_contain_text("35.0% of the population given")
    page.reload()
    expect(page.locator("[data-concern='share of a group']")).to_be_visible()
    upload = page.get_by_label("or a CSV file with the columns column, group, share")
    upload.set_input_files({"name": "shares.csv", "mimeType": "text/csv", "buffer": b"column,group,share\nhome_area,nowhere"})
    expect(page.get_by_text("Line 2: “” is no share; it is written as 0.35 or 35%.")).to_be_visible()
    upload.set_input_files({"name": "shares.csv", "mimeType": "text/csv", "buffer": b"column,group,share\nhome_area,uplands,10%\n"})
    expect(page.get_by_text("home area: uplands, 10%")).to_be_visible()
    page.get_by_role("button", name="Drop the share of home_area=uplands").click()
    page.get_by_role("button", name="Drop the share of home_area=outer isles").click()
    expect(page.locator("[data-concern='share of a group']")).to_have_count(0)
    assert "population" not in page.url


@pytest.mark.parametrize("by", ["", "home_area", "(split)", "(decision)"])
def test_every_column_is_there_and_drawn(page, client, audit, context, by):
    page.goto(f"/audits/{audit['id']}/data?part=columns&by={by}")
    reading(page)
    found = talk.read(client, audit["id"], "columns", context, {"by": by})["result"]["columns"]
    columns = page.get_by_role("region", name="Columns")
    expect(columns.get_by_role("listitem").first).to_have_attribute("data-column", found[0]["name"])
    page.get_by_label("Find a column").fill("weight")
    expect(columns.get_by_role("listitem")).to_have_count(sum("weight" in one["name"] for one in found))
    columns.get_by_role("button", name="parcel weight").click()
    expect(page.get_by_role("heading", name=re.compile("^parcel weight feature"))).to_be_visible()
    expect(page.get_by_role("figure", name="Rows along parcel weight").locator("svg[role=img]")).to_be_visible()
    accessible(page)
    if not by:
        fits(page, 390)


def test_a_concern_becomes_a_finding_or_is_set_aside_with_a_reason_and_a_name(page, client, audit):
    own = client.post(f"/api/audits/{audit['id']}/duplicate").json()["id"]
    page.goto(f"/audits/{own}/data")
    reading(page)
    line = page.locator("[data-concern='far out']")
    said = line.locator("p.font-serif").inner_text()
    line.get_by_role("button", name=re.compile("^Make a finding of it")).click()
    expect(line).to_contain_text("A finding, raised by somebody unnamed.")
    other = page.locator("[data-concern='stand-in']").first
    other.get_by_role("button", name=re.compile("^Set it aside")).click()
    leave = other.get_by_role("button", name="Set aside", exact=True)
    other.get_by_label("because").fill("known: ferries serve the isles")
    expect(leave).to_be_disabled()  # nobody answers for it yet
    other.get_by_label("says").fill("Ada Holm")
    accessible(page)
    leave.click()
    expect(other).to_contain_text("Set aside by Ada Holm: known: ferries serve the isles")
    page.reload()
    expect(page.locator("[data-concern='stand-in']").first).to_contain_text("Set aside by Ada Holm")
    page.goto(f"/audits/{own}/report")
    expect(page.get_by_text(said)).to_be_visible()
    found = client.post(f"/api/audits/{own}/findings", json={"model": client.get(f"/api/audits/{own}").json()["models"][0]["id"]}).json()
    aside = next(one for one in found if one["author"] == "Ada Holm")
    assert aside["standing"]["decision"] == "accepted" and aside["standing"]["reason"].startswith("known")
    assert client.delete(f"/api/audits/{own}", params={"for_good": True}).status_code in (200, 204)


def test_two_columns_are_chosen_in_menus_table_and_grid(page, client, audit, context):
    page.goto(f"/audits/{audit['id']}/data?part=pairs")
    reading(page)
    found = talk.read(client, audit["id"], "pairs", context)["result"]
    drawn = page.get_by_role("figure", name="postal district and home area")
    expect(drawn.locator("svg[role=img]")).to_be_visible()
    accessible(page)
    legible_in_the_dark(page)
    choose(page, "One column", "parcel weight")
    choose(page, "The other column", "channel")
    expect(page.get_by_test_id("reading")).to_contain_text("Parcel weight and channel: correlation ratio")
    expect(page.get_by_role("figure", name="parcel weight and channel")).to_be_visible()
    assert "first=parcel_weight" in page.url and "second=channel" in page.url
    page.locator("[data-pair='declared_value account_age'], [data-pair='account_age declared_value']").click()
    expect(page.get_by_test_id("reading")).to_contain_text("Spearman's ρ")
    second = found["strongest"][1]
    name = second["first"].replace("_", " ")
    page.get_by_role("region", name="Table: pairs").get_by_role("row").nth(2).get_by_role("button", name=name).click()
    expect(page.get_by_text("rows", exact=False).first).to_be_visible()
    assert f"first={second['first']}" in page.url
