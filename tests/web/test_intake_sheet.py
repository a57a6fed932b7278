"""Intake's own controls, in a real browser."""

from __future__ import annotations

import csv
import io

import numpy as np
import pytest
from playwright.sync_api import expect

from tests.web.conftest import accessible, reading


@pytest.fixture
def begun(page):
    page.goto("/")
    page.get_by_label("Name of the new audit").fill("Intake")
    page.get_by_role("button", name="Begin").click()
    reading(page)
    return page


def upload(page, text: str, name: str = "t.csv") -> None:
    page.get_by_label("Upload a table").set_input_files({"name": name, "mimeType": "text/csv", "buffer": text.encode()})
    expect(page.get_by_role("heading", name="Columns")).to_be_visible()


def table(n: int = 300) -> str:
    rng = np.random.default_rng(5)
    rows = ["age,score,area,phase,granted"]
    for _ in range(n):
        score = rng.random()
        area = rng.choice(["=north()", "+south"])
        phase = rng.choice(["older", "newer"])
        rows.append(f"{rng.integers(18, 90)},{score:.3f},{area},{phase},{int(rng.random() < score)}")
    return "\n".join(rows)


def test_marks_that_were_misread_are_corrected(begun):
    upload(begun, "amount;y\n1.234;a\n5.678;b\n")
    row = begun.get_by_role("row").filter(has=begun.get_by_label("Role of amount"))
    expect(row).to_contain_text("1.234 to 5.678")
    begun.get_by_label("thousands mark").select_option(".")
    begun.get_by_label("decimal mark").select_option(",")
    expect(row).to_contain_text("1,234 to 5,678")


def test_a_wrong_encoding_is_said_beside_the_table(begun):
    upload(begun, "name,y\nplain,a\nother,b\n")
    begun.get_by_label("encoding").select_option("utf-16")
    expect(begun.get_by_role("alert")).to_be_visible()
    expect(begun.get_by_label("Role of name")).to_be_visible()  # the earlier reading stays


def test_own_borders_own_split_and_groups_of_a_feature(begun, client):
    upload(begun, table())
    begun.get_by_label("Role of score").select_option("score")
    begun.get_by_label("Role of area").select_option("group")
    begun.get_by_label("Role of phase").select_option("split")
    begun.get_by_label("Role of granted").select_option("outcome")
    begun.get_by_label("Compare groups of age").check()
    begun.get_by_label("Borders between groups of age").fill("60; 30; nonsense")
    begun.get_by_label("Borders between groups of age").blur()
    begun.get_by_label("Event: granted is").select_option("1")
    begun.get_by_label("newer").select_option("held out")
    begun.get_by_label("older").select_option("training")
    accessible(begun)
    begun.get_by_role("button", name="Check and finish").click()
    expect(begun.get_by_test_id("detail")).to_contain_text("rows whose phase is “newer”")
    begun.keyboard.press("5")
    reading(begun)
    for label in ("up to 30", "over 30 to 60", "over 60"):
        expect(begun.locator("svg").get_by_text(label, exact=True)).to_be_visible()


def test_cells_that_look_like_formulas_download_as_text(begun):
    upload(begun, table(600))
    begun.get_by_label("Role of score").select_option("score")
    begun.get_by_label("Role of area").select_option("group")
    begun.get_by_label("Role of phase").select_option("ignored")
    begun.get_by_label("Role of granted").select_option("outcome")
    begun.get_by_label("Event: granted is").select_option("1")
    begun.get_by_role("button", name="Check and finish").click()
    expect(begun.get_by_test_id("reading")).to_contain_text("are decided rightly")
    begun.keyboard.press("5")
    reading(begun)
    with begun.expect_download() as download:
        begun.get_by_role("button", name="Download table (CSV)").click()
    rows = list(csv.DictReader(io.StringIO(download.value.path().read_text())))
    assert {row["group"] for row in rows} <= {"'=north()", "'+south"}
    with_formula = [cell for row in rows for cell in row.values() if cell and cell[0] in "=+@"]
    assert with_formula == []


def test_finishing_waits_for_what_is_needed(begun):
    upload(begun, "a,b,y\n1,x,p\n2,z,q\n")
    finish = begun.get_by_role("button", name="Check and finish")
    expect(finish).to_be_disabled()
    expect(begun.get_by_text("Upload a model, or mark a column as recorded score or decision.")).to_be_visible()
    begun.get_by_label("Role of b").select_option("decision")
    begun.get_by_label("Role of y").select_option("outcome")
    begun.get_by_label("Event: y is").select_option("p")
    expect(finish).to_be_enabled()
    finish.click()
    expect(begun.get_by_role("alert")).to_contain_text("expected “p” for the event")


def test_a_model_that_wants_other_columns_is_named_before_finishing(begun, demo):
    upload(begun, "a,y\n1,p\n2,q\n")
    begun.get_by_label("Upload a model").set_input_files(
        {"name": "m.onnx", "mimeType": "application/octet-stream", "buffer": demo[2]["logistic regression v1"]}
    )
    expect(begun.get_by_text("the table has no column named declared_value")).to_be_visible()
