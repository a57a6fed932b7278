"""Classes and numbers from one's own files: said in Intake, read in Drivers and Response."""

from __future__ import annotations

import re

import pyarrow as pa
from playwright.sync_api import expect

from tests.api import talk
from tests.core import zoo
from tests.web.conftest import accessible, reading


def begun(client, page, name: str, levels: tuple[str, ...] = ()) -> str:
    """An audit with table and model, opened in Intake; nothing is said of its outcome yet."""
    kind, model, columns = zoo.made(name)
    outcome = zoo.data()[2][kind]
    values = [levels[int(code)] for code in outcome] if levels else outcome
    audit = talk.new_audit(client, f"Own files: {name}")
    assert talk.put_table(client, audit, talk.csv_bytes(pa.table(columns | {"y": values})))["state"] == "done"
    assert talk.put_model(client, audit, model)["state"] == "done"
    page.goto(f"/audits/{audit}/intake")
    for column in columns:
        page.get_by_label(f"Role of {column}").select_option("feature")
    page.get_by_label("Role of y").select_option("outcome")
    return audit


def test_a_number_with_its_unit(page, client):
    audit = begun(client, page, "random forest of a number")
    page.get_by_label("Predicted: y as").select_option("regression")
    page.get_by_label("Unit").fill("crates")
    expect(page.get_by_text("The model “model.onnx” gives one number a row.")).to_be_visible()
    accessible(page)
    page.get_by_role("button", name="Score the model and finish").click()
    expect(page.get_by_test_id("reading")).to_contain_text("is off by", timeout=60_000)
    page.get_by_role("link", name="Read the drivers").click()
    expect(page.get_by_test_id("reading")).to_contain_text("of the importance", timeout=60_000)
    expect(page.get_by_role("main")).to_contain_text("squared error")
    page.goto(f"/audits/{audit}/response")
    assert " crates" in reading(page)
    page.keyboard.press("5")
    expect(page.get_by_test_id("reading")).to_contain_text("the model gives")


def test_ordered_classes_in_the_order_that_was_set(page, client):
    audit = begun(client, page, "random forest, three classes")
    page.get_by_label("Predicted: y as").select_option("ordered classes")
    order = page.get_by_role("listitem").filter(has=page.get_by_role("button", name=re.compile("^Move ")))
    expect(order).to_have_count(3)
    page.get_by_role("button", name="Move 2 lower").click()
    page.get_by_role("button", name="Move 2 lower").click()
    assert [text.split()[1] for text in order.all_inner_texts()] == ["2", "0", "1"]
    # numbers do not tell which classes are good for whom: that is asked, with what follows from the answer
    finish = page.get_by_role("button", name="Score the model and finish")
    expect(finish).to_be_disabled()
    expect(page.get_by_text("Say which classes are favourable to the person.", exact=True)).to_be_visible()
    page.get_by_role("checkbox", name="2", exact=True).check()
    expect(page.get_by_text(re.compile(r"In the table [\d.]+% of the rows are “2”; so decisions"))).to_be_visible()
    accessible(page)
    finish.click()
    expect(page.get_by_test_id("reading")).to_contain_text("get their own class", timeout=60_000)
    found = client.get(f"/api/audits/{audit}").json()
    assert next(c for c in found["spec"]["columns"] if c["name"] == "y")["order"] == ["2", "0", "1"]
    assert found["spec"]["favourable_classes"] == ["2"] and found["spec"]["favourable_said"]
    page.goto(f"/audits/{audit}/response?view=lines")
    reading(page)
    shown = page.locator("[data-class]")
    assert [shown.nth(i).get_attribute("data-class") for i in range(3)] == ["2", "0", "1"]
