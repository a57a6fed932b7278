"""A wrong file first, the right one after; and an audit of recorded decisions alone."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.web.conftest import accessible, reading, report_written
from tests.web.test_intake_sheet import begun, table, upload  # noqa: F401
from tests.web.test_own_files import own  # noqa: F401


def test_the_right_model_after_a_wrong_one(begun, own, demo):  # noqa: F811
    begun.get_by_label("Upload a table").set_input_files(own / "loans.csv")
    wrong = {"name": "wrong.onnx", "mimeType": "application/octet-stream", "buffer": demo[2]["logistic regression v1"]}
    begun.get_by_label("Upload a model").set_input_files(wrong)
    expect(begun.get_by_text(re.compile("the table has no column for .* inputs: declared_value"))).to_be_visible()
    begun.get_by_label("Event: repaid is").select_option("ja")
    begun.get_by_role("button", name="Score the model and finish").click()
    expect(begun.get_by_role("alert")).to_contain_text("declared_value")
    begun.get_by_label("Upload another version").set_input_files(own / "model.onnx")
    expect(begun.get_by_role("radio", name="model.onnx")).to_be_checked()
    accessible(begun)
    begun.get_by_role("button", name="Score the model and finish").click()
    expect(begun.get_by_test_id("reading")).to_contain_text("are decided rightly")
    expect(begun.get_by_role("button", name=re.compile("^Model version: model.onnx"))).to_be_visible()
    begun.goto(begun.url.split("?")[0])  # also when the address names no version
    expect(begun.get_by_role("button", name=re.compile("^Model version: model.onnx"))).to_be_visible()


def test_recorded_decisions_alone_are_read_to_the_report(begun):  # noqa: F811
    upload(begun, table(800).replace("phase", "decided").replace("older", "0").replace("newer", "1"))
    for column, role in (("score", "ignored"), ("area", "group"), ("decided", "decision"), ("granted", "outcome")):
        begun.get_by_label(f"Role of {column}").select_option(role)
    begun.get_by_label("Event: granted is").select_option("1")
    begun.get_by_role("button", name="Check and finish").click()
    expect(begun.get_by_test_id("reading")).to_contain_text("are decided rightly")
    for key, text in (("3", "recorded scores or decisions only"), ("5", "A ladder needs the model")):
        begun.keyboard.press(key)
        expect(begun.get_by_text(text)).to_be_visible()
    expect(begun.get_by_test_id("cases-reading")).to_contain_text("800 rows")
    begun.keyboard.press("7")
    reading(begun)
    accessible(begun)
    report_written(begun)
    expect(begun.get_by_test_id("reading")).to_contain_text("Report 1 is the newest", timeout=60_000)
