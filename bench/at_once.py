"""What a person waits for, clicking: the demo in Chromium, evidence emptied before, one part after the other.

./zt bench once [seconds between the parts]
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from pathlib import Path

from playwright.sync_api import Browser, Page, sync_playwright
from tests.api import talk

from zerotilt.services.home import Home
from zerotilt.services.supervisor import Supervisor
from zerotilt.store.database import database
from zerotilt.store.records import EvidenceRow, Kept, Task

BROWSER = [
    "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
    "--disable-background-networking", "--disable-component-update", "--disable-sync",
]  # fmt: skip
PARTS = [
    ("Drivers", "Ranking"), ("Drivers", "Methods side by side"), ("Drivers", "By group"), ("Drivers", "Spread"),
    ("Response", "One feature"), ("Response", "Two features"), ("Response", "Interactions"),
    ("Tilt", "Groups"), ("Tilt", "Given other columns"), ("Tilt", "Crossings"), ("Tilt", "Thresholds"),
]  # fmt: skip
LIMITS = {
    "median, first figure": (0.5, "s"),
    "slowest, first figure": (1.5, "s"),
    "everything complete": (30.0, "s"),
    "known already": (0.15, "s"),
    "new settings, 95th percentile": (0.25, "s"),
    "script of a first visit": (180.0, "kB"),
    "script of a first visit to Tilt": (180.0, "kB"),
}
SCRIPT = """() => performance.getEntriesByType("resource")
  .filter((one) => one.name.endsWith(".js") && one.startTime < performance.timing.loadEventEnd
    - performance.timing.navigationStart + 1400).reduce((sum, one) => sum + one.encodedBodySize, 0) / 1000"""
WHOLE = """() => {
  const main = document.querySelector("main");
  return !main.querySelector("[role=status][aria-label], [aria-busy=true]")
    && !/A first look|Reading …/.test(main.innerText);
}"""


LISTEN = """() => {
  window.clicked = 0;
  addEventListener("click", () => { window.clicked ||= performance.now(); }, true);
}"""


def until(page: Page, holds: str, given: str = "") -> float:
    """Seconds from the click until something holds of the page, by the page's own clock."""
    asked = f"(name) => ({holds}) && [performance.now() - window.clicked, window.clicked = 0][0] / 1000"
    return float(page.wait_for_function(asked, arg=given).json_value())


def listening(page: Page) -> None:
    """From here on the page knows when it was clicked; what drives the browser takes a tenth of a second to do so."""
    page.evaluate(LISTEN)


def opened(page: Page, area: str, part: str) -> float:
    """Go to a part by clicking, and wait for its figure; seconds since the click."""
    page.evaluate("() => document.querySelectorAll('main figure').forEach((one) => one.setAttribute('data-old', ''))")
    if f"/{area.lower()}" not in page.url:
        page.get_by_role("navigation", name="Areas").get_by_role("link", name=area).click()
    tab = page.get_by_role("tab", name=part, exact=True)
    if tab.get_attribute("data-state") != "active":
        tab.click()
    return until(page, "document.querySelector('main figure:not([data-old]) svg')")


def weighed(browser: Browser, url: str, path: str) -> float:
    """Script that a first visit to a page needs, compressed, in kB; what is fetched later for other pages left out."""
    page = talk.let_in(browser.new_context(base_url=url), url).new_page()
    page.goto(path, wait_until="load")
    page.locator("main h1, main figure svg").first.wait_for()
    found = float(page.evaluate(SCRIPT))
    page.close()
    return found


def changed(page: Page, audit: str) -> list[float]:
    """Click to drawn for settings that nobody has asked for yet: other features, another group, other cases' ladders."""
    took = []
    page.goto(f"/audits/{audit}/response")
    page.locator("main figure svg").first.wait_for()
    listening(page)
    for feature in ("parcel weight", "days in transit", "missed scans", "ferry legs", "account age", "message length"):
        page.get_by_role("button", name="Feature: ").click()
        choice = page.get_by_role("menuitemradio", name=feature)
        choice.wait_for()
        page.evaluate("() => { window.clicked = 0; }")
        choice.click()
        label = "document.querySelector('main figure')?.getAttribute('aria-label')?.toLowerCase()"
        took.append(until(page, f"{label}?.includes(name)", feature))
    page.goto(f"/audits/{audit}/cases")
    page.locator("main figure svg").first.wait_for()
    listening(page)
    for place in range(1, 9):
        row = page.locator("main tbody tr").nth(place).get_by_role("button").first
        row.wait_for()
        name = row.inner_text()
        row.click()
        took.append(until(page, "document.querySelector('[data-testid=reading]')?.innerText.includes(name)", name))
    return took


def main() -> None:
    apart = float(sys.argv[2]) if len(sys.argv) > 2 and sys.argv[2] != "-v" else 2.0
    with tempfile.TemporaryDirectory(prefix="zt-bench-") as folder:
        Path(folder).chmod(0o755)
        supervisor = Supervisor(Home(Path(folder)))
        supervisor.start()
        talk.KEYS[supervisor.url] = supervisor.home.key
        try:
            supervisor.load_demo()
            demo = next(one for one in supervisor.ask("/api/audits") if one["title"] == "Skerry Post claims")
            for one in supervisor.ask("/api/audits"):
                while any(
                    t["state"] in ("queued", "running") for t in supervisor.ask(f"/api/audits/{one['id']}/tasks")
                ):
                    time.sleep(0.2)
            with database.connection_context():
                Kept.delete().execute()
                EvidenceRow.delete().execute()
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=BROWSER)
                page = talk.let_in(
                    browser.new_context(base_url=supervisor.url, viewport={"width": 1280, "height": 800}),
                    supervisor.url,
                ).new_page()
                page.goto(f"/audits/{demo['id']}/intake")
                page.get_by_role("navigation", name="Areas").wait_for()
                time.sleep(3)
                listening(page)
                firsts, began = [], time.perf_counter()
                for area, part in PARTS:
                    took = opened(page, area, part)
                    firsts.append(took)
                    print(f"{area:10s} {part:20s} first figure {took:6.2f} s", flush=True)
                    time.sleep(max(0.0, apart - took))
                for area, part in PARTS:
                    opened(page, area, part)
                    page.wait_for_function(WHOLE, timeout=180_000)
                complete = time.perf_counter() - began - apart * len(PARTS)
                again = []
                for area, part in PARTS:
                    again.append(opened(page, area, part))
                new = changed(page, demo["id"])
                weights = [weighed(browser, supervisor.url, one) for one in ("/", f"/audits/{demo['id']}/tilt")]
                browser.close()
            measured = {
                "median, first figure": statistics.median(firsts),
                "slowest, first figure": max(firsts),
                "everything complete": complete + apart * len(PARTS),
                "known already": statistics.median(again),
                "new settings, 95th percentile": statistics.quantiles(new, n=20)[-1],
                "script of a first visit": weights[0],
                "script of a first visit to Tilt": weights[1],
            }
            for name, (limit, unit) in LIMITS.items():
                print(f"{name:32s} {measured[name]:7.2f} {unit} of {limit} {unit}")
            if "-v" in sys.argv:
                print("new settings:", *(f"{one:.2f}" for one in new))
            with database.connection_context():
                for task in Task.select().where(Task.kind == "evidence").order_by(Task.created).dicts():
                    if "-v" in sys.argv:
                        wait = (task["started"] - task["queued"]).total_seconds() if task["started"] else -1
                        took = (
                            (task["finished"] - task["started"]).total_seconds()
                            if task["finished"] and task["started"]
                            else -1
                        )
                        print(
                            task["payload"]["method"],
                            task["state"],
                            f"expected {task['expected']}",
                            f"waited {wait:.2f}",
                            f"took {took:.2f}",
                        )
        finally:
            supervisor.stop()


if __name__ == "__main__":
    main()
