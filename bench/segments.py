"""Segments and questions: conditions counted while they are typed, and SQL over a million rows with their predictions.

./zt bench segments [typed] [asked]
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from pathlib import Path

import httpx
import pyarrow.parquet as pq
from at_once import BROWSER
from cases import made_ready, window
from playwright.sync_api import Page, sync_playwright
from sheets import invented, subject_of
from tests.api import talk
from timing import line, quickest

from zerotilt.core.methods import METHODS
from zerotilt.core.work import Work
from zerotilt.services.home import Home
from zerotilt.services.supervisor import Supervisor

TEXT = "channel=telephone and declared_value>"
GROUP_BY = "select t00, count(*), avg(prediction), avg(error) from rows group by all"
CHANGED = """new Promise(done => {
    const field = document.querySelector("[aria-label='Conditions, typed']"), start = performance.now();
    const set = Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set;
    set.call(field, TEXT); field.dispatchEvent(new Event("input", {bubbles: true}));
    const look = () => {
        const said = document.querySelector("[data-testid=reading]").innerText;
        if (said.includes(COUNT)) done(performance.now() - start); else requestAnimationFrame(look);
    };
    look();
})"""


def typed(page: Page, client: httpx.Client, audit: str) -> None:
    """Every condition is one that was not counted before; its count is on the screen when it is over."""
    model = client.get(f"/api/audits/{audit}").json()["models"][0]["id"]
    context = {"model": model, "rows": "hold-out", "output": "probability"}
    page.goto(f"/audits/{audit}/data?part=making")
    page.wait_for_selector("[data-testid=reading]")
    path, served, seen = f"/api/audits/{audit}/readings/segment", [], []
    for step in range(60):
        text = f"{TEXT}{10 + 3 * step}"
        started = time.perf_counter()
        answer = client.post(path, json={"context": context, "settings": {"conditions": f"{text}.5"}}).json()
        if answer.get("evidence") is None:
            talk.wait(client, answer["task"])
        served.append(time.perf_counter() - started)
        rows = talk.read(client, audit, "segment", context | {"rows": "all"}, {"conditions": text})["result"]
        count = next(one["rows"] for one in rows["splits"] if one["which"] == "hold-out")
        seen.append(
            page.evaluate(CHANGED.replace("TEXT", repr(text)).replace("COUNT", repr(f"{count:,} of 3,600"))) / 1e3
        )
    for what, found in (("by the server", served), ("from key to screen", seen)):
        found.sort()
        note = f"95th percentile {1e3 * found[int(0.95 * len(found))]:.0f} ms of 100"
        line(f"demo, conditions counted {what}", statistics.median(found), note)


def asked() -> None:
    """The first question makes the predictions; those after it find them."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "table.parquet"
        table, model = invented(1_000_000, 29, 10)
        pq.write_table(table, path)
        subject = subject_of(path, model, "probability")
        method = METHODS["query"]

        def ask(sql: str) -> float:
            return quickest(lambda: method.compute(subject, method.settings(sql=sql), 1, Work()), 1)

        rows = f"{subject.n:,} rows × 40 with predictions"
        line(f"{rows}, a first group-by", ask(GROUP_BY))
        line(f"{rows}, the next", ask(GROUP_BY.replace("t00", "t01")), "of 1 s")
        line(f"{rows}, all columns of 100,000 rows", ask("select * from rows limit 100000"))
        made = METHODS["segment"]
        text = made.settings(conditions="n000>0.5 and not t00=ash or n001<0")
        line(f"{rows}, conditions counted", quickest(lambda: made.compute(subject, text, 1, Work()), 3))


def main() -> None:
    chosen = [one for one in sys.argv[1:] if one in ("typed", "asked")] or ["typed", "asked"]
    if "asked" in chosen:
        asked()
    if "typed" not in chosen:
        return
    with tempfile.TemporaryDirectory(prefix="zt-bench-") as folder:
        Path(folder).chmod(0o755)
        supervisor = Supervisor(Home(Path(folder)))
        supervisor.start()
        talk.KEYS[supervisor.url] = supervisor.home.key
        try:
            with talk.to(supervisor.url, 600) as client, sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=BROWSER)
                page = window(browser, supervisor.url)
                supervisor.load_demo()
                made_ready(client)
                found = next(one for one in client.get("/api/audits").json() if one["title"] == "Skerry Post claims")
                typed(page, client, found["id"])
                browser.close()
        finally:
            supervisor.stop()


if __name__ == "__main__":
    main()
