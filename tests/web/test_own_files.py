"""One's own table and model, from upload to report; and files that cannot be used."""

from __future__ import annotations

import re

import numpy as np
import pytest
from playwright.sync_api import expect
from skl2onnx import convert_sklearn
from skl2onnx.common.data_types import FloatTensorType, StringTensorType
from sklearn.compose import ColumnTransformer
from sklearn.linear_model import LogisticRegression
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import OneHotEncoder

from tests.web.conftest import accessible, choose, reading, report_written


@pytest.fixture(scope="module")
def own(tmp_path_factory):
    """A German-style CSV (semicolons, decimal comma) and a pipeline over its raw columns."""
    folder = tmp_path_factory.mktemp("own")
    rng = np.random.default_rng(8)
    n = 900
    age, rating = rng.uniform(18, 80, n).round(1), rng.choice(["AAA", "BB", "C"], n)
    region = rng.choice(["Küste", "Berge <i>x</i>"], n, p=[0.7, 0.3])
    paid = rng.random(n) < 1 / (1 + np.exp(-((age - 45) / 15 + (rating == "AAA") - (region != "Küste"))))
    lines = ["age;rating;region;repaid"]
    lines += [f"{str(a).replace('.', ',')};{r};{g};{'ja' if p else 'nein'}" for a, r, g, p in zip(age, rating, region, paid, strict=True)]
    (folder / "loans.csv").write_text("\n".join(lines), encoding="cp1252")
    x = np.column_stack([age.astype(np.float32).astype(object), rating.astype(object), region.astype(object)])
    encode = ColumnTransformer([("n", "passthrough", [0]), ("c", OneHotEncoder(sparse_output=False), [1, 2])])
    model = make_pipeline(encode, LogisticRegression(max_iter=500)).fit(x, np.where(paid, "ja", "nein"))
    kinds = [("age", FloatTensorType([None, 1])), ("rating", StringTensorType([None, 1])), ("region", StringTensorType([None, 1]))]
    converted = convert_sklearn(
        model, initial_types=kinds, options={id(model.steps[-1][1]): {"zipmap": False}}, target_opset={"": 18, "ai.onnx.ml": 3}
    )
    (folder / "model.onnx").write_bytes(converted.SerializeToString())
    (folder / "ragged.csv").write_text("a;b\n1;2\n3\n")
    (folder / "broken.onnx").write_bytes(b"not a model")
    return folder


def test_from_upload_to_report(page, own):
    page.goto("/")
    page.get_by_label("Name of the new audit").fill("Loans of our own")
    page.get_by_role("button", name="Begin").click()
    assert "Begin with a table" in reading(page)

    page.get_by_label("Upload a table").set_input_files(own / "ragged.csv")
    expect(page.get_by_role("alert")).to_contain_text("line 3")
    page.get_by_label("Upload a table").set_input_files(own / "loans.csv")
    expect(page.get_by_test_id("reading")).to_contain_text("900 rows, 4 columns")
    expect(page.get_by_label("columns are parted by")).to_have_value(";")
    expect(page.get_by_label("decimal mark")).to_have_value(",")
    expect(page.get_by_label("Role of region")).to_have_value("group")
    expect(page.get_by_label("Role of repaid")).to_have_value("outcome")
    accessible(page)

    page.get_by_label("Kind of rating").select_option("ordered")
    page.get_by_role("button", name="order").click()
    order = page.get_by_role("dialog", name="Order of rating")
    expect(order.get_by_role("listitem").first).to_contain_text("AAA")
    order.get_by_role("button", name="Reverse").click()
    expect(order.get_by_role("listitem").first).to_contain_text("C")
    page.keyboard.press("Escape")
    page.get_by_label("Event: repaid is").select_option("ja")
    page.get_by_label("Name of that decision").fill("granted")
    page.get_by_label("Name of the other decision").fill("declined")
    page.get_by_label("several").fill("loans")

    page.get_by_label("Upload a model").set_input_files(own / "broken.onnx")
    expect(page.get_by_role("alert")).to_contain_text("ONNX")
    page.get_by_label("Upload a model").set_input_files(own / "model.onnx")
    expect(page.get_by_text("takes 3 columns, classes ja and nein")).to_be_visible()
    page.get_by_role("button", name="Score the model and finish").click()
    expect(page.get_by_test_id("reading")).to_contain_text("held-out loans are decided rightly")
    expect(page.get_by_test_id("detail")).to_contain_text("the table has no split column")

    page.keyboard.press("7")
    expect(page.get_by_test_id("reading")).to_contain_text(re.compile("Berge <i>x</i> loans|No comparison"))
    accessible(page)
    page.keyboard.press("3")
    expect(page.get_by_test_id("reading")).to_contain_text("of the importance")
    page.keyboard.press("4")
    expect(page.get_by_test_id("reading")).to_contain_text("mean chance that repaid is ja")
    choose(page, "Feature", "rating")
    expect(page.locator("[data-level]").first).to_have_attribute("data-level", "C")
    page.keyboard.press("5")
    expect(page.get_by_test_id("detail")).to_contain_text("coalitions of 3 features was evaluated")
    report_written(page)
    expect(page.get_by_test_id("reading")).to_contain_text("Report 1 is the newest", timeout=60_000)


def test_what_was_entered_survives_a_reload_and_a_mistake_is_shown_at_its_column(page, own):
    page.goto("/")
    page.get_by_label("Name of the new audit").fill("Mistakes")
    page.get_by_role("button", name="Begin").click()
    page.get_by_label("Upload a table").set_input_files(own / "loans.csv")
    page.get_by_label("Role of age").select_option("score")
    with page.expect_response(lambda answer: answer.url.endswith("/meaning/wording") and answer.ok):
        page.get_by_label("Name of that decision").fill("granted")
    expect(page.get_by_text("Say what the scores in “age” run to.", exact=True)).to_be_visible()
    page.get_by_label("Recorded scores run from 0 to").select_option("100")
    expect(page.get_by_text("a score of 100 is read as a chance of 100%")).to_be_visible()
    expect(page.get_by_text("What you entered is saved as you go.")).to_be_visible()
    page.get_by_label("Role of rating").select_option("weight")
    page.get_by_label("Recorded scores run from 0 to").select_option("1000")
    expect(page.get_by_text("Saving …")).to_be_visible()
    page.reload()  # before anything of it was sent
    expect(page.get_by_label("Role of rating")).to_have_value("weight")
    expect(page.get_by_label("Recorded scores run from 0 to")).to_have_value("1000")
    page.get_by_label("Recorded scores run from 0 to").select_option("100")
    expect(page.get_by_text("What you entered is saved as you go.")).to_be_visible()
    page.reload()
    expect(page.get_by_label("Role of age")).to_have_value("score")
    expect(page.get_by_label("Recorded scores run from 0 to")).to_have_value("100")
    expect(page.get_by_label("Name of that decision")).to_have_value("granted")
    page.get_by_role("button", name="Check and finish").click()
    expect(page.get_by_role("alert")).to_contain_text("are no number")
    row = page.get_by_role("row").filter(has=page.get_by_label("Role of rating"))
    expect(row).to_contain_text("Trouble here")


def test_an_audit_that_is_not_finished_says_what_to_do(page, client):
    audit = client.post("/api/audits", json={"title": "Just begun"}).json()["id"]
    page.goto(f"/audits/{audit}/tilt")
    expect(page.get_by_role("link", name="Go on with Intake")).to_be_visible()


def test_a_server_whose_database_is_away_is_waited_for(page, running):
    import os
    import signal

    page.allowed_errors += ["503", "Failed to load resource"]
    running.hold.set()
    try:
        os.kill(running.postgres.process.pid, signal.SIGKILL)
        with page.expect_response(lambda answer: answer.status == 503):
            page.goto("/")
    finally:
        running.hold.clear()
    expect(page.get_by_role("link", name="Skerry Post claims").first).to_be_visible(timeout=40_000)
