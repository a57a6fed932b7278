"""What is shown after a change: every change under every place, and how soon it is felt on the demo.

./zt bench after          both
./zt bench after pairs    every pair of a change and a place, with its table
./zt bench after felt     seconds from a save to the first new figure of the open sheet; what is read again
"""

from __future__ import annotations

import json
import os
import statistics
import sys
import tempfile
from pathlib import Path

from bench.at_once import BROWSER
from playwright.sync_api import Browser, Request, sync_playwright
from tests.api import talk
from tests.web.changes import BUSY, CHANGES, PLACES, READ, World, opened, settled, tried

from zerotilt.demo import audit as demo_audit
from zerotilt.services.home import Home
from zerotilt.services.supervisor import Supervisor

SIZE = {"width": 1280, "height": 800}
OPEN_AT_ONCE = 5
FELT = 1.0


def pairs(browser: Browser, url: str) -> int:
    """Every pair; how many were wrong."""
    claims, audits = demo_audit.build_all()
    wrong: dict[tuple[str, str], str] = {}
    pages = [one for one in PLACES if one not in READ]
    for begin in range(0, len(pages), OPEN_AT_ONCE):
        places = pages[begin : begin + OPEN_AT_ONCE]
        read = () if begin else tuple(READ)
        window = talk.let_in(browser.new_context(base_url=url, viewport=SIZE), url)
        with talk.to(url, 60) as client:
            world = World.of(client, claims, audits[0].models, f"Claims under change {begin}")
            tabs = [window.new_page() for _ in places]
            opened(world, tabs, places)
            for change in CHANGES:
                wrong |= {
                    (change, place): said for place, said in tried(world, change, tabs, places, read=read).items()
                }
            client.delete(f"{world.at}?for_good=true")
        window.close()
    width = max(map(len, CHANGES))
    print(
        f"{len(CHANGES)} changes × {len(PLACES)} places: {len(wrong)} of {len(CHANGES) * len(PLACES)} pairs are wrong"
    )
    for change in CHANGES:
        line = "".join("×" if (change, place) in wrong else "·" for place in PLACES)
        print(f"  {change:<{width}}  {line}")
    for (change, place), said in wrong.items():
        print(f"\n{change} × {place or 'first page'}: {said}")
    return len(wrong)


SHEETS = (
    "tilt",
    "tilt?part=thresholds",
    "drivers",
    "response",
    "cases",
    "pockets",
    "data?part=columns",
    "remedies?part=versions",
)
SAVES = {
    "other limits": ("policy", lambda spec, i: {"policy": spec["policy"] | {"ratio_low": 0.8 - 0.002 * (i + 1)}}),
    "other names": ("wording", lambda spec, i: {"wording": spec["wording"] | {"rows": f"parcels {i}"}}),
    "a segment": (
        "comparisons",
        lambda spec, i: {
            **{name: spec[name] for name in ("intersections", "segment_metrics")},
            "segments": [{"name": f"heavy {i}", "conditions": [{"column": "parcel_weight", "over": 10 + i}]}],
        },
    ),
}
SAVE = """async ([address, body]) => {
    const done = await fetch(address, {method: "PUT", headers: {"Content-Type": "application/json"}, body});
    if (!done.ok) throw new Error(await done.text());
    window.saved = performance.now();
}"""
LAST_BUSY = f"""async () => {{
    const busy = {BUSY}, text = () => document.querySelector('#sheet')?.textContent ?? '';
    // a figure of now: the sheet says something else than before, and nothing in it is marked as of before
    const marked = () => document.querySelector('#sheet[aria-busy="true"], #sheet [data-before]') !== null;
    let [last, first, heard] = [window.saved, null, null];
    // a page hears within a third of a second; it is done when it has been calm for longer than that
    while (performance.now() - Math.max(last, window.saved + 300) < 400) {{
        const now = performance.now();
        if (busy()) last = now;
        if (marked()) heard ??= now;
        else if (first === null && heard !== null && text() !== '') first = now;
        await new Promise((done) => setTimeout(done, 10));
    }}
    return [((first ?? window.saved) - window.saved) / 1000, (last - window.saved) / 1000];
}}"""


def felt(browser: Browser, url: str) -> None:
    """From another hand's save to the first new figure of each open sheet of the demo, and what is read again for it."""
    window = talk.let_in(browser.new_context(base_url=url, viewport=SIZE), url)
    page, times = window.new_page(), []
    with talk.to(url, 60) as client:
        demo = talk.demo_audit(client)
        own = client.post(f"/api/audits/{demo['id']}/duplicate").json()["id"]
        at = f"/api/audits/{own}"
        for sheet in SHEETS:
            page.goto(f"/audits/{own}/{sheet}")
            settled([page], calm=8)
            for called, (part, body) in SAVES.items():
                asked: list[str] = []

                def note(one: Request, asked: list[str] = asked) -> None:
                    if "/readings/" in one.url:
                        asked.append(one.url.rpartition("/")[2])

                page.on("request", note)
                wanted = body(client.get(at).json()["spec"], len(times))
                page.evaluate(SAVE, [f"{at}/meaning/{part}", json.dumps(wanted)])
                times.append((*page.evaluate(LAST_BUSY), called, sheet, sorted(set(asked))))
                settled([page])
                page.remove_listener("request", note)
        client.delete(f"{at}?for_good=true")
    for first, last, called, sheet, asked in sorted(times, reverse=True):
        again = ", ".join(asked) or "nothing"
        print(f"  first figure {first:5.2f} s, last mark {last:5.2f} s  {called} × {sheet}; read again: {again}")
    for place, what in enumerate(("the first figure of now", "the last mark gone")):
        told = [one[place] for one in times]
        print(
            f"from a save to {what}: median {statistics.median(told):.2f} s, slowest {max(told):.2f} s (limit {FELT} s)"
        )
    window.close()


def main() -> None:
    wanted = sys.argv[2] if len(sys.argv) > 2 else ""
    os.environ["ZT_AHEAD"] = "off"  # what is made ready in idle time would come between two looks
    with tempfile.TemporaryDirectory(prefix="zt-after-") as folder:
        Path(folder).chmod(0o755)
        supervisor = Supervisor(Home(Path(folder)))
        supervisor.start()
        talk.KEYS[supervisor.url] = supervisor.home.key
        try:
            with talk.to(supervisor.url, 120) as client:
                task = client.post("/api/demo").json()
                assert talk.wait(client, task, 600)["state"] == "done"
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=BROWSER)
                if wanted in ("", "felt"):
                    felt(browser, supervisor.url)
                if wanted in ("", "pairs"):
                    pairs(browser, supervisor.url)
                browser.close()
        finally:
            supervisor.stop()


if __name__ == "__main__":
    main()
