"""A model file that leaves open what it is fed and what its outputs are of: asked, with figures, before it is scored."""

from __future__ import annotations

import re

import numpy as np
import pytest
from playwright.sync_api import expect
from skl2onnx import convert_sklearn
from skl2onnx.common.data_types import FloatTensorType
from sklearn.linear_model import LogisticRegression

from tests.web.conftest import accessible, reading

NAMES = ["wages", "debts", "years", "rooms"]


@pytest.fixture(scope="module")
def shuffled(tmp_path_factory):
    """One tensor of four columns trained in one order; the CSV has them in another."""
    folder = tmp_path_factory.mktemp("shuffled")
    rng = np.random.default_rng(5)
    x = rng.normal(size=(800, 4)).astype(np.float32)
    y = (2 * x[:, 0] - 2 * x[:, 1] + rng.normal(size=800) > 0).astype(int)
    model = LogisticRegression().fit(x, y)
    written = convert_sklearn(
        model, initial_types=[("X", FloatTensorType([None, 4]))], options={id(model): {"zipmap": False}},
        target_opset={"": 18, "ai.onnx.ml": 3},
    )  # fmt: skip
    (folder / "model.onnx").write_bytes(written.SerializeToString())
    order = [1, 2, 0, 3]
    lines = [",".join([*(NAMES[i] for i in order), "area", "paid"])]
    area = rng.choice(["hill", "shore"], 800)
    lines += [",".join([*(f"{row[i]:.5f}" for i in order), a, str(k)]) for row, a, k in zip(x, area, y, strict=True)]
    (folder / "loans.csv").write_text("\n".join(lines))
    return folder


def begun(page, folder, title: str) -> None:
    page.goto("/")
    page.get_by_label("Name of the new audit").fill(title)
    page.get_by_role("button", name="Begin").click()
    page.get_by_label("Upload a table").set_input_files(folder / "loans.csv")
    expect(page.get_by_test_id("reading")).to_contain_text("800 rows, 6 columns")
    page.get_by_label("Role of area").select_option("group")
    page.get_by_label("Role of paid").select_option("outcome")
    page.get_by_label("Event: paid is").select_option("1")


def test_the_order_of_one_tensor_is_shown_proposed_and_chosen(page, shuffled):
    begun(page, shuffled, "Shuffled")
    page.get_by_label("Upload a model").set_input_files(shuffled / "model.onnx")
    expect(page.get_by_text(re.compile("fed in this order, as in the table: debts, years, wages, rooms"))).to_be_visible()
    page.get_by_role("button", name="Score the model and finish").click()
    note = page.get_by_role("alert").filter(has_text="order")
    expect(note).to_be_visible()
    accessible(page)
    note.get_by_role("button", name=re.compile("Read it so: the order found")).click()  # and it is scored so
    page.get_by_test_id("reading").filter(has_text="are decided rightly").wait_for()
    share = float(re.search(r"([\d.]+)% of", reading(page)).group(1))
    assert share > 80  # as it was trained; under the order of the table it is near 60


def test_a_tensor_of_encoded_columns_is_answered_where_it_was_uploaded(page, shuffled, tmp_path):
    rng = np.random.default_rng(6)
    x, y = rng.normal(size=(200, 6)).astype(np.float32), rng.integers(0, 2, 200)
    fitted = LogisticRegression().fit(x, y)
    written = convert_sklearn(fitted, initial_types=[("X", FloatTensorType([None, 6]))], target_opset={"": 18, "ai.onnx.ml": 3})
    (tmp_path / "encoded.onnx").write_bytes(written.SerializeToString())
    begun(page, shuffled, "Encoded")
    page.get_by_label("Upload a model").set_input_files(tmp_path / "encoded.onnx")
    told = page.get_by_role("alert").filter(has_text="is not in the file")
    expect(told).to_contain_text("takes 6 numbers in its one input “X”; the table has 4 feature columns")
    expect(told).to_contain_text("each level of “area” has a column of its own")
    expect(told).to_contain_text("as one ONNX file that takes the columns as they are")
    accessible(page)
    # it is in nobody's way where another model is read
    page.get_by_label("Upload another version").set_input_files(shuffled / "model.onnx")
    expect(page.get_by_text(re.compile("fed in this order, as in the table: debts, years, wages, rooms"))).to_be_visible()
    expect(told).to_have_count(1)


def test_an_order_typed_by_hand_is_kept_and_a_strange_name_is_said(page, shuffled):
    begun(page, shuffled, "By hand")
    page.get_by_label("Upload a model").set_input_files(shuffled / "model.onnx")
    page.get_by_text("fed in this order").click()
    field = page.get_by_label("One column a line, in the order the model was trained with")
    field.fill("wages\ndebts\nyears\nroom")
    expect(page.get_by_role("alert")).to_contain_text("no column room")
    expect(page.get_by_role("button", name="Feed it in this order")).to_be_disabled()
    field.fill("wages\ndebts\nyears\nrooms")
    page.get_by_role("button", name="Feed it in this order").click()
    expect(page.get_by_text("fed in this order, as chosen: wages, debts, years, rooms")).to_be_visible()
    page.get_by_role("button", name="Score the model and finish").click()
    page.get_by_test_id("reading").filter(has_text="are decided rightly").wait_for()
    assert float(re.search(r"([\d.]+)% of", reading(page)).group(1)) > 80
    # kept figures are marked once what they were computed from has changed
    page.keyboard.press("7")
    reading(page)
    page.keyboard.press("k")
    expect(page.get_by_placeholder("Note").first).to_be_visible()
    page.keyboard.press("1")
    page.get_by_role("button", name="Change table, columns or model").click()
    page.get_by_label("Kind of rooms").select_option("ordered")
    expect(page.get_by_test_id("older")).to_contain_text("the meaning of its columns changed since")


def test_a_model_that_comes_in_while_something_is_saved_is_shown(page, shuffled):
    begun(page, shuffled, "Meanwhile")
    page.wait_for_timeout(700)  # what was entered so far is written
    held = []
    page.route("**/meaning/problem", lambda route: held.append((route, route.fetch())))  # written, but not yet answered
    page.get_by_label("Upload a model").set_input_files(shuffled / "model.onnx")
    page.get_by_label("Event: paid is").select_option("0")
    expect(page).to_have_url(re.compile("model="))  # it has come in
    for _ in range(100):
        if held:
            break
        page.wait_for_timeout(100)
    assert held
    for route, answer in held:
        route.fulfill(response=answer)
    expect(page.get_by_text("fed in this order").first).to_be_visible()
    page.unroute("**/meaning/problem")


def test_an_audit_is_deleted_only_after_it_was_said_what_goes(page, shuffled):
    begun(page, shuffled, "To be deleted")
    page.goto("/")
    row = page.get_by_role("row").filter(has_text="To be deleted").first

    def ask():
        row.get_by_role("button", name="More for To be deleted").click()
        page.get_by_role("menuitemradio", name="Delete").click()

    ask()
    dialog = page.get_by_role("dialog", name=re.compile("To be deleted"))
    expect(dialog).to_contain_text("1 table")
    accessible(page)
    dialog.get_by_role("button", name="Keep it").click()
    expect(row).to_be_visible()
    ask()
    page.get_by_role("dialog").get_by_role("button", name="Delete", exact=True).click()
    expect(page.get_by_role("row").filter(has_text="To be deleted")).to_have_count(0)
    page.get_by_text("Deleted: “To be deleted”").get_by_role("button", name="Bring it back").click()
    expect(page.get_by_role("row").filter(has_text="To be deleted")).to_have_count(1)
    accessible(page)
