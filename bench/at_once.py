"""What a person waits for, clicking: the demo in Chromium, evidence emptied before, one part after the other.

./zt bench once [seconds between the parts]
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

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
LIMITS = {"median, first figure": 0.5, "slowest, first figure": 1.5, "everything complete": 30.0, "known already": 0.15}
WHOLE = """() => {
  const main = document.querySelector("main");
  return !main.querySelector("[role=status], [role=progressbar], [aria-busy=true]")
    && !/A first look|Reading …/.test(main.innerText);
}"""


def opened(page: Page, area: str, part: str) -> float:
    """Go to a part by clicking, and wait for its figure; seconds."""
    page.evaluate("() => document.querySelectorAll('main figure').forEach((one) => one.setAttribute('data-old', ''))")
    began = time.perf_counter()
    if f"/{area.lower()}" not in page.url:
        page.get_by_role("navigation", name="Areas").get_by_role("link", name=area).click()
    tab = page.get_by_role("tab", name=part, exact=True)
    if tab.get_attribute("data-state") != "active":
        tab.click()
    page.locator("main figure:not([data-old]) svg").first.wait_for()
    return time.perf_counter() - began


def main() -> None:
    apart = float(sys.argv[2]) if len(sys.argv) > 2 and sys.argv[2] != "-v" else 2.0
    with tempfile.TemporaryDirectory(prefix="zt-bench-") as folder:
        Path(folder).chmod(0o755)
        supervisor = Supervisor(Home(Path(folder)))
        supervisor.start()
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
                browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=BROWSER)
                page = browser.new_page(base_url=supervisor.url, viewport={"width": 1280, "height": 800})
                page.goto(f"/audits/{demo['id']}/intake")
                page.get_by_role("navigation", name="Areas").wait_for()
                time.sleep(3)
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
                browser.close()
            measured = {
                "median, first figure": statistics.median(firsts),
                "slowest, first figure": max(firsts),
                "everything complete": complete + apart * len(PARTS),
                "known already": statistics.median(again),
            }
            for name, limit in LIMITS.items():
                print(f"{name:24s} {measured[name]:6.2f} s of {limit} s")
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
