"""Real Chromium on the running application; any console error fails the test."""

from __future__ import annotations

import contextlib
import json
import re
from collections.abc import Sequence
from pathlib import Path

import httpx
import peewee
import pytest
from playwright.sync_api import Error, Page, expect, sync_playwright
from tests.api import talk

from zerotilt.store.database import database
from zerotilt.store.records import ACTIVE, Task

PROJECT = Path(__file__).parents[2]
AXE = PROJECT / "web/node_modules/axe-core/axe.min.js"
OPTIONS = [
    "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
    "--disable-background-networking", "--disable-component-update", "--disable-sync",
    "--process-per-site",  # a process for each page costs more than most pages
]  # fmt: skip

SIZE = {"width": 1280, "height": 800}

expect.set_options(timeout=30_000)
"""Two files of tests run at once, on machines that may be slow; what is waited for is not how long it takes."""


@pytest.fixture(scope="session")
def browser():
    with sync_playwright() as playwright:
        found = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=OPTIONS)
        yield found
        found.close()


@pytest.fixture(scope="session")
def window(browser, running):
    """One window for all tests: to open one takes more than a page's whole reading."""
    found = browser.new_context(base_url=running.url, viewport=SIZE, accept_downloads=True)
    talk.let_in(found, running.url)
    found.set_default_timeout(60_000)
    yield found
    found.close()


@pytest.fixture
def page(window, running):
    """A page that remembers nothing of the test before, in the tab that it left: a new one is a process of its own."""
    found = window.pages[0] if window.pages else window.new_page()
    errors: list[str] = []
    refused: list[str] = []  # which request it was: the console names none
    heard = {
        "console": lambda message: errors.append(message.text) if message.type == "error" else None,
        "pageerror": lambda error: errors.append(str(error)),
        "response": lambda answer: (
            refused.append(f"{answer.status} {answer.request.method} {answer.url} {answer.request.post_data or ''}"[:600])
            if answer.status >= 400
            else None
        ),
    }
    for event, note in heard.items():
        found.on(event, note)
    found.allowed_errors = []
    yield found
    for other in window.pages[1:]:
        other.close()
    if not found.is_closed():
        with contextlib.suppress(Error):  # a page that shows nothing keeps nothing
            found.evaluate("localStorage.clear(); sessionStorage.clear()")
        found.goto("/api/health")  # nothing of it goes on; a blank page would end the process
        found.set_viewport_size(SIZE)
        found.emulate_media(color_scheme="light")
        for event, note in heard.items():
            found.remove_listener(event, note)
    nobody_waits(running)
    left = [error for error in errors if not any(allowed in error for allowed in found.allowed_errors)]
    assert left == [], refused


def pytest_runtest_teardown(item) -> None:
    """The page is left before what it shows is taken away: it would hear of that at once, and ask for what is gone."""
    page = getattr(item, "funcargs", {}).get("page")
    if isinstance(page, Page) and not page.is_closed():
        with contextlib.suppress(Error):
            page.goto("/api/health")


def nobody_waits(running) -> None:
    """What a page asked for and nobody will look at takes no time from the next test."""
    with contextlib.suppress(peewee.OperationalError, httpx.TransportError):  # a test may have left all of it down
        with database.connection_context():
            left = list(Task.select(Task.id, Task.audit).where(Task.state << ACTIVE).tuples())
        with talk.to(running.url) as client:
            for task, audit in left:
                told = client.post(f"/api/audits/{audit}/tasks/{task}/cancel")
                if told.status_code == 200:
                    talk.wait(client, told.json())


def accessible(page: Page, rules: Sequence[str] = ("wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa")) -> None:
    """No violation of WCAG 2.2 AA that axe can find."""
    if not page.evaluate("'axe' in window"):
        # evaluated, not added as an element: the page's own policy allows no inline script
        page.evaluate(AXE.read_text())
    found = page.evaluate(
        f"axe.run(document, {{runOnly: {json.dumps(rules)}, resultTypes: ['violations'], selectors: false, preload: false}})"
        ".then(r => r.violations.map(v => ({id: v.id, help: v.help, nodes: v.nodes.slice(0, 3).map(n => n.html)})))"
    )
    assert found == [], json.dumps(found, indent=1)


def legible_in_the_dark(page: Page) -> None:
    """The same contrast where people like it dark; what else axe finds does not hang on colours."""
    page.emulate_media(color_scheme="dark")
    try:
        accessible(page, ["color-contrast"])
    finally:
        page.emulate_media(color_scheme="light")


def fits(page: Page, width: int) -> None:
    """In a window of this width figures scroll, not the page."""
    page.set_viewport_size(SIZE | {"width": width})
    assert reading(page)
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
    assert page.evaluate("document.documentElement.scrollHeight <= window.innerHeight || !document.getElementById('sheet')")


def choose(page: Page, menu: str, choice: str) -> None:
    """``menu``: the beginning of its name; one of many is found by typing."""
    page.get_by_role("button", name=re.compile(f"^{menu}")).click()
    find = page.get_by_role("combobox", name=re.compile("^Find in "))
    listed = page.get_by_role("menuitemradio", name=choice, exact=True)
    listed.or_(find).first.wait_for()
    if find.count():
        find.fill(choice)
        listed = page.get_by_role("option", name=choice, exact=True)
    listed.click()


def report_written(page: Page) -> None:
    """From any sheet: write the report, and open what was written."""
    page.keyboard.press("9")
    # from Compose itself the key leads to the first part: a tab pressed before that would be left again
    expect(page.get_by_role("tab", name="Findings")).to_have_attribute("aria-selected", "true")
    page.get_by_role("tab", name="Compose").click()
    page.get_by_role("button", name="Write the report").click()
    page.get_by_role("button", name="Read and sign it").click()


def reading(page: Page) -> str:
    page.wait_for_selector("[data-testid=reading]")
    page.wait_for_selector("[aria-busy=true]", state="detached")
    return page.inner_text("[data-testid=reading]")
