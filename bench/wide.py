"""Large and wide tables as a person opens them: every part in Chromium, click to first look and to the whole.

./zt bench wide [rows|columns]
"""

from __future__ import annotations

import io
import sys
import tempfile
from pathlib import Path

import httpx
import pyarrow as pa
import pyarrow.parquet as pq
from at_once import BROWSER, PARTS, WHOLE, listening, opened, until
from playwright.sync_api import Page, sync_playwright
from sheets import invented
from tests.api import talk

from zerotilt.services.home import Home
from zerotilt.services.supervisor import Supervisor

TABLES = {
    "rows": ("200,000 rows × 60 columns", 200_000, 50, 10, 2.0, 15.0, PARTS),
    "columns": ("5,000 rows × 150 columns", 5_000, 140, 10, 20.0, 20.0, [one for one in PARTS if one[0] == "Drivers"]),
}
"""Name, rows, columns of numbers and of levels; seconds to reach for the first look and the whole; parts opened."""


def audited(client: httpx.Client, rows: int, numbers: int, texts: int) -> str:
    """An audit of an invented table and boosted trees, finished."""
    table, model = invented(max(rows, 20_000), numbers, texts)
    sink = io.BytesIO()
    pq.write_table(pa.table(table.slice(0, rows)), sink)
    audit = talk.new_audit(client, f"{rows:,} rows")
    assert talk.put_table(client, audit, sink.getvalue(), "table.parquet")["state"] == "done"
    assert talk.put_model(client, audit, model)["state"] == "done"
    spec = client.get(f"/api/audits/{audit}").json()["spec"]
    spec = talk.set_roles(spec, happened="outcome", t00="group", t01="group")
    talk.put_spec(client, audit, spec | {"event": "yes", "favourable_said": True})
    version = client.get(f"/api/audits/{audit}").json()["models"][0]["id"]
    ended = talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={"model": version}).json())
    assert ended["state"] == "done", ended
    return audit


def visited(page: Page, audit: str, parts: list[tuple[str, str]], first: float, whole: float) -> None:
    page.goto(f"/audits/{audit}/intake")
    page.get_by_role("navigation", name="Areas").wait_for()
    listening(page)
    for area, part in parts:
        began = opened(page, area, part)
        page.evaluate(f"() => {{ window.clicked = performance.now() - {began * 1000}; }}")
        done = until(page, f"({WHOLE})()")
        beyond = " ← beyond" if began > first or done > whole else ""
        print(
            f"{area:10s} {part:22s} first look {began:6.2f} s of {first:g}, whole {done:6.2f} s of {whole:g}{beyond}",
            flush=True,
        )


def main() -> None:
    chosen = [one for one in sys.argv[2:] if one in TABLES] or list(TABLES)
    with tempfile.TemporaryDirectory(prefix="zt-bench-") as folder:
        Path(folder).chmod(0o755)
        supervisor = Supervisor(Home(Path(folder)))
        supervisor.start()
        talk.KEYS[supervisor.url] = supervisor.home.key
        try:
            with talk.to(supervisor.url, 600) as client, sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=BROWSER)
                for name in chosen:
                    called, rows, numbers, texts, first, whole, parts = TABLES[name]
                    print(called, flush=True)
                    audit = audited(client, rows, numbers, texts)
                    page = talk.let_in(
                        browser.new_context(base_url=supervisor.url, viewport={"width": 1280, "height": 800}),
                        supervisor.url,
                    ).new_page()
                    page.set_default_timeout(600_000)
                    visited(page, audit, parts, first, whole)
                    page.close()
                browser.close()
        finally:
            supervisor.stop()


if __name__ == "__main__":
    main()
