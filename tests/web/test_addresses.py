"""A link opens the same view again, whatever part it is of; every part stays usable in narrow and in dark windows."""

from __future__ import annotations

import re
from urllib.parse import parse_qs, urlsplit

import pytest
from playwright.sync_api import expect

from tests.api import talk
from tests.web.conftest import accessible, fits, legible_in_the_dark, reading

PARTS = {
    "ranking by another loss": "drivers?loss=brier_score",
    "region": "response?feature=account_age&from=2&to=6&points=20",
    "coloured levels": "response?feature=packaging_grade&colour=home_area&sorted=1",
    "surface": "response?part=two&first=parcel_weight&second=packaging_grade&view=decision",
    "interaction": "response?part=two&first=parcel_weight&second=account_age&kind=interaction",
}


@pytest.fixture
def address(audit):
    """The address of a part, read of the version that is computed soonest: what is asked is how addresses are kept."""
    version = next(one["id"] for one in audit["models"] if "logistic" in one["name"])
    return lambda part: f"/audits/{audit['id']}/{part}&model={version}"


@pytest.mark.parametrize("name", PARTS)
def test_a_link_opens_the_same_view(page, window, address, name):
    page.goto(address(PARTS[name]))
    page.wait_for_selector("[data-testid=reading]")
    expect(page.get_by_text("A first look")).to_have_count(0, timeout=60_000)
    said = reading(page)
    controls = page.locator("#sheet select").evaluate_all("all => all.map(one => one.value)")
    shown = page.url
    page.evaluate("localStorage.clear()")
    again = window.new_page()
    again.goto(shown)
    expect(again.get_by_test_id("reading")).to_have_text(said, timeout=30_000)
    assert again.locator("#sheet select").evaluate_all("all => all.map(one => one.value)") == controls
    again.close()


def test_parts_are_walked_with_the_keyboard(page, audit):
    page.goto(f"/audits/{audit['id']}/response?feature=missed_scans")
    reading(page)
    page.get_by_role("tab", name="One feature").focus()
    page.keyboard.press("ArrowRight")
    expect(page.get_by_role("tab", name="Two features")).to_be_focused()
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("part=two"))
    assert "missed scans" in reading(page)
    page.get_by_role("tab", name="Two features").focus()
    page.keyboard.press("ArrowRight")
    expect(page.get_by_role("tab", name="Interactions")).to_be_focused()
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("part=pairs"))
    reading(page)
    pair = page.locator("[data-pair]").first
    pair.focus()
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("part=two"))


def test_a_kept_part_opens_as_it_was_kept(page, audit):
    page.goto(f"/audits/{audit['id']}/response?part=two&first=days_in_transit&second=channel")
    page.wait_for_selector("[data-testid=reading]")
    expect(page.get_by_text("A first look")).to_have_count(0, timeout=60_000)
    said = reading(page)
    page.keyboard.press("k")
    dossier = page.get_by_role("complementary", name="Dossier")
    expect(dossier).to_contain_text(said[:40])
    page.goto(f"/audits/{audit['id']}/response?feature=days_in_transit")
    reading(page)
    alike = page.get_by_role("region", name="Among rows alike")
    alike.get_by_role("button", name="Keep this figure").click()
    expect(dossier).to_contain_text("Accumulated local effects")
    dossier.get_by_role("link", name=re.compile(re.escape(said[:30]))).last.click()
    expect(page.get_by_role("tab", name="Two features")).to_have_attribute("aria-selected", "true")
    expect(page.get_by_test_id("reading")).to_have_text(said)
    for title in ("Two features", "Accumulated local effects"):
        dossier.get_by_role("button", name=f"take out “{title}”").last.click()


KEPT = {
    "groups": "tilt?reference=all+others&attributes=channel,home_area",
    "crossings": "tilt?part=crossings&cross=channel,home_area&metric=accuracy",
    "one group": "tilt?part=one&attribute=age_band&group=70+and+over&against=all+others",
    "given": "tilt?part=given&attribute=preferred_language&group=Brae&metric=accuracy&given=home_area,channel",
    "thresholds": "tilt?part=thresholds&attribute=age_band&fp=3&gap=accuracy",
    "region": "response?feature=account_age&from=2&to=6&points=20&colour=sender_kind",
    "linked columns": "drivers?part=linked&from=0.5",
}


@pytest.mark.parametrize("name", KEPT)
def test_whatever_is_kept_is_read_again_as_it_was(page, audit, client, address, name):
    page.goto(address(KEPT[name]))
    page.wait_for_selector("[data-testid=reading]")
    expect(page.get_by_text("A first look")).to_have_count(0, timeout=60_000)
    said = reading(page)
    wanted = parse_qs(KEPT[name].partition("?")[2])
    before = {one["id"] for one in client.get(f"/api/audits/{audit['id']}/dossier").json()}
    page.keyboard.press("k")
    page.wait_for_function(
        "n => document.querySelectorAll('aside[aria-label=Dossier] textarea[aria-label^=\"Note on\"]').length > n",
        arg=len(before),
    )
    kept = next(one for one in client.get(f"/api/audits/{audit['id']}/dossier").json() if one["id"] not in before)
    try:
        page.goto(f"/audits/{audit['id']}/cases")
        reading(page)
        page.get_by_role("complementary", name="Dossier").get_by_role("link", name=said[:40]).last.click()
        page.wait_for_url(re.compile(KEPT[name].partition("?")[0]))
        # the sheet that was open is seen until the code of the other has come
        expect(page.get_by_test_id("reading")).to_have_text(said)
        found = parse_qs(urlsplit(page.url).query)
        assert {key: found.get(key) for key in wanted} == wanted
    finally:
        assert client.delete(f"/api/audits/{audit['id']}/dossier/{kept['id']}").status_code == 204


@pytest.mark.parametrize("part", ["tilt", "drivers", "response?feature=channel", "response?part=two"])
def test_narrow_windows_scroll_figures_not_the_page(page, audit, part):
    page.goto(f"/audits/{audit['id']}/{part}")
    for width in (1024, 390):
        fits(page, width)
    accessible(page)


@pytest.mark.parametrize("part", ["drivers?part=spread&as=log-odds&colour=channel", "response?part=two&view=decision"])
def test_new_parts_are_legible_in_the_dark(page, audit, part):
    page.goto(f"/audits/{audit['id']}/{part}")
    reading(page)
    legible_in_the_dark(page)


def test_of_a_class_or_version_that_is_gone_nothing_is_read_and_nothing_in_its_place(page, client):
    desks = next(one for one in client.get("/api/audits").json() if "routing desk" in one["title"])
    nobody = "00000000-0000-0000-0000-000000000000"
    page.goto(f"/audits/{desks['id']}/response?feature=declared_value&class=nowhere&beside=model:{nobody}&model={nobody}")
    gone = page.get_by_test_id("gone")
    expect(gone).to_contain_text("names a model version that is not in this audit")
    expect(gone).to_contain_text("“nowhere” is not a class of this audit. Nothing is read in its place.")
    expect(gone).to_contain_text("names nothing that this audit can be read alongside with")
    expect(page.get_by_test_id("reading")).to_have_count(0)
    page.get_by_role("button", name="Read the usual class").click()
    page.get_by_role("button", name="Read nothing alongside").click()
    page.get_by_role("button", name=re.compile("^Read desk|^Read ")).first.click()
    assert "routing desk is field inspection" in reading(page)
    expect(page.get_by_role("button", name="+ alongside")).to_be_visible()


def test_a_segment_that_was_renamed_is_followed_and_one_that_is_gone_is_said(page, client, audit):
    own = client.post(f"/api/audits/{audit['id']}/duplicate").json()["id"]
    heavy = {"name": "heavy", "conditions": [{"column": "parcel_weight", "over": 10}]}
    assert talk.put_part(client, own, "comparisons", {"segments": [heavy]}).status_code == 200
    page.goto(f"/audits/{own}/cases?segment=heavy")
    of_heavy = reading(page)
    talk.put_part(client, own, "comparisons", {"segments": [heavy | {"name": "ten and more"}]})
    expect(page.get_by_role("button", name=re.compile("in ten and more"))).to_be_visible()
    assert reading(page).replace("ten and more", "heavy") == of_heavy
    talk.put_part(client, own, "comparisons", {"segments": []})
    expect(page.get_by_test_id("gone")).to_contain_text("“heavy” is not a segment of this audit")
    expect(page.get_by_test_id("reading")).to_have_count(0)
    page.reload()
    expect(page.get_by_test_id("gone")).to_contain_text("Nothing is read in its place.")
    page.get_by_role("button", name="Read the held-out claims").click()
    assert "segment=" not in page.url and reading(page)
    client.delete(f"/api/audits/{own}?for_good=true")


def test_an_unknown_feature_in_the_address_names_those_there_are(page, audit):
    page.goto(f"/audits/{audit['id']}/response?feature=shoe_size")
    expect(page.get_by_role("alert").first).to_contain_text("“shoe_size” is not a feature of the model; it has declared_value")
