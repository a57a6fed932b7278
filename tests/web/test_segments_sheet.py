"""Segments as a person makes, compares and keeps them, and questions in SQL."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect
from tests.api import talk
from tests.web.conftest import accessible, choose, fits, legible_in_the_dark, reading

HEAVY = {
    "name": "heavy by telephone",
    "conditions": [{"column": "channel", "levels": ["telephone"]}, {"column": "parcel_weight", "over": 10}],
}
FAR = {"name": "far out", "conditions": [{"column": "home_area", "levels": ["outer isles"]}]}


@pytest.fixture
def saved(client, restored):
    answer = client.put(f"{restored}/meaning/comparisons", json={"segments": [HEAVY, FAR]})
    assert answer.status_code == 200, answer.text
    return restored


def test_a_segment_is_clicked_together_typed_on_and_kept(page, audit, client, context, restored):
    page.goto(f"/audits/{audit['id']}/data?part=making")
    assert "Say which rows belong together" in reading(page)
    group = page.get_by_role("group", name="New condition")
    group.get_by_label("Column of the condition").select_option("channel")
    group.get_by_role("button", name="levels …").click()
    page.get_by_role("menuitemcheckbox", name="telephone").click()
    page.keyboard.press("Escape")
    group.get_by_role("button", name="Add the condition").click()
    group.get_by_label("Column of the condition").select_option("parcel_weight")
    expect(group.get_by_role("button", name="Add the condition")).to_be_disabled()
    group.get_by_label("over").fill("ten")
    expect(group.get_by_label("over")).to_have_attribute("aria-invalid", "true")
    group.get_by_label("over").fill("10")
    group.get_by_role("button", name="Add the condition").click()
    field = page.get_by_label("Conditions, typed")
    expect(field).to_have_value("channel=telephone and parcel_weight>10")
    found = talk.read(client, audit["id"], "segment", context, {"conditions": "channel=telephone and parcel_weight>10"})
    expect(page.get_by_test_id("reading")).to_have_text("".join(one["text"] for one in found["reading"]["headline"]))
    accessible(page)
    legible_in_the_dark(page)
    page.get_by_role("button", name="Turn round: parcel weight over 10").click()
    expect(field).to_have_value("channel=telephone and not (parcel_weight>10)")
    page.get_by_role("button", name="Turn round: parcel weight not over 10").click()
    field.click()
    field.press("End")
    field.press_sequentially(' or home_area="outer isles" and missed_scans>=3', delay=25)
    wanted = talk.read(client, audit["id"], "segment", context, {"conditions": field.input_value()})["result"]
    expect(page.get_by_test_id("reading")).to_contain_text(f"{wanted['rows']} of 3,600 held-out claims")
    expect(page.get_by_text("or rows that meet all of")).to_be_visible()
    field.press_sequentially(" and nowhere>", delay=25)
    expect(page.get_by_text("the table has no column “nowhere”")).to_be_visible()
    expect(page.get_by_test_id("reading")).to_contain_text(f"{wanted['rows']} of 3,600 held-out claims")  # still in sight
    page.wait_for_url(re.compile("nowhere"))
    page.reload()
    expect(page.get_by_label("Conditions, typed")).to_have_value(re.compile("nowhere>$"))
    field.fill("channel=telephone and parcel_weight>10")
    page.get_by_label("called").fill("heavy by telephone")
    page.get_by_role("button", name="Save as segment").click()
    expect(page.get_by_role("tab", name="Segments")).to_have_attribute("aria-selected", "true")
    expect(page.get_by_test_id("reading")).to_contain_text("“heavy by telephone” is worse than the rest beyond chance")
    kept = client.get(restored).json()["spec"]["segments"]
    assert [one["name"] for one in kept] == ["heavy by telephone"] and kept[0]["conditions"][1]["over"] == 10


def test_segments_are_compared_renamed_doubled_joined_deleted_and_brought_back(page, audit, client, context, saved):
    page.goto(f"/audits/{audit['id']}/data?part=segments")
    said = reading(page)
    table = page.get_by_role("region", name="Table: segments")
    found = talk.read(client, audit["id"], "segments", context)["result"]
    accuracy = next(one for one in found["segments"][0]["cells"] if one["metric"] == "accuracy")
    assert accuracy["mark"] == "worse"
    cell = table.get_by_role("button", name=re.compile("worse .*: Accuracy of heavy by telephone"))
    expect(cell).to_contain_text(f"{100 * accuracy['inside']['value']:.1f}%")
    accessible(page)
    legible_in_the_dark(page)
    fits(page, 1024)
    page.set_viewport_size({"width": 1280, "height": 800})
    page.get_by_role("button", name="other versions").click()
    page.get_by_role("menuitemcheckbox", name="logistic regression v1").click()
    page.keyboard.press("Escape")
    expect(table.get_by_text("logistic regression v1").first).to_be_visible()
    other = next(one for one in audit["models"] if one["name"] == "logistic regression v1")
    theirs = talk.read(client, audit["id"], "segments", context | {"model": other["id"]})["result"]
    value = next(one for one in theirs["segments"][1]["cells"] if one["metric"] == "accuracy")["inside"]["value"]
    cells = table.get_by_role("button", name=re.compile("Accuracy of far out"))
    expect(cells).to_have_count(2)
    expect(cells.nth(1)).to_contain_text(f"{100 * value:.1f}%")
    cell.first.click()
    card = page.get_by_role("dialog", name="Accuracy of heavy by telephone")
    expect(card).to_contain_text("channel is telephone, parcel weight over 10")
    card.get_by_role("button", name="Close").click()

    def do(name: str, what: str) -> None:
        table.get_by_role("button", name=f"What to do with {name}", exact=True).click()
        page.get_by_role("menuitem", name=what).click()

    do("far out", "Rename")
    page.get_by_label("New name of far out").fill("heavy by telephone")
    expect(page.get_by_text("This name is taken.")).to_be_visible()
    page.get_by_label("New name of far out").fill("outer isles")
    page.get_by_role("button", name="Rename").click()
    expect(table.get_by_role("checkbox", name="Choose outer isles")).to_be_visible()
    do("outer isles", "Make a copy")
    expect(table.get_by_role("checkbox", name="Choose outer isles, copy")).to_be_visible()
    do("outer isles, copy", "Delete")
    expect(page.get_by_text("No kept figure is of its rows.")).to_be_visible()
    page.get_by_role("button", name="Delete outer isles, copy").click()
    expect(page.get_by_text("outer isles, copy was deleted.")).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    expect(table.get_by_role("checkbox", name="Choose outer isles, copy")).to_be_visible()
    assert len(client.get(saved).json()["spec"]["segments"]) == 3
    table.get_by_role("checkbox", name="Choose heavy by telephone").check()
    table.get_by_role("checkbox", name="Choose outer isles", exact=True).check()
    choose(page, "New segment of the rows", "in the first and in no other")
    expect(page.get_by_label("Conditions, typed")).to_have_value('segment "heavy by telephone" and not segment "outer isles"')
    expect(page.get_by_role("button", name="Take away: home area is not outer isles")).to_be_visible()
    assert said != reading(page)


def test_a_column_is_cut_and_its_parts_are_kept(page, audit, client, restored):
    page.goto(f"/audits/{audit['id']}/data?part=making")
    cutting = page.get_by_role("region", name="A column cut into segments")
    choose(page, "Column that is cut", "missed scans")
    expect(cutting).to_contain_text("Missed scans cut into")
    choose(page, "How it is cut", "given borders")
    page.get_by_label("Borders, with commas between them").fill("0, 2, x")
    expect(page.get_by_role("button", name="Cut there")).to_be_disabled()
    page.get_by_label("Borders, with commas between them").fill("0, 2")
    page.get_by_role("button", name="Cut there").click()
    expect(cutting).to_contain_text("missed scans over 0 and up to 2")
    cutting.get_by_role("checkbox", name="missed scans up to 0").uncheck()
    cutting.get_by_role("button", name="Keep 2 parts as segments").click()
    expect(cutting.get_by_text("kept already").first).to_be_visible()
    kept = client.get(restored).json()["spec"]["segments"]
    assert [one["name"] for one in kept] == ["missed scans over 0 and up to 2", "missed scans over 2"]
    accessible(page)


def test_a_question_in_sql_is_completed_answered_kept_and_found_again(page, audit, client, context, restored):
    page.goto(f"/audits/{audit['id']}/data?part=sql")
    reading(page)
    accessible(page)
    field = page.get_by_label("Question in SQL")
    field.press_sequentially("select cha", delay=10)
    expect(page.get_by_role("option", name="channel text")).to_be_visible()
    accessible(page)
    field.press("Tab")
    field.press_sequentially(", count(*) as many from rows group by all order by 2 desc", delay=2)
    field.press("Control+Enter")
    asked = "select channel, count(*) as many from rows group by all order by 2 desc"
    found = talk.read(client, audit["id"], "query", context, {"sql": asked})["result"]
    table = page.get_by_role("region", name="Table: answer")
    for name, many in found["cells"]:
        expect(table.get_by_role("row", name=f"{name} {many:.0f}")).to_be_visible()
    again = "select claim_number from rows where not correct and channel = 'telephone'"
    page.get_by_label("Question in SQL").fill(again)
    page.get_by_role("button", name="Ask", exact=True).click()
    wanted = talk.read(client, audit["id"], "query", context, {"sql": again})["result"]
    expect(page.get_by_test_id("reading")).to_contain_text(f"The answer has {wanted['matching']} rows")
    with page.expect_download() as download:
        page.get_by_role("link", name="Whole answer as CSV").click()
    lines = download.value.path().read_text().splitlines()
    assert lines[0].strip('"') == "claim_number" and len(lines) == wanted["matching"] + 1
    page.get_by_label("called").fill("wrong by telephone")
    page.get_by_role("button", name="Save as segment").click()
    page.get_by_role("button", name=re.compile("^Rows: ")).click()
    page.get_by_role("menuitemradio", name="held-out claims in wrong by telephone").click()
    expect(page.get_by_test_id("reading")).to_contain_text("In wrong by telephone: ")
    kept = client.get(restored).json()["spec"]["segments"][0]
    assert len(kept["picked"]) == wanted["matching"] and kept["source"].startswith("asked in SQL: select claim_number")
    page.get_by_label("Question in SQL").fill("select * from read_csv('/etc/passwd')")
    page.get_by_role("button", name="Ask", exact=True).click()
    expect(page.get_by_text("is out of reach of a question")).to_be_visible()
    page.get_by_text(re.compile("^Asked before")).click()
    page.get_by_role("button", name=asked).click()
    expect(page.get_by_test_id("reading")).to_contain_text("The answer has")
