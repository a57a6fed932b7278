"""The parts of Drivers in a real browser."""

from __future__ import annotations

import re

import numpy as np
import pyarrow as pa
import pytest
from playwright.sync_api import expect
from skl2onnx import to_onnx
from sklearn.linear_model import LogisticRegression

from tests.api import talk
from tests.web.conftest import accessible, reading


def desks(client) -> dict:
    return next(one for one in client.get("/api/audits").json() if "routing desk" in one["title"])


@pytest.mark.parametrize("part", ["methods", "parts", "spread", "linked"])
def test_every_part_reads_its_numbers_and_is_accessible(page, audit, part):
    page.goto(f"/audits/{audit['id']}/drivers?part={part}")
    reading(page)
    expect(page.locator("figure").first).to_be_visible()
    accessible(page)


def test_the_rank_table_shows_the_api_s_ranks_and_why_they_part(page, client, audit, context):
    page.goto(f"/audits/{audit['id']}/drivers?part=methods")
    reading(page)
    found = talk.read(client, audit["id"], "side_by_side", context)["result"]
    expect(page.get_by_role("status", name=re.compile("Methods side by side"))).to_have_count(0, timeout=60_000)
    expect(page.get_by_text("A first look")).to_have_count(0, timeout=60_000)
    labels = [card["label"] for card in found["measures"]]
    row = page.locator("[data-feature]").first
    name = row.get_attribute("data-feature")
    ranks = [str(one["rank"]) for one in found["placed"] if one["feature"] == name]
    expect(row.locator("text").nth(1)).to_have_text(re.compile(rf"^{ranks[0]}\b"))
    texts = [text.split()[0] for text in row.locator("text").all_text_contents()[1:]]
    assert texts == ranks and len(labels) == len(ranks)
    if found["partings"]:
        expect(page.get_by_text(found["partings"][0]["why"])).to_be_visible()


def test_an_expected_direction_is_set_contradicted_and_decided(page, client, audit):
    page.goto(f"/audits/{audit['id']}/drivers")
    reading(page)
    menu = page.get_by_role("button", name=re.compile("expected direction of missed scans"))
    try:
        menu.click()
        page.get_by_role("menuitemradio", name="rises").click()
        expect(menu).to_have_accessible_name(re.compile("rises: .*contradicted"), timeout=30_000)
        dossier = page.get_by_role("complementary", name="Dossier")
        finding = dossier.locator("[data-finding]", has_text="Missed scans was expected to rise; the mean falls")
        expect(finding).to_be_visible()
        finding.get_by_role("combobox").select_option("to mend")
        finding.get_by_role("textbox").fill("The next version leaves it out.")
        finding.get_by_role("textbox").blur()
        accessible(page)
        page.reload()
        expect(finding.get_by_role("textbox")).to_have_value("The next version leaves it out.")
    finally:
        talk.expect(client, audit["id"], "missed_scans", None)


def test_training_rows_alongside_draw_both_and_flag_what_matters_there_alone(page, client, audit, context):
    page.goto(f"/audits/{audit['id']}/drivers?beside=rows:training")
    expect(page.get_by_test_id("reading")).to_contain_text("in training claims only, not in held-out claims", timeout=60_000)
    expect(page.get_by_test_id("detail")).to_contain_text("All pairs of 3,600 rows", timeout=60_000)
    beside = context | {"alongside": {"model": None, "rows": "training"}}
    found = talk.read(client, audit["id"], "drivers", beside)["result"]
    expect(page.locator('[data-part="beside"]')).to_have_count(len(found["drivers"]))
    ranks = {d["feature"]: d["beside"]["rank"] for d in found["drivers"]}
    for place, driver in enumerate(found["drivers"], 1):
        text = page.locator(f'[data-driver="{driver["feature"]}"]').text_content()
        there = ranks[driver["feature"]]
        assert ("same" if there == place else f"{place} → {there}") in text
    accessible(page)


def test_one_class_against_the_rest_and_all_classes(page, client):
    audit = desks(client)
    page.goto(f"/audits/{audit['id']}/drivers?part=parts")
    expect(page.get_by_test_id("reading")).to_contain_text("in every class", timeout=120_000)  # after the first look
    page.get_by_role("tab", name="Ranking").click()
    page.get_by_role("button", name=re.compile("^Class: ")).click()
    page.get_by_role("menuitemradio", name="front desk").click()
    page.get_by_role("button", name=re.compile("^Loss of")).click()
    page.get_by_role("menuitemradio", name="front desk against the rest").click()
    expect(page.get_by_test_id("reading")).to_contain_text("log loss of front desk against the rest", timeout=30_000)
    assert "class=front" in page.url and "against=1" in page.url
    page.keyboard.press("5")
    expect(page.get_by_test_id("reading")).to_contain_text("is front desk at")  # the class that is read goes along


def test_the_spread_is_drawn_by_another_column_and_explains_all_rows_in_log_odds(page, client, audit, context):
    page.goto(f"/audits/{audit['id']}/drivers?part=spread&feature=account_age&colour=sender_kind")
    reading(page)
    page.keyboard.press("l")
    expect(page.get_by_test_id("detail")).to_contain_text("Contributions of all 3,600 claims", timeout=30_000)
    assert "as=log-odds" in page.url
    found = talk.read(
        client, audit["id"], "spread", context | {"output": "log-odds"}, {"feature": "account_age", "colour": "sender_kind"}
    )["result"]
    for part in found["parts"]:
        own = [one for one in found["stretches"] if one["part"] == part]
        expect(page.locator(f'[data-part="{part}"] circle')).to_have_count(len(own))
    page.locator('[data-lanes="missed_scans"]').click()
    expect(page.get_by_role("button", name="Feature: missed scans")).to_be_visible()


def test_three_hundred_features_are_searched_and_never_all_drawn(page, client):
    rng = np.random.default_rng(0)
    values = rng.normal(size=(400, 300)).astype(np.float32)
    happened = (values[:, 17] + 0.5 * values[:, 250] + rng.normal(size=400) > 0).astype(int)
    model = LogisticRegression(C=0.02, max_iter=500).fit(values, happened)
    onnx = to_onnx(model, values[:1], options={"zipmap": False}, target_opset={"": 18, "ai.onnx.ml": 3}).SerializeToString()
    names = [f"measure_{i:03d}" for i in range(300)]
    audit = talk.new_audit(client, "Wide")
    table = pa.table(dict(zip(names, values.T, strict=True)) | {"happened": happened})
    assert talk.put_table(client, audit, talk.csv_bytes(table))["state"] == "done"
    assert talk.put_model(client, audit, onnx)["state"] == "done"
    spec = client.get(f"/api/audits/{audit}").json()["spec"]
    roles = dict.fromkeys(names, "feature") | {"happened": "outcome"}
    spec = talk.set_roles(spec, **roles) | {"event": "1", "model_inputs": names}
    talk.put_spec(client, audit, spec)
    version = client.get(f"/api/audits/{audit}").json()["models"][0]["id"]
    done = talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={"model": version}).json())
    assert done["state"] == "done", done
    page.goto(f"/audits/{audit}/drivers")
    expect(page.get_by_text("300 of 300 features")).to_be_visible(timeout=60_000)
    assert 5 < page.locator("[data-driver]").count() < 60
    page.get_by_label("Search features").fill("250")
    expect(page.locator("[data-driver]")).to_have_count(1)
    page.locator('[data-driver="measure_250"]').click()
    expect(page.get_by_test_id("reading")).to_contain_text("As measure 250 goes from", timeout=30_000)
    expect(page.get_by_role("button", name="Feature: measure 250")).to_be_visible()
    page.get_by_role("button", name="Feature: measure 250").click()
    find = page.get_by_role("combobox", name="Find in Feature: measure 250")
    expect(page.get_by_text("240 more; type to narrow")).to_be_visible()
    accessible(page)
    find.fill("e 01")
    find.press("ArrowDown")
    expect(page.get_by_role("option", name="measure 011")).to_have_attribute("data-highlighted", "")
    find.fill("measure 017")
    find.press("Enter")
    expect(page.get_by_test_id("reading")).to_contain_text("As measure 017 goes from", timeout=30_000)
    accessible(page)
