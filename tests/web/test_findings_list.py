"""The list of findings: found, filtered, decided, talked about, taken apart, and raised by hand."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

from tests.api import talk
from tests.web.conftest import SIZE, accessible, fits, reading


@pytest.fixture
def findings(page, client, audit, context):
    """The list of the demo audit, with its groups compared; what a test decides is open again afterwards."""
    talk.read(client, audit["id"], "tilt", context)
    page.goto(f"/audits/{audit['id']}/report")
    reading(page)
    yield client.post(f"/api/audits/{audit['id']}/findings", json=context).json()
    for one in client.post(f"/api/audits/{audit['id']}/findings", json=context).json():
        if one["standing"]["decision"] != "open":
            client.put(f"/api/audits/{audit['id']}/findings", json={"finding": one["name"], "decision": "open"})


def test_all_findings_are_listed_by_severity_filtered_and_counted(page, findings):
    lines = page.locator("[data-finding]")
    expect(lines).to_have_count(len(findings))
    still = [one for one in findings if one["standing"]["decision"] == "open"]
    assert reading(page).startswith(f"{len(still)} of {len(findings)} findings are open; by severity ")
    high = [one["name"] for one in findings if one["severity"] == "high"]
    assert {lines.nth(i).get_attribute("data-finding") for i in range(len(high))} == set(high)
    page.get_by_label("Severity").select_option("high")
    expect(lines).to_have_count(len(high))
    expect(page.get_by_test_id("detail")).to_contain_text(f"{len(high)} of {len(findings)} are shown")
    assert "severity=high" in page.url
    page.get_by_label("Search findings").fill("no such thing")
    expect(lines).to_have_count(0)
    page.get_by_label("Search findings").fill("")
    page.get_by_label("Severity").select_option("")
    expect(lines).to_have_count(len(findings))
    accessible(page)
    fits(page, 390)


def test_a_finding_gets_an_owner_a_date_and_a_history_field_after_field(page, client, audit, context, findings):
    line = page.locator("[data-finding]").first
    name = line.get_attribute("data-finding")
    # as fast as somebody types: no field waits for the one before it to be written
    line.get_by_role("combobox").select_option("to mend")
    line.get_by_placeholder("who sees to it").fill("A. Reader")
    line.get_by_label(re.compile("^Due date of")).fill("2027-02-03")
    line.get_by_placeholder("Reason").fill("The routes are counted again.")
    line.get_by_placeholder("Reason").blur()
    line.get_by_role("button", name=re.compile("in its history")).click()
    history = line.get_by_role("region", name=re.compile("^History of"))
    expect(history).to_contain_text("because: The routes are counted again.")
    history.get_by_role("textbox").fill("Asked the desk.")
    history.get_by_role("button", name="Say").click()
    expect(history.get_by_role("listitem").last).to_contain_text("somebody unnamed: Asked the desk.")
    expect(page.get_by_role("alert")).to_have_count(0)
    accessible(page)
    found = client.post(f"/api/audits/{audit['id']}/findings", json=context).json()
    standing = next(one for one in found if one["name"] == name)["standing"]
    wanted = {"decision": "to mend", "reason": "The routes are counted again.", "version": ""}
    assert standing == wanted | {"owner": "A. Reader", "due": "2027-02-03"}
    # what a decision rests on is not emptied while it stands, and no date is of another age
    line.get_by_role("combobox").select_option("accepted")
    line.get_by_placeholder("Reason").fill("")
    line.get_by_label(re.compile("^Due date of")).fill("0002-02-03")
    line.get_by_label(re.compile("^Due date of")).blur()
    expect(line.get_by_placeholder("Reason")).to_have_value("The routes are counted again.")
    expect(line.get_by_label(re.compile("^Due date of"))).to_have_value("2027-02-03")
    page.reload()
    line = page.locator(f"[data-finding={name!r}]")
    expect(line.get_by_placeholder("who sees to it")).to_have_value("A. Reader")


def test_what_was_decided_elsewhere_is_told_and_shown(page, client, audit, findings):
    line = page.locator("[data-finding]").last
    name = line.get_attribute("data-finding")
    line = page.locator(f"[data-finding={name!r}]")
    page.allowed_errors.append("409")

    other = [{"finding": name, "decision": "watched", "owner": "B."}]

    def meanwhile(route):
        """Another hand is quicker by as long as a request takes: a page hears of everything earlier."""
        if route.request.method == "PUT" and other:
            client.put(f"/api/audits/{audit['id']}/findings", json=other.pop())
        route.continue_()

    page.route("**/findings", meanwhile)
    line.get_by_role("combobox").select_option("to mend")
    expect(line.get_by_role("alert")).to_contain_text("decided in another window meanwhile by somebody unnamed: watched")
    expect(line.get_by_role("combobox")).to_have_value("watched")
    line.get_by_role("combobox").select_option("to mend")
    expect(line.get_by_placeholder("who sees to it")).to_have_value("B.")
    expect(line.get_by_role("alert")).to_have_count(0)
    page.unroute("**/findings")


def test_parts_are_taken_apart_and_put_back(page, findings):
    whole = next(one for one in findings if len(one["parts"]) > 2)
    line = page.locator(f"[data-finding={whole['name']!r}]")
    line.get_by_role("button", name=re.compile(f"^{len(whole['parts'])} parts")).click()
    parts = line.get_by_role("list", name="Parts").get_by_role("listitem")
    expect(parts).to_have_count(len(whole["parts"]))
    line.get_by_role("button", name=re.compile("^make it a finding of its own")).last.click()
    expect(parts).to_have_count(len(whole["parts"]) - 1)
    alone = page.locator(f"[data-finding={whole['parts'][-1]['name']!r}]")
    alone.get_by_role("button", name="Put back with what it was gathered with").click()
    expect(parts).to_have_count(len(whole["parts"]))


def test_a_finding_is_raised_by_hand_on_a_figure(page, client, audit):
    own = client.post(f"/api/audits/{audit['id']}/duplicate").json()["id"]
    context = {"model": client.get(f"/api/audits/{own}").json()["checked_model"]}
    before = len(client.post(f"/api/audits/{own}/findings", json=context).json())
    page.goto(f"/audits/{own}/response?feature=missed_scans")
    reading(page)
    dossier = page.get_by_role("complementary", name="Dossier")
    dossier.get_by_role("button", name="Raise a finding on it").click()
    dossier.get_by_label(re.compile("^What is found in")).fill("Scans come from <ferries>.")
    dossier.get_by_role("button", name="Raise it").click()
    expect(dossier.locator("[data-finding]")).to_contain_text("Scans come from <ferries>.")
    accessible(page)
    page.keyboard.press("9")
    expect(page.locator("[data-finding]")).to_have_count(before + 1)
    mine = page.locator("[data-finding]", has_text="Scans come from <ferries>.")
    expect(mine).to_contain_text("raised by somebody unnamed")
    page.goto("/")  # who looks at an audit goes on asking for it
    client.delete(f"/api/audits/{own}?for_good=true")


def test_what_was_decided_on_another_version_is_shown_measured_again_until_it_was_looked_at(page, client, audit, context, findings):
    other = audit["models"][1]
    at = f"/api/audits/{audit['id']}/findings"
    one = next(one for one in findings if one["group"] == "outer isles" and one["columns"] == ["home_area"])
    body = {"finding": one["name"], "evidence": one["evidence"], "decision": "accepted", "reason": "Known <b>since</b> spring."}
    assert client.put(at, json=body | {"author": "Ada"}).status_code == 200
    page.goto(f"/audits/{audit['id']}/report?model={other['id']}")
    reading(page)
    expect(page.get_by_role("region", name=re.compile(r"^Decided before, measured again: look at \d+ findings?$"))).to_be_visible()
    more = page.get_by_role("button", name=re.compile(r"^\d+ more to look at$"))
    if more.count():  # what other tests decided
        more.click()
    before = page.locator("[data-decided]").filter(has_text="Outer isles claims (home area)")
    expect(before).to_contain_text("accepted by Ada on gradient trees v3, because: Known <b>since</b> spring.")
    expect(before).to_contain_text(re.compile(r"selection rate of outer isles: It .*: the ratio is \d\.\d\d now and was \d\.\d\d"))
    accessible(page)
    fits(page, 390)
    page.set_viewport_size(SIZE)
    before.get_by_role("button", name="Looked at: it is still “accepted”").click()
    expect(before).to_be_hidden()
    line = page.locator("[data-finding]").filter(has_text="Outer isles claims (home area)")
    expect(line.get_by_role("combobox")).to_have_value("accepted")
    name = line.get_attribute("data-finding")
    client.put(at, json={"finding": name, "decision": "open"})
