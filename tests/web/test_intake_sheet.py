"""Intake's own controls, in a real browser."""

from __future__ import annotations

import csv
import io
import re

import numpy as np
import pytest
from playwright.sync_api import expect
from tests.api import talk

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


def test_what_was_wrong_with_earlier_files_goes_once_one_is_read(begun):
    together = begun.get_by_label("Choose table and model together")

    def given(name: str, data: bytes) -> dict:
        return {"name": name, "mimeType": "application/octet-stream", "buffer": data}

    together.set_input_files([given("claims.xlsx", b"PK\x03\x04" + bytes(60))])
    expect(begun.get_by_role("alert")).to_contain_text("claims.xlsx")
    together.set_input_files([given("model.onnx", b"no model"), given("claims.pkl", b"\x80\x04" + bytes(60))])
    expect(begun.get_by_role("alert")).to_have_count(2)
    expect(begun.get_by_text("claims.xlsx")).to_have_count(0)
    together.set_input_files([given("claims.csv", table().encode())])
    expect(begun.get_by_label("Role of score")).to_be_visible()
    expect(begun.get_by_role("alert")).to_have_count(0)


def test_another_outcome_brings_its_own_event_and_a_split_its_values(begun):
    rows = ["n,verdict,set_of,again"]
    rows += [f"{i},{('granted', 'refused')[i % 3 == 0]},{('Lernen', 'Rest')[i % 4 == 0]},{('True', 'False')[i % 2]}" for i in range(120)]
    upload(begun, "\n".join(rows))
    expect(begun.get_by_label("Role of again")).to_have_value("outcome")
    expect(begun.get_by_label("Event: again is")).to_have_value("True")
    begun.get_by_label("Role of verdict").select_option("outcome")
    expect(begun.get_by_label("Role of again")).to_have_value("ignored")
    expect(begun.get_by_label("Event: verdict is")).to_have_value(re.compile("granted|refused"))
    begun.get_by_label("Role of set_of").select_option("split")
    expect(begun.get_by_label("Lernen")).to_have_value("training")
    expect(begun.get_by_label("Rest")).to_have_value("held out")


def test_what_stands_for_no_value_is_asked_with_its_cells(begun):
    upload(begun, "amount,y\n" + "1,a\n2,b\n?,a\nNA,b\nabsent,a\n" * 10)
    told = begun.get_by_role("group", name="What stands for no value")
    expect(told.get_by_label("“NA” (10 cells)")).to_be_checked()
    expect(told.get_by_label("“?” (10 cells)")).not_to_be_checked()
    told.get_by_label("“?” (10 cells)").check()
    row = begun.get_by_role("row").filter(has=begun.get_by_label("Role of amount"))
    expect(row).to_contain_text("40.0%")
    told.get_by_label("Another mark for no value").fill("absent")
    told.get_by_label("Another mark for no value").press("Enter")
    expect(row).to_contain_text("60.0%")
    expect(begun.get_by_label("Kind of amount")).to_have_value("numeric")
    expect(told.get_by_label("“absent” (10 cells)")).to_be_checked()
    accessible(begun)


def test_own_borders_own_split_and_groups_of_a_feature(begun, client):
    upload(begun, table())
    begun.get_by_label("Role of score").select_option("score")
    begun.get_by_label("Role of area").select_option("group")
    begun.get_by_label("Role of phase").select_option("split")
    begun.get_by_label("Role of granted").select_option("outcome")
    expect(begun.get_by_label("Nobody may be worse off by area")).not_to_be_checked()
    begun.get_by_label("Nobody may be worse off by area").check()
    expect(begun.get_by_label("Nobody may be worse off by age")).to_have_count(0)
    begun.get_by_label("Compare groups of age").check()
    expect(begun.get_by_label("Nobody may be worse off by age")).not_to_be_checked()
    begun.get_by_label("Borders between groups of age").fill("60; 30; nonsense")
    begun.get_by_label("Borders between groups of age").blur()
    begun.get_by_label("Event: granted is").select_option("1")
    begun.get_by_label("newer").select_option("held out")
    begun.get_by_label("older").select_option("training")
    accessible(begun)
    begun.get_by_role("button", name="Check and finish").click()
    expect(begun.get_by_test_id("detail")).to_contain_text("rows whose phase is “newer”")
    begun.keyboard.press("7")
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
    begun.keyboard.press("7")
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
    begun.get_by_label("Role of y").select_option("outcome")
    begun.get_by_label("Event: y is").select_option("p")
    expect(begun.get_by_text("Say which decision is favourable to the person.", exact=True)).to_be_visible()
    expect(begun.get_by_test_id("reading")).to_contain_text("Next: say which decision is favourable to the person.")
    expect(finish).to_be_disabled()
    expect(begun.get_by_text("In the table 50.0% of the rows are “p”; the words do not tell")).to_be_visible()
    begun.get_by_label("Favourable to the person").select_option("other")
    expect(begun.get_by_text("so decisions that are always right give 50.0% the favourable one, “q”")).to_be_visible()
    expect(begun.get_by_text("Upload a model, or mark a column as recorded score or decision.", exact=True)).to_be_visible()
    begun.get_by_label("Role of b").select_option("decision")
    expect(begun.get_by_text("Say what each decision in “b” stands for.", exact=True)).to_be_visible()
    expect(finish).to_be_disabled()
    begun.get_by_label("Decision “x” stands for").select_option("p")
    begun.get_by_label("Decision “z” stands for").select_option("q")
    expect(finish).to_be_enabled()
    accessible(begun)
    finish.click()
    expect(begun.get_by_test_id("reading")).to_contain_text("100.0% of 2 rows are decided rightly")


def test_settings_of_another_audit_are_taken_named_and_taken_back(begun, client):
    begun.allowed_errors.append("422")  # a file that is none
    other = talk.new_audit(client, "Described before")
    rows = b"a,b,gone,y\n" + b"1,x,m,p\n2,z,n,q\n" * 30
    assert talk.put_table(client, other, rows)["state"] == "done"
    spec = client.get(f"/api/audits/{other}").json()["spec"]
    talk.put_spec(client, other, talk.set_roles(spec, a="ignored", b="group", y="outcome") | {"event": "p", "threshold": 0.3})
    upload(begun, "a,b,new,y\n" + "1,x,5,p\n2,z,6,q\n" * 30)
    before = begun.get_by_label("Role of b").input_value()
    begun.get_by_label("Settings of an earlier audit").select_option("Described before")
    expect(begun.get_by_text("The settings of “Described before” were taken; not all of them fit this table:")).to_be_visible()
    expect(begun.get_by_text("The table has no column “gone”.")).to_be_visible()
    expect(begun.get_by_label("Role of b")).to_have_value("group")
    expect(begun.get_by_label("Role of a")).to_have_value("ignored")
    accessible(begun)
    with begun.expect_download() as download:
        begun.get_by_role("link", name="Save these settings as a file").click()
    assert download.value.suggested_filename.endswith(".toml")
    begun.get_by_role("button", name="Take it back").click()
    expect(begun.get_by_label("Role of b")).to_have_value(before)
    expect(begun.get_by_label("Role of a")).to_have_value("feature")
    begun.get_by_label("File of settings").set_input_files(download.value.path())
    expect(begun.get_by_label("Role of b")).to_have_value("group")
    expect(begun.get_by_text("all of them fit this table.")).to_be_visible()
    begun.get_by_label("File of settings").set_input_files(
        {"name": "x.toml", "mimeType": "application/toml", "buffer": b"zerotilt = 1\n[problem]\nthreshold = 7"}
    )
    expect(begun.get_by_role("alert")).to_contain_text("problem.threshold: it must be at most 1")
    client.delete(f"/api/audits/{other}?for_good=true")


def test_a_model_that_wants_other_columns_is_named_before_finishing(begun, demo):
    upload(begun, "a,y\n1,p\n2,q\n")
    begun.get_by_label("Upload a model").set_input_files(
        {"name": "m.onnx", "mimeType": "application/octet-stream", "buffer": demo[2]["logistic regression v1"]}
    )
    said = begun.get_by_text("the table has no column for 13 inputs: declared_value, parcel_weight")
    expect(said).to_be_visible()
    expect(begun.get_by_text("and 1 more")).to_be_visible()


def worth_model() -> bytes:
    """A model of two inputs, of which one is called otherwise than the table's column."""
    from skl2onnx import convert_sklearn
    from skl2onnx.common.data_types import FloatTensorType
    from sklearn.compose import ColumnTransformer
    from sklearn.linear_model import LogisticRegression
    from sklearn.pipeline import make_pipeline

    rng = np.random.default_rng(3)
    x = rng.normal(size=(200, 2)).astype(np.float32)
    made = make_pipeline(ColumnTransformer([("n", "passthrough", [0, 1])]), LogisticRegression())
    made.fit(x, (x[:, 0] > 0).astype(int))
    kinds = [("declared_value", FloatTensorType([None, 1])), ("Age", FloatTensorType([None, 1]))]
    options = {"zipmap": False}
    return convert_sklearn(
        made, initial_types=kinds, options=options, target_opset={"": 18, "ai.onnx.ml": 3}
    ).SerializeToString()


def test_table_and_model_together_and_an_input_matched_by_hand(begun):
    rng = np.random.default_rng(4)
    lines = ["ref_no,Geschlecht,declared worth,age,built_year,rejected"]
    for i in range(300):
        worth = rng.normal()
        lines.append(f"P{i:04d},{'mw'[i % 2]},{worth:.3f},{rng.normal():.3f},{1998 + i % 20},{('no', 'yes')[int(worth > 0)]}")
    begun.get_by_label("Choose table and model together").set_input_files(
        [
            {"name": "worth.onnx", "mimeType": "application/octet-stream", "buffer": worth_model()},
            {"name": "parcels.csv", "mimeType": "text/csv", "buffer": "\n".join(lines).encode()},
        ]
    )
    expect(begun.get_by_label("Role of Geschlecht")).to_have_value("group")
    expect(begun.get_by_text("its name is one of groups of people")).to_be_visible()
    expect(begun.get_by_text("1998 to 2017")).to_be_visible()  # years, not amounts
    expect(begun.get_by_text("the table has no column for 1 input: declared_value")).to_be_visible()
    # the words tell that to be rejected is not good
    expect(begun.get_by_label("Favourable to the person")).to_have_value("other")
    accessible(begun)
    begun.get_by_role("button", name="is it “declared worth”?").click()
    expect(begun.get_by_label("Column for declared_value")).to_have_value("declared worth")
    expect(begun.get_by_text("chosen", exact=True)).to_be_visible()
    begun.get_by_label("Event: rejected is").select_option("no")
    expect(begun.get_by_label("Favourable to the person")).to_have_value("event")  # it stays “no”
    begun.get_by_role("button", name="Score the model and finish").click()
    expect(begun.get_by_test_id("reading")).to_contain_text("are decided rightly")


def test_of_many_columns_some_are_found_chosen_and_set_at_once(begun):
    names = [f"measure_{i:02d}" for i in range(30)]
    upload(begun, ",".join([*names, "y"]) + "\n" + "\n".join(",".join([*["1", "2"] * 15, "pq"[i % 2]]) for i in range(4)))
    expect(begun.get_by_text("31 of 31 columns")).to_be_visible()
    begun.get_by_label("Find a column").fill("measure_1")
    expect(begun.get_by_text("10 of 31 columns")).to_be_visible()
    begun.get_by_label("Choose all columns shown").check()
    begun.get_by_label("Choose measure_12").uncheck()
    begun.get_by_label("Role of the chosen columns").select_option("feature")
    begun.get_by_label("Find a column").fill("")
    begun.get_by_label("Only columns of").select_option("feature")
    expect(begun.get_by_text("9 of 31 columns")).to_be_visible()
    accessible(begun)


def test_the_held_out_share_goes_from_nothing_to_all(begun):
    upload(begun, "a,y\n1,p\n2,q\n3,p\n4,q\n")
    share = begun.get_by_label("Held-out share")
    share.fill("100")
    expect(begun.get_by_text("every row is held out")).to_be_visible()
    share.fill("0")
    expect(begun.get_by_text("no row is held out")).to_be_visible()
    share.fill("130")
    share.blur()
    expect(share).to_have_value("0")  # what lies beyond is not taken
