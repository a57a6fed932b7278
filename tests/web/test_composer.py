"""The report is composed in a real browser: moved, named, written with numbers, looked at, written down and signed."""

from __future__ import annotations

import contextlib
import json
import re

import pytest
from playwright.sync_api import expect

from tests.web.conftest import SIZE, accessible, fits, legible_in_the_dark, reading
from zerotilt.store.database import database
from zerotilt.store.files import FileStore
from zerotilt.store.records import Report


@pytest.fixture
def composer(page, client, audit):
    """The composer with its page there; the document is as it was at first once the test is over."""
    page.goto(f"/audits/{audit['id']}/report?part=compose")
    page.get_by_test_id("page").wait_for()
    expect(inside(page).locator("[data-piece=short]")).to_be_visible()
    yield page
    page.goto("/api/health")
    home = f"/api/audits/{audit['id']}/draft"
    now = client.get(home).json()
    first = [{"id": one["name"]} for one in now["sections"]]
    client.put(home, json={"document": {"pieces": first}, "read": now["number"]})


def inside(page):
    return page.frame_locator("[data-testid=page]")


def order(page) -> list[str]:
    return inside(page).locator("[data-piece]").evaluate_all("all => all.map(one => one.dataset.piece)")


def write(page, heading: str, text: str):
    line = page.get_by_role("listitem").filter(has=page.get_by_label(f"Heading of {heading}", exact=True))
    line.get_by_role("button", name=re.compile(f"in {heading}|the text of {heading}")).click()
    field = page.get_by_label(f"Text of {heading}")
    field.fill(text)
    return field


def test_what_is_written_moved_and_left_out_is_seen_at_once_kept_and_undone(composer, client, audit):
    page = composer
    missing = page.get_by_role("list", name="Missing").get_by_role("listitem")
    expect(missing.filter(has_text="Purpose and use: nobody has written")).to_have_count(1)
    field = write(page, "Purpose and use", "The desk settles claims. Right: ")
    field.press("End")
    field.press_sequentially("@accur held-out")
    option = page.get_by_role("option", name=re.compile("held-out . accuracy"))
    expect(option).to_have_attribute("aria-selected", "true")
    field.press("Enter")
    accessible(page)
    expect(field).to_have_value("The desk settles claims. Right: @{performance / held-out / accuracy}")
    field.press_sequentially(", <b>.")
    purpose = inside(page).locator("[data-piece=purpose]")
    expect(purpose).to_contain_text(re.compile(r"Right: \d\d\.\d%, <b>\."))
    expect(missing.filter(has_text="Purpose and use: nobody has written")).to_have_count(0)
    page.get_by_label("Heading of Data", exact=True).fill("Where rows come from")
    expect(inside(page).locator("[data-piece=data] h2")).to_have_text("Where rows come from")
    page.get_by_role("button", name="Move Where rows come from up").click()
    assert order(page)[:3] == ["short", "data", "purpose"]
    page.get_by_label("Heading of Where rows come from").press("Alt+ArrowDown")
    page.get_by_role("checkbox", name="Model in the full report").uncheck()
    expect(inside(page).locator("[data-piece=model]")).to_be_hidden()
    page.get_by_role("button", name="Add a text of your own").click()
    page.get_by_label("Text of your text").fill("A last word.")
    expect(inside(page).get_by_text("A last word.")).to_be_visible()
    expect(page.get_by_text("saved", exact=True)).to_be_visible()
    kept = client.get(f"/api/audits/{audit['id']}/draft").json()["document"]["pieces"]
    assert kept[-1]["text"] == "A last word." and next(p for p in kept if p["id"] == "model")["readers"] == ["public"]
    page.get_by_role("button", name="Undo").click()  # the text
    page.get_by_role("button", name="Undo").click()  # the piece
    expect(inside(page).get_by_text("A last word.")).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(inside(page).locator("[data-piece=model]")).to_be_visible()
    page.get_by_role("button", name="Redo").click()
    expect(inside(page).locator("[data-piece=model]")).to_be_hidden()
    page.reload()
    expect(inside(page).locator("[data-piece=purpose]")).to_contain_text("Right: ")
    expect(page.get_by_label("Heading of Where rows come from")).to_be_visible()
    fits(page, 390)
    legible_in_the_dark(page)


def test_the_public_page_leaves_single_rows_out_and_is_made_again_for_another_least_group(composer):
    page = composer
    page.get_by_role("radio", name="the public report").click()
    expect(inside(page).get_by_text("No group of fewer than 30 claims is printed here")).to_be_visible()
    assert {"ladder", "response", "kept", "appendix"}.isdisjoint(order(page))
    expect(page.get_by_role("checkbox", name="Example cases in the public report")).to_be_disabled()
    few = inside(page).locator("[data-piece=data]").get_by_text("helped by another: yes")
    expect(few).to_be_visible()
    least = page.get_by_label("Smallest group that is printed")
    least.fill("300")
    least.blur()
    expect(inside(page).get_by_text("No group of fewer than 300 claims is printed here")).to_be_visible()
    expect(inside(page).get_by_text("helped by another: yes")).to_have_count(0)
    assert order(page)[0] == "short"
    least.fill("0")
    least.blur()
    expect(least).to_have_value("300")


def test_what_another_window_wrote_meanwhile_is_put_together_with_what_is_typed_here(composer, window, client, audit):
    page = composer
    other = window.new_page()
    other.goto(page.url)
    expect(other.get_by_label("Heading of Data", exact=True)).to_be_visible()
    write(page, "Model", "Made in spring.")
    expect(page.get_by_text("saved", exact=True)).to_be_visible()
    # what was saved stands there at once; what is typed meanwhile is put together with what comes in
    expect(inside(other).locator("[data-piece=model] > .prose")).to_have_text("Made in spring.")
    home = f"/api/audits/{audit['id']}/draft"
    now = client.get(home).json()
    pieces = [one | ({"text": "Made in winter."} if one["id"] == "model" else {}) for one in now["document"]["pieces"]]
    body = {"document": now["document"] | {"pieces": pieces}, "read": now["number"], "author": "Bo"}
    sent = []
    other.route("**/draft", lambda route: sent.append(route) if route.request.method == "PUT" else route.continue_())
    write(other, "Model", "Made in autumn.")
    while not sent:  # it is on its way
        other.wait_for_timeout(50)
    assert client.put(home, json=body).status_code == 200
    sent[0].continue_()
    other.unroute("**/draft")
    expect(other.get_by_text("Somebody else is writing in this report, too")).to_be_visible()
    expect(inside(other).locator("[data-piece=model] > .prose")).to_contain_text("Made in winter.")
    expect(inside(other).get_by_text("Made in autumn.")).to_be_visible()
    write(other, "Data", "From the ferries.")
    expect(other.get_by_text("saved", exact=True)).to_be_visible()
    other.close()
    page.reload()
    for said in ("Made in winter.", "Made in autumn.", "From the ferries."):
        expect(inside(page).get_by_text(said)).to_be_visible()


@contextlib.contextmanager
def later_report(running, audit: str, number: int):
    """As if a report had been written since, with one number and one sentence otherwise."""
    files = FileStore(running.home.files)
    with database.connection_context():
        before = Report.get((Report.audit == audit) & (Report.number == number))
        told = json.loads(files.verified(before.json_digest).read_bytes())
        one = told["performance"]["accuracy"]
        told["performance"]["accuracy"] = one | {name: one[name] - 0.2 for name in ("value", "low", "high")}
        html = files.verified(before.html_digest).read_text()
        html = html.replace("</main>", "<section data-piece='x'><p>Nobody has &lt;b&gt;read&lt;/b&gt; this yet.</p></section></main>")
        made = [files.put(html.encode()), files.put(json.dumps(told).encode())]
        later = Report.create(
            audit=audit, number=number + 1, html_digest=made[0], json_digest=made[1], flagged=before.flagged, tested=before.tested
        )
    try:
        yield number + 1
    finally:
        with database.connection_context():
            later.delete_instance()
            for digest in made:
                files.discard(digest)


def test_a_report_is_written_opened_and_signed(composer, client, audit, running):
    page = composer
    page.get_by_label("Title").fill("Claims, looked at")
    page.get_by_role("button", name="Write the report").click()
    page.get_by_role("button", name="Read and sign it").click()
    assert "nobody has signed it" in reading(page)
    newest = client.get(f"/api/audits/{audit['id']}/reports").json()[-1]
    line = page.locator(f"[data-report='{newest['number']}']")
    expect(line).to_contain_text("Claims, looked at")
    line.get_by_role("button", name=f"Sign report {newest['number']}").click()
    page.get_by_label("Your name").fill("Ada Tarn")
    expect(page.get_by_role("button", name=re.compile("now$"))).to_be_disabled()
    page.get_by_label("Your role").fill("reviewer")
    page.get_by_label("Note (may be empty)").fill("Gaps are <named>.")
    page.get_by_role("button", name=re.compile("now$")).click()
    expect(line).to_contain_text("Signed by Ada Tarn, reviewer")
    expect(line).to_contain_text("Gaps are <named>.")
    assert "1 person has signed it" in reading(page)
    with page.expect_download() as download:
        page.get_by_role("button", name=f"Summary as PDF, of report {newest['number']}").click()
    assert download.value.path().read_bytes()[:5] == b"%PDF-"
    accessible(page)
    fits(page, 390)
    page.set_viewport_size(SIZE)
    with later_report(running, audit["id"], newest["number"]) as number:
        page.reload()
        line = page.locator(f"[data-report='{number}']")
        line.get_by_role("button", name="What changed").click()
        changed = page.get_by_role("region", name=f"What changed in report {number}")
        expect(changed).to_contain_text("1 number changed, 1 of them beyond chance")
        expect(changed).to_contain_text("performance / accuracy:")
        expect(changed).to_contain_text("1 sentence is new, gone or otherwise.")
        expect(changed.locator("ins")).to_have_text("Nobody has <b>read</b> this yet.")
        accessible(page)
    for name in ("summary.html", "public.html"):
        assert client.get(f"/api/audits/{audit['id']}/reports/{newest['number']}/{name}").status_code == 200
