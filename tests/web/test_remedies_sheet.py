"""A person trains candidates, sees which are told apart, and looks at the rows put aside."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect
from tests.api import talk
from tests.web.conftest import accessible, choose, fits, legible_in_the_dark


@pytest.fixture
def own(client, audit):
    """A copy of the demo's first audit, which model versions can be made in."""
    name = client.post(f"/api/audits/{audit['id']}/duplicate").json()["id"]
    yield client.get(f"/api/audits/{name}").json()
    client.delete(f"/api/audits/{name}?for_good=true")


def trained(page, estimator: str, **typed: str) -> None:
    page.get_by_label("Estimator").select_option(estimator)
    for name, value in typed.items():
        page.get_by_label(name.replace("_", " ")).fill(value)
    page.get_by_role("button", name="Train it").click()


def test_candidates_are_trained_told_apart_and_the_leader_confirmed(page, client, own):
    page.goto(f"/audits/{own['id']}/remedies")
    said = page.get_by_test_id("reading")
    expect(said).to_contain_text("Nothing was trained here yet")
    page.get_by_role("button", name="Train with other settings").click()
    trained(page, "linear")
    trained(page, "one tree", depth_at_most="3")
    table = page.get_by_role("region", name="Table: candidates")
    expect(table.locator("tbody tr")).to_have_count(2)
    expect(said).to_contain_text("Of 2 candidates, linear model 1 has the smallest log loss")
    view = client.get(f"/api/audits/{own['id']}/candidates").json()
    first = view["table"]["standings"][0]
    expect(table.locator("tbody tr").first).to_contain_text(f"{first['validation']['value']:.3f}")
    expect(table.locator("tbody tr").first).to_contain_text("leader")
    expect(table.locator("tbody tr").nth(1)).to_contain_text("worse" if view["table"]["standings"][1]["apart"] else "not told apart")
    choose(page, "Gap of", "Selection rate")
    choose(page, "Group", "outer isles")
    expect(table).to_contain_text("%")
    accessible(page)
    legible_in_the_dark(page)
    fits_without_a_method(page)
    page.locator("[data-row='linear model 1'] [role=button]").press("Enter")
    card = page.get_by_role("region", name="Candidate linear model 1")
    expect(card).to_contain_text("penalty: 1")
    card.get_by_role("button", name="Look at the rows put aside").click()
    expect(card).to_contain_text("On 600 rows put aside: Log loss")
    expect(page.get_by_test_id("detail")).to_contain_text("Somebody has looked at rows put aside once")
    with page.expect_download() as held:
        card.get_by_role("button", name="Download the script that trains it").click()
    assert "train_again" in held.value.path().read_text()
    card.get_by_role("button", name="Read every sheet with it").click()
    expect(page).to_have_url(re.compile("model="))
    expect(card).to_contain_text("Every sheet reads it.")
    accessible(page)


def fits_without_a_method(page) -> None:
    page.set_viewport_size({"width": 1280, "height": 800})
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")


def test_what_cannot_be_trained_is_said_where_it_was_asked(page, own):
    page.allowed_errors.append("422")
    page.goto(f"/audits/{own['id']}/remedies")
    page.get_by_role("button", name="Train with other settings").click()
    page.get_by_label("folds", exact=True).fill("3")
    page.get_by_label("Kept together by").select_option("channel")
    trained(page, "linear")
    expect(page.get_by_text("the column has 3 values in these rows; 3 folds and rows put aside need one each")).to_be_visible()
    page.get_by_label("folds", exact=True).fill("many")
    page.get_by_role("button", name="Train it").click()
    expect(page.get_by_role("alert").last).to_be_visible()
    accessible(page)




def test_what_changed_for_whom_is_read_with_another_version_alongside(page, client, audit, context):
    page.goto(f"/audits/{audit['id']}/remedies?part=changed")
    said = page.get_by_test_id("reading")
    expect(said).to_contain_text("No other version is read alongside: choose one")
    choose(page, re.escape("+ alongside"), "version logistic regression v1")
    expect(said).to_contain_text("are right with the version alongside that were wrong")
    other = next(one["id"] for one in audit["models"] if one["name"] == "logistic regression v1")
    found = talk.read(client, audit["id"], "changed", context | {"alongside": {"model": other}})
    assert "".join(one["text"] for one in found["reading"]["headline"]) == said.text_content().replace("Flagged: ", "")
    table = page.get_by_role("region", name="Table: what changed")
    for one in found["result"]["groups"][:8]:
        name = f"{one['attribute'].replace('_', ' ')}: {one['group']}" if one["attribute"] else "all rows"
        row = table.get_by_role("row").filter(has=page.get_by_text(name, exact=True))
        expect(row).to_contain_text(f"{one['mended']}")
        expect(row).to_contain_text(one["verdict"])
    accessible(page)
    legible_in_the_dark(page)
    fits(page, 1280)
    page.get_by_role("link", name="Search where the new errors lie").click()
    expect(page.get_by_test_id("reading")).to_contain_text("newly wrong")


def test_settings_are_searched_changed_and_spread_over_several(page, client, own):
    page.goto(f"/audits/{own['id']}/remedies")
    page.get_by_role("button", name="Train with other settings").click()
    page.get_by_label("folds", exact=True).fill("2")
    page.get_by_role("button", name="Search settings instead").click()
    search = page.get_by_role("form", name="A search for settings")
    for name in ("boosted trees", "forest"):
        search.get_by_role("checkbox", name=name, exact=True).uncheck()
    search.get_by_label("penalty, at most").fill("50")
    search.get_by_label("for so many seconds").fill("6")
    accessible(page)
    search.get_by_role("button", name="Search", exact=True).click()
    table = page.get_by_role("region", name="Table: candidates")
    expect(table.locator("tbody tr")).to_have_count(1, timeout=60_000)
    expect(page.get_by_text(re.compile(r"recipes were tried, .* of them on all rows; "))).to_be_visible()
    expect(page.get_by_test_id("reading")).to_contain_text("so what it has there flatters it")
    page.locator("[data-row='linear model 1'] [role=button]").press("Enter")
    card = page.get_by_role("region", name="Candidate linear model 1")
    card.get_by_role("button", name="Change its settings").click()
    expect(page.get_by_text("As linear model 1, changed:")).to_be_visible()
    expect(page.get_by_label("folds", exact=True)).to_have_value("2")
    page.get_by_label("Gap kept small by a penalty, in", exact=True).select_option("home_area")
    expect(page.get_by_text("It takes for granted that alike scores are right")).to_be_visible()
    page.get_by_label("weight, or several", exact=True).fill("1, 10")
    page.get_by_role("button", name="Train it").click()
    expect(table.locator("tbody tr")).to_have_count(3, timeout=60_000)
    family = client.get(f"/api/audits/{own['id']}/versions").json()["versions"]
    first = next(one for one in family if one["name"] == "linear model 1")
    assert sum(one["parent"] == first["model"] for one in family) == 2
    page.get_by_role("button", name="Train with other settings").click()
    accessible(page)
