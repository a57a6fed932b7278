"""Cases as a person uses them: a value typed and its answer on screen; many rows laid out, drawn around, sorted, explained.

./zt bench cases [typed|laid|sorted|explained]
"""

from __future__ import annotations

import io
import resource
import statistics
import sys
import tempfile
import time
from multiprocessing import Pipe, get_context
from multiprocessing.connection import Connection
from pathlib import Path

import httpx
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from at_once import BROWSER
from playwright.sync_api import Browser, Page, sync_playwright
from sheets import invented, subject_of
from tests.api import talk

from zerotilt.core.contributions.every import ExplainedSettings, explain_every
from zerotilt.core.work import Work
from zerotilt.services.home import Home
from zerotilt.services.supervisor import Supervisor

TYPED = """(text) => {
  const field = document.querySelector('input[aria-label="missed scans"]');
  window.typed = performance.now();
  Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(field, text);
  field.dispatchEvent(new Event("input", { bubbles: true }));
}"""
ANSWERED = """([text, ladder]) => {
  const said = document.querySelector("[data-testid=reading]");
  const busy = [...document.querySelectorAll("main [aria-busy=true]")];
  const fresh = said && said.innerText.includes(`missed scans ${text},`) && !busy.some((one) => one.contains(said));
  return fresh && !(ladder && busy.length) && performance.now() - window.typed;
}"""


def typed(page: Page, client: httpx.Client, audit: str, scale: str) -> None:
    """One value after the other, none of them asked before; the pause of 40 ms between keystrokes is in it."""
    page.goto(f"/audits/{audit}/cases?part=tries&row=1{scale}")
    page.wait_for_selector("[data-testid=reading]")
    page.wait_for_selector('input[aria-label="missed scans"]')
    page.wait_for_selector("section[aria-label^='Ladder of'] [data-rung]")
    for what, ladder in (("output and decision", False), ("output and ladder", True)):
        took, served = [], []
        for i in range(40):
            text = str(round(0.1 + i * 0.07 + (0.031 if ladder else 0), 3))
            page.evaluate(TYPED, text)
            took.append(page.wait_for_function(ANSWERED, arg=[text, ladder], polling=5).json_value())
        context = {
            "model": client.get(f"/api/audits/{audit}").json()["models"][0]["id"],
            "output": "log-odds" if scale else "probability",
        }
        for i in range(20):
            ask = {"context": context, "settings": {"row": 1, "edits": {"missed_scans": str(5 + i / 7 + ladder / 3)}}}
            began = time.perf_counter()
            client.post(f"/api/audits/{audit}/readings/{'ladder' if ladder else 'tried'}", json=ask)
            served.append((time.perf_counter() - began) * 1000)
        p95 = float(np.quantile(took, 0.95))
        print(
            f"typed, {what}{', log-odds' if scale else ', probability'}: median {statistics.median(took):.0f} ms, 95th percentile {p95:.0f} ms of 100"
            f"{' ← beyond' if p95 > 100 else ''}; the server alone {statistics.median(served):.0f} ms",
            flush=True,
        )


def recorded(client: httpx.Client, rows: int, columns: int) -> str:
    """An audit of recorded scores: many rows, some columns."""
    rng = np.random.default_rng(1)
    table = {f"x{j}": rng.normal(size=rows).round(3) for j in range(columns)}
    score = rng.random(rows).round(4)
    table |= {
        "level": rng.choice(list("abcdef"), rows),
        "score": score,
        "happened": np.where(rng.random(rows) < score, "yes", "no"),
    }
    sink = io.BytesIO()
    pq.write_table(pa.table(table), sink)
    audit = talk.new_audit(client, f"{rows:,} rows")
    assert talk.put_table(client, audit, sink.getvalue(), "table.parquet")["state"] == "done"
    spec = client.get(f"/api/audits/{audit}").json()["spec"]
    spec = talk.set_roles(spec, happened="outcome", score="score", level="group")
    talk.put_spec(client, audit, spec | {"event": "yes", "favourable_said": True})
    ended = talk.wait(client, client.post(f"/api/audits/{audit}/finish", json={}).json(), 600)
    assert ended["state"] == "done", ended
    return audit


DRAWN = """() => {
  const dots = document.querySelector("[data-testid=dots]");
  if (!dots || !dots.width) return false;
  return dots.getContext("2d").getImageData(0, 0, dots.width, dots.height).data.some((one) => one > 0);
}"""
LASSO = """async () => {
  const field = document.querySelector("[role=application]"), box = field.getBoundingClientRect();
  const send = (kind, x, y) => field.dispatchEvent(new PointerEvent(kind, {
    bubbles: true, pointerId: 1, clientX: box.left + box.width * x, clientY: box.top + box.height * y }));
  field.setPointerCapture = () => {};
  send("pointerdown", 0.1, 0.05);
  for (let i = 0; i < 30; i++) { send("pointermove", 0.1 + 0.85 * i / 30, 0.05); await new Promise(requestAnimationFrame); }
  send("pointermove", 0.95, 0.5);
  await new Promise(requestAnimationFrame);
  send("pointermove", 0.1, 0.5);
  await new Promise(requestAnimationFrame);
  const began = performance.now();
  send("pointerup", 0.1, 0.5);
  while (!document.querySelector("[data-testid=selection]")) await new Promise(requestAnimationFrame);
  return [performance.now() - began, document.querySelector("[data-testid=selection] p").innerText];
}"""
PANNED = """async () => {
  const field = document.querySelector("[role=application]");
  field.focus();
  const frames = [];
  let before = performance.now();
  for (let i = 0; i < 60; i++) {
    field.dispatchEvent(new KeyboardEvent("keydown", { key: i % 2 ? "ArrowLeft" : "ArrowRight", bubbles: true }));
    await new Promise(requestAnimationFrame);
    const now = performance.now();
    frames.push(now - before);
    before = now;
  }
  frames.sort((a, b) => a - b);
  return [frames[30], frames[57]];
}"""


def laid(page: Page, client: httpx.Client) -> None:
    audit = recorded(client, 100_000, 6)
    page.goto(f"/audits/{audit}/cases?part=rows&rows=all")
    page.wait_for_selector("[data-testid=reading]")
    page.evaluate("() => { window.clicked = performance.now(); }")
    page.get_by_role("tab", name="Laid out").click()
    page.wait_for_function(DRAWN)
    first = page.evaluate("() => performance.now() - window.clicked")
    page.wait_for_function(
        "() => /^100,000/.test(document.querySelector('[data-testid=reading]').innerText)", timeout=60_000
    )
    whole = page.evaluate("() => performance.now() - window.clicked")
    beyond = " ← beyond" if first > 1000 else ""
    print(f"100,000 rows laid out: first dots {first:.0f} ms of 1,000{beyond}; all of them {whole:.0f} ms", flush=True)
    page.wait_for_timeout(1_000)
    took, said = page.evaluate(LASSO)
    print(f"drawn around: {said}, {took:.0f} ms of 200{' ← beyond' if took > 200 else ''}", flush=True)
    median, slow = page.evaluate(PANNED)
    print(f"moved: a frame in {median:.0f} ms (median), {slow:.0f} ms (95th percentile) of 17", flush=True)


def ordered(page: Page, client: httpx.Client) -> None:
    audit = recorded(client, 1_000_000, 8)
    page.goto(f"/audits/{audit}/cases?part=rows&rows=all")
    page.wait_for_selector("[data-testid=reading]", timeout=120_000)
    for head in ("chance", "x3", "level"):
        page.evaluate("() => { window.clicked = performance.now(); }")
        page.get_by_role("region", name="All rows").get_by_role("button", name=head, exact=True).click()
        page.wait_for_function(
            "(head) => document.querySelector('th[aria-sort]')?.innerText.includes(head) && !document.querySelector('main [aria-busy=true]')",
            arg=head,
            timeout=120_000,
        )
        took = page.evaluate("() => performance.now() - window.clicked") / 1000
        print(f"1,000,000 rows sorted by {head}: {took:.2f} s of 2{' ← beyond' if took > 2 else ''}", flush=True)


def explained(sink: Connection) -> None:
    """Every row of 200,000 × 60 explained exactly, and written as the file that is downloaded; in a process of its own."""
    table, model = invented(200_000, 50, 10)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "table.parquet"
        pq.write_table(table, path)
        subject = subject_of(path, model, "log-odds")
    subject.predictions.find_structure()
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    began = time.perf_counter()
    found = explain_every(subject, ExplainedSettings(), 0, Work())
    took = time.perf_counter() - began
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    sink.send((took, before / 1024, peak / 1024, found.table.size / 2**20, found.method))


def taken_away() -> None:
    here, there = Pipe(duplex=False)
    worker = get_context("spawn").Process(target=explained, args=(there,))
    worker.start()
    took, before, peak, size, method = here.recv()
    worker.join()
    print(
        f"contributions of 200,000 × 60 by {method}: {took:.1f} s, memory {before:.0f} to {peak:.0f} MB, file {size:.0f} MB",
        flush=True,
    )


def window(browser: Browser, url: str) -> Page:
    page = talk.let_in(browser.new_context(base_url=url, viewport={"width": 1280, "height": 800}), url).new_page()
    page.set_default_timeout(120_000)
    return page


def made_ready(client: httpx.Client) -> None:
    """Wait until nothing else is under way: parts of the demo that nobody has opened are made ready for a while."""
    while any(
        one["state"] in ("queued", "running")
        for audit in client.get("/api/audits").json()
        for one in client.get(f"/api/audits/{audit['id']}/tasks").json()
    ):
        time.sleep(1)


def main() -> None:
    parts = ("typed", "laid", "sorted", "explained")
    chosen = [one for one in sys.argv[1:] if one in parts] or list(parts)
    if "explained" in chosen:
        taken_away()
    if chosen == ["explained"]:
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
                if "typed" in chosen:
                    supervisor.load_demo()
                    found = [one for one in client.get("/api/audits").json() if one["title"] == "Skerry Post claims"]
                    made_ready(client)
                    for scale in ("&as=log-odds", ""):
                        typed(page, client, found[0]["id"], scale)
                if "laid" in chosen:
                    laid(page, client)
                if "sorted" in chosen:
                    ordered(page, client)
                browser.close()
        finally:
            supervisor.stop()


if __name__ == "__main__":
    main()
