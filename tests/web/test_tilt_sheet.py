"""Tilt in a browser: planted facts 2 and 8, choices that are kept, thresholds moved by hand and by keys."""

import re
from html import unescape

import pytest
from playwright.sync_api import expect
from tests.api import talk
from tests.web.conftest import accessible, choose, reading


def opened(page, audit, address=""):
    page.goto(f"/audits/{audit['id']}/tilt{address}")
    return reading(page)


def part(page, name):
    page.get_by_role("tab", name=name).click()
    page.wait_for_function("name => document.querySelector('[role=tab][data-state=active]').innerText === name", arg=name)
    return reading(page)


def test_labels_are_tilted_on_the_outer_isles_and_decisions_more_so(page, audit):
    """Planted fact 2."""
    assert "0.52 times as often" in opened(page, audit)
    text = part(page, "Labels and decisions")
    found = re.search(r"Outer isles against harbour town: (\S+) times as often in the labels, (\S+) times as often", text)
    labels, decisions = map(float, found.groups())
    assert decisions < labels < 0.8
    assert "wider" in text
    gap = page.locator("[data-gap='outer isles']").first
    assert "wider" in gap.text_content()
    assert "error rates take them for the truth" in page.inner_text("[data-testid=detail]")
    page.get_by_role("button", name="Side by side").click()
    page.get_by_role("menuitemradio", name="training and hold-out").click()
    expect(page.locator("[data-gap='outer isles']").first).to_contain_text("not told apart")
    seen = page.get_by_role("region", name="Rows seen in training")
    expect(seen).to_contain_text("home area: outer isles")
    expect(page.get_by_role("region", name="One column changed")).to_contain_text("changing them alone changes no decision")


def test_the_gap_between_languages_vanishes_within_home_area(page, audit):
    """Planted fact 8."""
    opened(page, audit)
    page.locator("[data-mark='preferred_language|Brae|selection_rate']").click()
    card = page.get_by_role("dialog", name="Rows of Brae")
    expect(card).to_contain_text("ratio 0.82")
    card.get_by_role("button", name="Given other columns").click()
    # home area and the ferry legs that stand for it take away nearly all of it
    columns = page.get_by_role("region", name="Table: columns-given")
    columns.locator("tbody tr").nth(1).wait_for()
    first = columns.locator("tbody tr").all_inner_texts()[:2]
    assert {text.split("\t")[0].strip() for text in first} == {"ferry legs", "home area"}
    columns.get_by_role("button", name="home area").click()
    page.wait_for_function("() => document.querySelector('[data-testid=reading]')?.innerText.startsWith('Given home area')")
    text = reading(page)
    assert "can no longer be told from none" in text
    assert "0.82 (95% interval 0.78 to 0.85) plainly and 0.98" in text
    assert "given=home_area" in page.url
    rows = page.locator("[data-row]").evaluate_all("all => all.map(one => one.getAttribute('data-row'))")
    assert rows[:2] == ["plain", "pooled"] and set(rows[2:]) == {"harbour town", "uplands", "outer isles"}


@pytest.mark.parametrize("key", ["groups", "crossings", "one", "given", "sides", "thresholds"])
def test_every_part_is_accessible(page, audit, key):
    opened(page, audit, f"?part={key}&as=log-odds")
    accessible(page)


def test_a_gap_only_in_the_crossing_is_drawn_and_compared_under_groups(page, audit, restored):
    text = opened(page, audit, "?part=crossings&cross=channel,parcel_weight&metric=accuracy")
    assert "telephone · parcel weight over 10" in text and "only in the crossing" in text
    node = page.locator("[data-node='app · parcel weight over 10']")
    node.focus()
    node.press("Enter")
    card = page.get_by_role("region", name="Rows of app · parcel weight over 10")
    expect(card).to_contain_text("This crossing is compared under Groups")
    opened(page, audit, "?part=crossings&cross=channel,home_area")
    page.locator("[data-node='app · outer isles']").click()
    page.get_by_role("button", name="Compare this crossing under Groups").click()
    expect(page.get_by_text("This crossing is compared under Groups.")).to_be_visible()
    part(page, "Groups")
    expect(page.locator("[data-mark='channel · home_area|app · outer isles|selection_rate']")).to_be_visible()


def test_one_group_is_opened_to_its_cases_and_the_drivers_of_its_gap(page, audit, client, context):
    found = talk.read(client, audit["id"], "one_group", context | {"output": "log-odds"}, {})["result"]
    opened(page, audit, "?part=one&as=log-odds")
    cell = next(c for c in found["cells"] if c["side"] == "outer isles" and (c["happened"], c["decided"]) == ("event happened", "event not predicted"))
    table = page.get_by_role("table", name="Confusion matrix of outer isles")
    expect(table).to_contain_text(f"false negative: {cell['share']['value'] * 100:.1f}%")
    gap = page.get_by_role("region", name="What drives the gap of the output")
    expect(gap).to_contain_text("missed scans accounts for")
    expect(page.locator("[data-row='whole gap']")).to_be_attached(timeout=60_000)
    table.get_by_role("link", name=f"{cell['rows']} false negative of outer isles").click()
    expect(page.get_by_test_id("cases-reading")).to_contain_text(f"{cell['rows']} of 3,600 claims in outer isles")


def test_references_sorting_and_columns_are_in_the_address(page, audit):
    opened(page, audit, "?reference=all+others&sort=size&attributes=home_area,preferred_language,channel")
    expect(page.locator("svg", has_text="home area, each against all others").first).to_be_visible()
    names = page.locator("[data-mark$='|selection_rate']").evaluate_all("all => all.map(one => one.dataset.mark)")
    assert names[:3] == [f"home_area|{g}|selection_rate" for g in ("harbour town", "uplands", "outer isles")]
    assert "channel|app|selection_rate" in names and not any(name.startswith("age_band") for name in names)
    choose(page, "Reference", "the best-off group")
    page.wait_for_function("() => !document.body.innerText.includes('each against all others')")
    assert "reference=best-off" in page.url
    opened(page, audit)
    page.locator("[data-mark='home_area|uplands|selection_rate']").click()
    page.get_by_role("button", name="Make it the reference").click()
    expect(page.locator("[data-mark='home_area|harbour town|selection_rate']")).to_be_visible()


def test_what_was_typed_into_the_address_and_makes_no_sense_is_passed_over(page, audit):
    opened(page, audit, "?references=nonsense&attributes=nowhere&metrics=nothing&sort=upwards&compare=odd")
    expect(page.locator("[data-mark='home_area|outer isles|selection_rate']")).to_be_visible()
    opened(page, audit, "?part=thresholds&th=2&fp=-4")
    expect(page.locator("[data-threshold='outer isles']")).to_have_attribute("aria-valuenow", "0.5")


def test_a_column_in_the_address_that_is_not_there_is_refused_by_its_name(page, audit):
    page.allowed_errors.append("422")
    page.goto(f"/audits/{audit['id']}/tilt?part=thresholds&attribute=nowhere")
    expect(page.get_by_role("alert").first).to_contain_text("nowhere")
    expect(page.get_by_test_id("reading")).to_have_count(0)


def test_metrics_are_chosen_with_the_guide_and_limits_put_in_force(page, audit, restored):
    opened(page, audit)
    page.get_by_role("button", name="Metrics and limits").click()
    panel = page.get_by_role("dialog", name="Metrics and limits")
    panel.get_by_label("What does the favourable decision do").select_option("gives something")
    panel.get_by_label("Who is harmed").select_option("wrongly unfavourable")
    panel.get_by_label("Can the recorded outcomes").select_option("tilted")
    expect(panel.get_by_test_id("proposals")).to_contain_text("The labels were shaped by past decisions")
    panel.get_by_role("button", name="Take these metrics").click()
    panel.get_by_label("Selection rate: lower ratio").fill("0.4")
    accessible(page)
    save = panel.get_by_role("button", name="Put in force as policy")
    save.click()
    expect(panel).to_be_visible()  # nobody answers for it yet
    panel.get_by_label("Who chooses this").fill("A. Reader")
    save.click()
    expect(panel).to_be_hidden()
    page.wait_for_function("() => /flag policy (?!1\\b)\\d+/.test(document.querySelector('[data-testid=detail]')?.innerText ?? '')")
    expect(page.get_by_test_id("detail")).to_contain_text("or a value outside the metric's own limits")
    detail = page.inner_text("[data-testid=detail]")
    expect(page.locator("[data-mark='home_area|outer isles|selection_rate']")).to_have_attribute("data-status", "within")
    assert page.locator("[data-mark$='|false_positive_rate']").count() == 0
    page.get_by_role("button", name="Metrics and limits").click()
    page.get_by_text("versions on record").click()
    expect(page.get_by_role("dialog")).to_contain_text("Chosen by A. Reader")


def test_flagged_disparities_are_gathered_counted_once_and_decided_with_a_reason(page, client, audit, context):
    flagged = [d for d in talk.read(client, audit["id"], "tilt", context)["result"]["disparities"] if d["status"] == "flagged"]
    facts = [f for f in client.post(f"/api/audits/{audit['id']}/findings", json=context).json() if f["area"] == "tilt"]
    assert sum(len(fact["parts"]) for fact in facts) == len(flagged) > len(facts) > 4
    assert opened(page, audit)
    assert page.inner_text("[data-testid=detail]").startswith(f"{len(flagged)} of ")
    rail = page.get_by_role("navigation", name="Areas").get_by_role("link", name=re.compile("Tilt"))
    expect(rail).to_contain_text(f"{len(facts)} open findings")
    mine = page.get_by_role("region", name="Findings of this area")
    mine.get_by_role("button", name=re.compile(f"^{len(facts) - 4} more finding")).click()
    expect(mine.get_by_role("listitem")).to_have_count(len(facts))
    first = mine.get_by_role("listitem").first
    name, said = first.get_attribute("data-finding"), first.locator("p").first.inner_text().replace("⚑", "").strip()
    try:
        first.get_by_role("combobox").select_option("accepted")
        expect(first).to_contain_text("once you say why")
        expect(rail).to_contain_text(f"{len(facts)} open findings")  # nothing is accepted without a reason
        first.get_by_placeholder("Reason").fill("Ferries were cut off in the test weeks.")
        first.get_by_placeholder("Reason").blur()
        expect(rail).to_contain_text(f"{len(facts) - 1} open findings")
        accessible(page)
        report = talk.wait(client, client.post(f"/api/audits/{audit['id']}/reports", json=context).json())
        html = client.get(f"/api/audits/{audit['id']}/reports/{report['result']['number']}").text
        line = next(line for line in unescape(html).splitlines() if said in line and "Adjusted p" in line)
        assert "Decision: accepted; reason: Ferries were cut off in the test weeks. <a" in line
        flagged = re.search('<section data-piece="flagged".*?</section>', html, re.S)[0]
        assert flagged.count("<b>Severity ") == len(facts)
    finally:
        client.put(f"/api/audits/{audit['id']}/findings", json={"finding": name, "decision": "open"})


def test_a_group_is_read_by_every_sheet(page, audit, client, context):
    opened(page, audit)
    page.locator("[data-mark='home_area|outer isles|selection_rate']").click()
    page.get_by_role("dialog", name="Rows of outer isles").get_by_role("button", name="Read every sheet on these rows").click()
    expect(page.get_by_test_id("reading")).to_contain_text("In outer isles: ")
    expect(page.get_by_role("button", name="Rows: held-out claims in outer isles")).to_be_visible()
    page.keyboard.press("1")
    within = context | {"segment": {"name": "outer isles", "conditions": [{"column": "home_area", "levels": ["outer isles"]}]}}
    found = talk.read(client, audit["id"], "performance", within)
    assert found["rows"] == 691
    expect(page.get_by_test_id("reading")).to_have_text("".join(span["text"] for span in found["reading"]["headline"]))
    page.reload()
    expect(page.get_by_test_id("reading")).to_contain_text("In outer isles: ")
    accessible(page)
    page.get_by_role("button", name="Rows: held-out claims in outer isles").click()
    page.get_by_role("menuitemradio", name="held-out claims, 3,600").click()
    expect(page.get_by_test_id("reading")).to_contain_text("of 3,600 held-out claims")
    assert "segment" not in page.url


def test_a_saved_segment_is_compared_and_read_and_groups_become_segments(page, audit, restored, client):
    heavy = {"name": "very heavy", "conditions": [{"column": "parcel_weight", "over": 20}]}
    assert client.put(f"{restored}/meaning/comparisons", json={"segments": [heavy]}).status_code == 200
    opened(page, audit)
    expect(page.locator("[data-mark='(segments)|very heavy|selection_rate']")).to_be_visible()
    page.get_by_role("button", name="What is compared").click()
    panel = page.get_by_role("dialog", name="What is compared")
    expect(panel).to_contain_text("Segments are compared too, each against all others: 1 segment,")
    accessible(page)
    page.keyboard.press("Escape")
    page.get_by_role("button", name=re.compile("^Rows: ")).click()
    page.get_by_role("menuitemradio", name="held-out claims in very heavy").click()
    expect(page.get_by_test_id("reading")).to_contain_text("In very heavy: ")
    assert "segment=very+heavy" in page.url
    opened(page, audit)
    page.locator("[data-mark='age_band|70 and over|selection_rate']").click()
    card = page.get_by_role("dialog", name="Rows of 70 and over")
    card.get_by_role("link", name="Make a segment of it").click()
    expect(page.get_by_label("Conditions, typed")).to_have_value('age_band="70 and over"')
    expect(page.get_by_role("list", name="Sizes")).to_contain_text("hold-out: ")


def test_a_threshold_moves_by_keys_and_by_dragging_without_asking_the_server(page, audit):
    opened(page, audit, "?part=thresholds")
    live = page.get_by_test_id("live-cost")
    before = live.inner_text()
    asked = []
    page.on("request", lambda request: asked.append(request.url) if "/api/" in request.url and "/readings/" in request.url else None)
    slider = page.locator("[data-threshold='outer isles']")
    slider.focus()
    for key in ("ArrowRight", "Shift+ArrowRight", "PageUp"):
        slider.press(key)
    expect(slider).to_have_attribute("aria-valuenow", "0.561")
    expect(page.locator("[data-threshold='uplands']")).to_have_attribute("aria-valuenow", "0.561")  # one for all
    assert live.inner_text() != before
    page.get_by_label("one threshold for all").uncheck()
    bars = page.locator("svg[aria-label='Scores of outer isles']")
    bars.scroll_into_view_if_needed()
    box = bars.bounding_box()
    page.mouse.move(box["x"] + 0.56 * box["width"], box["y"] + 40)
    page.mouse.down()
    page.mouse.move(box["x"] + 0.3 * box["width"], box["y"] + 40, steps=12)
    page.mouse.up()
    moved = float(slider.get_attribute("aria-valuenow"))
    assert moved < 0.4
    expect(page.locator("[data-threshold='uplands']")).to_have_attribute("aria-valuenow", "0.561")
    expect(live).to_contain_text("gain")
    assert asked == []
    slider.press("Home")
    expect(page.locator("[data-rates='outer isles']")).to_contain_text("selected 100.0% · TPR 100.0% · FPR 100.0%")


def test_what_the_page_counts_is_what_the_server_solved(page, audit, client, context):
    found = talk.read(client, audit["id"], "thresholds", context, {"false_positive": 2})["result"]
    opened(page, audit, "?part=thresholds&fp=2")
    for one in found["settings"]:
        page.get_by_role("button", name=f"Set the thresholds: {one['name']}", exact=True).click()
        live = page.get_by_test_id("live-cost")
        expect(live).to_contain_text(f"mean cost {one['cost']:.4f}")
        expect(live).to_contain_text(f"accuracy {one['accuracy'] * 100:.1f}%")
        expect(live).to_contain_text(f"{one['gain']:,} gain, {one['lose']:,} lose")
    assert page.locator("[data-now]").count() == 1


def test_thresholds_are_kept_as_the_decision_rule_and_read_everywhere(page, audit, restored):
    opened(page, audit, "?part=thresholds&th=0.5,0.5,0.25")
    expect(page.get_by_text("in some settings and places that is unlawful")).to_be_visible()
    page.get_by_label("Who decides this").fill("A. Reader")
    page.get_by_role("button", name="Decide by these thresholds").click()
    expect(page.get_by_role("button", name="Back to the audit's own threshold")).to_be_visible()
    page.wait_for_function("() => document.querySelector('[data-threshold=\"outer isles\"]')?.getAttribute('aria-valuenow') === '0.25'")
    part(page, "Groups")
    page.wait_for_function("() => { const found = document.querySelector('[data-testid=reading]')?.innerText; return found && !found.includes('0.52 times'); }")
    rate = page.locator("[data-mark='home_area|outer isles|selection_rate']")
    assert rate.get_attribute("data-status") != "flagged"


def test_a_second_version_stands_beside_every_level(page, audit, context, client):
    other = client.get(f"/api/audits/{audit['id']}").json()["models"][1]["id"]
    opened(page, audit, f"?beside=model:{other}")
    expect(page.get_by_test_id("costs")).to_contain_text("Accuracy 74.0% against 72.6%")
    assert page.locator("[data-beside]").count() > 20
    assert "gaps are wider" in page.inner_text("[data-testid=detail]")
    expect(page.get_by_role("button", name="the gap is")).to_be_visible()


@pytest.mark.parametrize(("title", "says"), [("Skerry Post, days to settle", "days more than"), ("Skerry Post, routing desk", "comparison")])
def test_numbers_and_classes_are_compared_too(page, client, audit, title, says):
    other = next(one for one in client.get("/api/audits").json() if one["title"] == title)
    assert says in opened(page, other)
    assert page.get_by_role("tab", name="Thresholds").count() == 0
    accessible(page)
    assert reading(page) != part(page, "One group")
    assert "given" in part(page, "Given other columns").lower()


def test_thresholds_stay_usable_in_narrow_windows(page, audit):
    opened(page, audit, "?part=thresholds")
    for width, value in ((1024, "0.499"), (390, "0.498")):
        page.set_viewport_size({"width": width, "height": 800})
        slider = page.locator("[data-threshold='outer isles']")
        slider.scroll_into_view_if_needed()
        slider.press("ArrowLeft")
        expect(slider).to_have_attribute("aria-valuenow", value)
        assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
