"""A person follows Drivers and Response and finds what was planted: facts 1, 3, 4 and 7."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.api import talk
from tests.web.conftest import choose, reading


def open_part(page, name: str) -> None:
    page.get_by_role("tab", name=name).click()
    page.wait_for_selector("[aria-busy=true]", state="detached")


def test_the_leak_is_seen_at_once(page, audit):
    """Fact 7: the withdrawn version leans on one feature, which gives the outcome away."""
    page.goto("/")
    page.get_by_role("link", name="Skerry Post claims").first.click()
    reading(page)
    page.keyboard.press("3")
    expect(page.get_by_test_id("reading")).to_contain_text("of the importance")
    reading(page)
    choose(page, "Model version", "gradient trees v0, withdrawn")
    said = page.get_by_test_id("reading")
    expect(said).to_contain_text("Reference photo score alone carries 99%", timeout=60_000)
    assert "of the output's spread is left" in said.inner_text()
    expect(said.locator("span.text-flag").first).to_contain_text("Reference photo score")
    row = page.locator('[data-driver="reference_photo_score"]')
    assert "Open the response along reference photo score1" in row.text_content()
    choose(page, re.escape("+ alongside"), "version gradient trees v3")
    expect(page.get_by_test_id("detail")).to_contain_text("matter in the version alongside only", timeout=60_000)
    assert "absent" in row.text_content()


def test_missed_scans_lower_the_score_and_go_with_the_ferry(page, audit):
    """Fact 1: the first driver falls, its effect is shared with ferry legs, which stand for the district."""
    page.goto(f"/audits/{audit['id']}/drivers")
    assert reading(page).startswith("Missed scans, ")
    row = page.locator("[data-driver]").first
    assert row.get_attribute("data-driver") == "missed_scans" and "falls" in row.text_content()
    open_part(page, "Linked columns")
    expect(page.get_by_role("region", name="Table: linked-columns")).to_contain_text("ferry legs, postal district")
    expect(page.get_by_text("each may look small", exact=False).first).to_be_visible()
    open_part(page, "Ranking")
    page.locator('[data-driver="missed_scans"]').click()
    expect(page.get_by_test_id("reading")).to_contain_text("falls from")
    alike = page.get_by_role("region", name="Among rows alike")
    expect(alike).to_contain_text("missed scans is associated with ferry legs")
    choose(page, "Coloured by", "home area")
    expect(page.get_by_test_id("reading")).to_contain_text("By home area")
    expect(page.locator('[data-curve="outer isles"]')).to_be_visible()


def test_account_age_rises_for_private_senders_and_falls_for_shops(page, audit):
    """Fact 4: found from the table of interactions, said once the curve is coloured."""
    page.goto(f"/audits/{audit['id']}/response?part=pairs")
    reading(page)
    first = page.locator("[data-pair]").first
    assert set(first.get_attribute("data-pair").split("|")) == {"account_age", "sender_kind"}
    open_part(page, "One feature")
    choose(page, "Feature", "account age")
    choose(page, "Coloured by", "sender kind")
    expect(page.get_by_test_id("reading")).to_contain_text(
        re.compile(r"the mean rises( on the whole)? for private .* falls( on the whole)? for shop")
    )
    both = page.locator('[data-curve="private"] line, [data-curve="shop"] line')
    assert both.count() > 20


def test_weight_matters_for_weak_packaging_alone(page, client, audit, context):
    """Fact 3: the pair is among the first interactions, and its surface climbs with weight for C and D."""
    page.goto(f"/audits/{audit['id']}/response?part=pairs")
    reading(page)
    pairs = page.locator("[data-pair]")
    leading = [set(pairs.nth(i).get_attribute("data-pair").split("|")) for i in range(3)]
    place = leading.index({"parcel_weight", "packaging_grade"})
    pairs.nth(place).click()
    expect(page.get_by_role("tab", name="Two features")).to_have_attribute("aria-selected", "true")
    said = reading(page)
    assert "parcel weight" in said and "packaging grade" in said
    chosen = (page.get_by_role("button", name=re.compile(f"^{one} feature: ")) for one in ("First", "Second"))
    first, second = (button.get_attribute("aria-label").partition(": ")[2] for button in chosen)
    assert {first, second} == {"parcel weight", "packaging grade"}
    settings = {"first": "parcel_weight", "second": "packaging_grade"}
    found = talk.read(client, audit["id"], "surface", context, settings)["result"]
    weights = found["first"]["positions"]
    near = [i for i, weight in enumerate(weights) if weight is not None and 0.5 <= weight <= 17]
    climb = {
        grade: found["values"][near[-1]][j] - found["values"][near[0]][j]
        for j, grade in enumerate(found["second"]["labels"])
    }
    weak, strong = (climb["C"] + climb["D"]) / 2, (climb["A"] + climb["B"]) / 2
    assert weak > 0.1 > 3 * strong
