"""A gap is mended in three ways and made worse in a fourth; a version is chosen, and the choice stands in the report."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect
from tests.api import talk
from tests.web.conftest import accessible, choose, legible_in_the_dark, reading, report_written
from tests.web.test_remedies_sheet import fits_without_a_method, own

__all__ = ["own"]
GAP = "gap=selection_rate&column=home_area&group=outer%20isles&reference=harbour%20town"


def asked(page, how: dict[str, str]) -> None:
    """A candidate is trained with remedies chosen in the form; nothing else of it is changed."""
    for name in SWITCHES:
        page.get_by_label(name, exact=True).select_option(how.get(name, ""))
    for name, value in how.items():
        if name in ("weight, or several", "tolerance in points"):
            page.get_by_label(name, exact=True).fill(value)
    page.get_by_role("button", name="Train it").click()


SWITCHES = (
    WEIGHED,
    DRAWN,
    PENALTY,
    LIMITS,
) = (
    "Outcome independent of, by weights",
    "Outcome balanced by drawing",
    "Gap kept small by a penalty, in",
    "Gap kept small by limits, in",
)
WAYS = [
    {},
    {WEIGHED: "home_area"},
    {PENALTY: "home_area", "weight, or several": "3"},
    {LIMITS: "home_area", "tolerance in points": "3"},
    {DRAWN: "over"},
]


@pytest.fixture
def mended(page, client, own):
    page.goto(f"/audits/{own['id']}/remedies?{GAP}")
    page.get_by_role("button", name="Train with other settings").click()
    page.get_by_label("Estimator").select_option("linear")
    page.get_by_label("folds", exact=True).fill("4")
    for way in WAYS:
        asked(page, way)
    table = page.get_by_role("region", name="Table: candidates")
    expect(table.locator("tbody tr")).to_have_count(5, timeout=90_000)
    page.get_by_role("button", name="Train with other settings").click()
    return own


def test_a_gap_is_mended_one_way_makes_it_worse_and_the_choice_is_in_the_report(page, client, mended):
    view = client.get(f"/api/audits/{mended['id']}/candidates?{GAP}").json()
    verdicts = {one["remedy"].split(" ")[0]: one["verdict"] for one in view["remedied"]}
    assert verdicts == {"rows": "smaller", "a": "smaller", "trained": "smaller", "rarer": verdicts["rarer"]}
    said = page.get_by_role("list", name="What remedies did").first
    expect(said.get_by_role("listitem").first).to_contain_text(view["remedies_said"][0])
    worse = next(one for one in view["remedied"] if one["remedy"].startswith("rarer outcomes drawn again"))
    assert worse["gap"]["value"] < worse["gap_without"]["value"] and view["remedied"][0]["name"] == worse["name"]
    if worse["verdict"] == "larger":
        expect(said).to_contain_text("▲ Worse.")
    before = page.get_by_role("region", name="Labels and decisions before and after")
    expect(before).to_contain_text("event, as learnt from")
    accessible(page)
    legible_in_the_dark(page)
    fits_without_a_method(page)

    page.get_by_role("tab", name="Price and gap").click()
    expect(page.get_by_test_id("reading")).to_contain_text("has the best log loss")
    kept = page.get_by_role("list", name="Not outdone")
    name = next(one["name"] for one in view["remedied"] if one["remedy"].startswith("trained so that"))
    expect(kept).to_contain_text(name)
    kept.get_by_role("button", name=name).click()
    card = page.get_by_role("region", name=f"Candidate {name}")
    expect(card).to_contain_text("Trained under limits: on its training rows the farthest group is")
    accessible(page)
    card.get_by_role("button", name="Look at the rows put aside").click()
    expect(card).to_contain_text("On 600 rows put aside")

    page.get_by_role("tab", name="Lineage").click()
    page.locator("[data-row] [role=button]").filter(has=page.locator("rect")).first.wait_for()
    expect(page.locator("[data-behind], [aria-busy=true]")).to_have_count(0)  # the look is counted in this drawing, too
    page.get_by_role("button", name=re.compile(f"^{name}: ")).press("Enter")
    mine = page.get_by_role("region", name=f"Version {name}")
    expect(mine).to_contain_text("the same without its remedies")
    lines = page.get_by_role("region", name="Table: recipes line by line")
    expect(lines.get_by_role("row").nth(1)).to_contain_text("≠ remedy 1")
    mine.get_by_role("button", name="Choose this version").click()
    mine.get_by_label("why this one").fill("The outer isles are settled as often as others.")
    mine.get_by_label("what is given up for it").fill("0.02 of log loss.")
    mine.get_by_label("who decides").fill("Ana")
    mine.get_by_role("button", name="Record the choice").click()
    expect(page.get_by_test_id("reading")).to_contain_text(f"{name} was chosen by Ana on ")
    accessible(page)
    legible_in_the_dark(page)
    expect(mine.get_by_role("link", name="Drivers of both")).to_have_attribute("href", re.compile("beside=model"))

    report_written(page)
    expect(page.get_by_text("Report 1 is the newest")).to_be_visible(timeout=60_000)
    written = client.get(f"/api/audits/{mended['id']}/reports/1").text
    assert f"<b>Chosen: {name}.</b> The outer isles are settled as often as others." in written
    assert "Given up for it: 0.02 of log loss. Decided by Ana on" in written and "Somebody has looked at rows put aside 1 time" in written


def test_every_other_part_is_read_as_it_was_computed(page, client, audit, context):
    base = f"/audits/{audit['id']}"
    for part, method, area in (
        ("versions", "versions", "remedies"), ("leaning", "leaning", "remedies"), ("repair", "repaired", "remedies"),
        ("band", "band", "remedies"), ("corrected", "corrected", "remedies"), ("tree", "one_tree", "drivers"),
    ):  # fmt: skip
        page.goto(f"{base}/{area}?part={part}")
        said = reading(page)
        found = talk.read(client, audit["id"], method, context)
        assert "".join(one["text"] for one in found["reading"]["headline"]) == said.replace("Flagged: ", "")
        accessible(page)
        fits_without_a_method(page)
    page.goto(f"{base}/drivers?part=without")
    expect(page.get_by_test_id("reading")).to_contain_text("Only a version that was trained here")


def test_controls_change_what_is_read(page, client, audit):
    base = f"/audits/{audit['id']}"
    page.goto(f"{base}/drivers?part=tree&row=7")
    table = page.get_by_role("region", name="Table: one tree")
    expect(table).to_contain_text("comes here")
    choose(page, "Splits deep", "1 splits")
    expect(table.locator("tbody tr")).to_have_count(3)
    page.get_by_role("button", name=re.compile("more under it")).first.press("Enter")
    expect(page).to_have_url(re.compile("start="))
    page.get_by_role("button", name="Back to its first split").click()
    expect(page.get_by_test_id("reading")).to_contain_text("asks first whether")
    page.goto(f"{base}/remedies?part=band")
    choose(page, "Within", "0.20 of the threshold")
    expect(page.get_by_test_id("reading")).to_contain_text("have a score within 0.20 of the threshold")
    page.goto(f"{base}/remedies?part=repair")
    page.get_by_label("Row", exact=True).fill("8")
    page.get_by_label("Row", exact=True).press("Enter")
    expect(page.get_by_role("region", name="Table: numbers repaired")).to_contain_text("of the row, repaired")
    page.goto(f"{base}/remedies?part=versions")
    choose(page, "Metric", "Accuracy")
    expect(page.get_by_test_id("reading")).to_contain_text("has an accuracy of")
    choose(page, "Columns of the table", "metrics")
    expect(page.get_by_role("region", name="Table: versions")).to_contain_text("Log loss")
    accessible(page)
