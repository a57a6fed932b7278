"""Every change that can be made under an open page, and every place where it should be seen."""

from __future__ import annotations

import io
import itertools
import re
import tempfile
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import httpx
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
from playwright.sync_api import Page
from tests.api import talk
from tests.cli.shell import typed

from zerotilt.notebook import open_audit

PLACES = (
    "intake", "data", "data?part=columns", "data?part=segments", "drivers", "response", "cases", "cases?part=all", "pockets",
    "tilt", "tilt?part=group", "tilt?part=thresholds", "remedies", "remedies?part=versions", "remedies?part=lineage",
    "report", "report?part=compose", "report?part=reports", "", "tilt#card", "command line", "notebook",
)  # fmt: skip
"""Sheets of an audit, each with header, rail and dossier; "" is the first page, the card one that stays open on a mark. The
last two are read without a page, see ``READ``."""
ROWS = 700


@dataclass
class World:
    """One audit, and what hands do to it."""

    client: httpx.Client
    audit: str
    table: pa.Table
    models: dict[str, bytes]
    memory: dict[str, Any] = field(default_factory=dict)

    @classmethod
    def of(cls, client: httpx.Client, claims: pa.Table, models: dict[str, bytes], title: str) -> World:
        """A finished audit of some claims with two model versions and a group column."""
        audit = talk.new_audit(client, title)
        table = claims.slice(0, ROWS)
        made = cls(client, audit, table, models)
        talk.put_table(client, audit, parquet(table), "claims.parquet")
        for name in (FIRST, "gradient trees v3"):
            talk.put_model(client, audit, models[name], name)
        spec = made.view["spec"]
        groups = {"home_area": "group", "age_band": "group", "preferred_language": "group"}
        talk.put_spec(client, audit, talk.set_roles(spec, claim_valid="outcome", **groups) | NAMED)
        made.finish(made.models_by_name[FIRST])
        made.memory["notebook"] = open_audit(talk.with_key(client, f"/audits/{audit}/tilt"))
        return made

    @property
    def at(self) -> str:
        return f"/api/audits/{self.audit}"

    @property
    def view(self) -> dict[str, Any]:
        return self.client.get(self.at).json()

    @property
    def models_by_name(self) -> dict[str, str]:
        return {one["name"]: one["id"] for one in self.view["models"]}

    @property
    def context(self) -> dict[str, Any]:
        return {"model": self.view["checked_model"], "rows": "hold-out", "output": "probability"}

    def finish(self, model: str | None = None) -> None:
        task = self.client.post(f"{self.at}/finish", json={"model": model or self.view["checked_model"]}).json()
        done = talk.wait(self.client, task)
        assert done["state"] == "done", done

    def put(self, part: str, body: dict[str, Any]) -> None:
        answer = talk.put_part(self.client, self.audit, part, body)
        assert answer.status_code == 200, answer.text

    def problem(self, **changes: Any) -> None:
        spec = self.view["spec"]
        self.put("problem", {name: spec[name] for name in talk.PARTS["problem"]} | changes)
        self.finish()

    def columns(self, **changes: dict[str, Any]) -> None:
        spec = self.view["spec"]
        self.put("schema", {"columns": [one | changes.get(one["name"], {}) for one in spec["columns"]]})
        self.finish()

    def compared(self, change: Callable[[dict[str, Any]], dict[str, Any]]) -> None:
        spec = self.view["spec"]
        now = {name: spec[name] for name in ("intersections", "segments", "segment_metrics")}
        self.put("comparisons", now | change(now))

    def ok(self, answer: httpx.Response) -> Any:
        assert answer.status_code < 300, answer.text
        return answer.json() if answer.content else None

    def findings(self) -> list[dict[str, Any]]:
        """What is found now, once nothing of it is of before."""
        talk.read(self.client, self.audit, "tilt", self.context)
        for _ in range(200):
            found = self.client.post(f"{self.at}/findings", json=self.context).json()
            if not any(one["again"] and not one["author"] for one in found):
                return found
            time.sleep(0.05)
        raise AssertionError("what was found is still of before")


NAMED = {
    "event": "yes",
    "favourable_said": True,
    "wording": {
        "row": "claim", "rows": "claims", "event": "the claim is valid", "unit": "",
        "favourable": "settled at once", "unfavourable": "inspected",
    },
}  # fmt: skip
FIRST = "logistic regression v1"
LATE = {"name": "heavy parcels", "conditions": [{"column": "parcel_weight", "over": 10}]}


def parquet(table: pa.Table) -> bytes:
    sink = io.BytesIO()
    pq.write_table(table, sink)
    return sink.getvalue()


def corrected(table: pa.Table) -> pa.Table:
    """The same table with other declared values."""
    place = table.column_names.index("declared_value")
    return table.set_column(place, "declared_value", pc.add(table["declared_value"], 5.0))


def correct(world: World) -> None:
    world.table = corrected(world.table)
    talk.put_table(world.client, world.audit, parquet(world.table), "claims.parquet")
    world.finish()


def names(world: World, **changes: str) -> None:
    world.put("wording", {"wording": world.view["spec"]["wording"] | changes})


def policy(world: World, **changes: Any) -> None:
    world.put("policy", {"policy": world.view["spec"]["policy"] | changes, "author": "B. Other"})


def expected(world: World) -> None:
    """A direction, and whether the model follows it: what no sheet reads by itself is read by whoever expects it."""
    wanted = {"missed_scans": "rises"}
    world.put("expectations", {"expectations": wanted})
    talk.read(world.client, world.audit, "expectations", world.context, settings={"expected": wanted})


def rule(world: World, wanted: dict[str, Any] | None) -> None:
    model = world.view["checked_model"]
    world.ok(world.client.put(f"{world.at}/models/{model}/rule", json={"rule": wanted, "author": "B. Other"}))


def decide(world: World, decision: str) -> None:
    one = world.findings()[0]
    body = {"finding": one["name"], "evidence": one["evidence"], "read": one["number"], "author": "B. Other"}
    world.ok(world.client.put(f"{world.at}/findings", json=body | {"decision": decision, "reason": "It was looked at."}))


def keep(world: World) -> None:
    key = talk.read(world.client, world.audit, "tilt", world.context)["key"]
    kept = world.ok(world.client.post(f"{world.at}/dossier", json={"key": key, "context": world.context}))
    world.memory["kept"] = kept["id"]


def raised(world: World) -> None:
    key = talk.read(world.client, world.audit, "tilt", world.context)["key"]
    body = {"statement": "Look at the outer isles.", "key": key, "context": world.context, "author": "B. Other"}
    world.ok(world.client.post(f"{world.at}/findings/raised", json=body))


def report(world: World) -> None:
    done = talk.wait(world.client, world.client.post(f"{world.at}/reports", json=world.context).json())
    assert done["state"] == "done", done


def train(world: World) -> None:
    recipe = {"estimator": "linear", "dealing": {"folds": 2}}
    asked = world.client.post(f"{world.at}/candidates", json={"recipes": [recipe]})
    for task in world.ok(asked):
        assert talk.wait(world.client, task)["state"] == "done"


def trained(world: World) -> str:
    """The version that was trained last."""
    return world.view["models"][-1]["id"]


def version(world: World, number: int) -> None:
    talk.put_model(world.client, world.audit, world.models["small network v2"], f"network, upload {number}")


def gone(world: World, model: str) -> None:
    world.ok(world.client.delete(f"{world.at}/models/{model}"))


def patch(world: World, **changes: Any) -> None:
    world.ok(world.client.patch(world.at, json=changes))


COUNT = itertools.count(1)
Change = Callable[[World], None]
CHANGES: dict[str, Change] = {
    "a column is another kind": lambda w: w.columns(claims_three_years={"kind": "ordered"}),
    "a column is no group any more": lambda w: w.columns(preferred_language={"role": "ignored"}),
    "a column is a group": lambda w: w.columns(preferred_language={"role": "group"}),
    "another reference": lambda w: w.columns(home_area={"reference": "uplands"}),
    "a number is cut": lambda w: w.columns(declared_value={"grouped": True, "cuts": [50.0, 100.0]}),
    "the other decision is favourable": lambda w: w.problem(favourable="other"),
    "the event is another": lambda w: w.problem(event="no"),
    "the event is the first again": lambda w: w.problem(event="yes", favourable="event"),
    "another threshold": lambda w: w.problem(threshold=0.4),
    "other names": lambda w: names(w, rows="parcels", row="parcel", favourable="paid", unfavourable="held back"),
    "another event's name": lambda w: names(w, event="somebody is paid"),
    "other limits": lambda w: policy(w, ratio_low=0.9, ratio_high=1.11),
    "fewer metrics": lambda w: policy(w, metrics=["selection_rate", "true_positive_rate"]),
    "every metric": lambda w: policy(w, metrics=[]),
    "a crossing": lambda w: w.compared(lambda now: {"intersections": [["home_area", "age_band"]]}),
    "an expectation": expected,
    "what could change": lambda w: w.put("changeable", {"allowed": [{"feature": "parcel_weight", "change": "none"}]}),
    "a rule": lambda w: rule(w, {"threshold": 0.55}),
    "a rule that decides alike": lambda w: rule(w, {"threshold": 0.55001}),
    "no rule": lambda w: rule(w, None),
    "a segment": lambda w: w.compared(lambda now: {"segments": [LATE]}),
    "a segment is renamed": lambda w: w.compared(lambda now: {"segments": [LATE | {"name": "ten and more"}]}),
    "a segment is edited": lambda w: w.compared(
        lambda now: {"segments": [{"name": "ten and more", "conditions": [{"column": "parcel_weight", "over": 8}]}]}
    ),
    "a segment is deleted": lambda w: w.compared(lambda now: {"segments": []}),
    "a segment is back": lambda w: w.compared(lambda now: {"segments": [LATE]}),
    "a corrected table": correct,
    "a version is added": lambda w: version(w, next(COUNT)),
    "a version is deleted": lambda w: gone(w, w.view["models"][-1]["id"]),
    "another version is checked": lambda w: w.finish(w.models_by_name["gradient trees v3"]),
    "a version is chosen": lambda w: w.ok(
        w.client.post(f"{w.at}/versions/{w.view['checked_model']}/choice", json={"reason": "It is the best.", "author": "B."})
    ),
    "a candidate is trained": train,
    "a candidate is deleted": lambda w: gone(w, trained(w)),
    "a finding is decided": lambda w: decide(w, "accepted"),
    "a finding is reopened": lambda w: decide(w, "open"),
    "a finding is raised": raised,
    "a figure is kept": keep,
    "a figure is taken out": lambda w: w.ok(w.client.patch(f"{w.at}/dossier/{w.memory['kept']}", json={"removed": True})),
    "a report is written": report,
    "the audit is renamed": lambda w: patch(w, title=f"Claims, renamed {next(COUNT)}"),
    "the audit is archived": lambda w: patch(w, archived=True),
    "the audit is back from the archive": lambda w: patch(w, archived=False),
    "the audit is duplicated": lambda w: w.ok(w.client.post(f"{w.at}/duplicate")),
}
"""In an order in which each can be made."""


def at_command_line(world: World) -> str:
    """What ``./zt audit`` flags by the settings that Intake writes now, against what the server finds; "" where they agree."""
    with tempfile.TemporaryDirectory() as folder:
        here = Path(folder)
        told = world.client.get(f"{world.at}/settings", params=world.context)
        assert told.status_code == 200, told.text
        (here / "audit.toml").write_bytes(told.content)
        pq.write_table(world.table, here / "claims.parquet")
        named = {number: name for name, number in world.models_by_name.items()}
        (here / "model.onnx").write_bytes(world.models[named[world.view["checked_model"]]])
        files = ["--table", "claims.parquet", "--model", "model.onnx", "--out", "out", "--rows", 5]
        run = typed("audit", "audit.toml", *files, folder=here)
    if "flagged" not in run.stdout:
        return f"it ended with {run.returncode}: {run.stderr}"
    said = {line.removeprefix("flagged: ") for line in run.stdout.splitlines() if line.startswith("flagged: ")}
    findings, key = world.findings(), talk.read(world.client, world.audit, "tilt", world.context)["key"]
    found = {part["statement"] for one in findings if one["evidence"] == key and not one["author"] for part in one["parts"]}
    return "" if said == found else f"flagged: {said - found or 'nothing'} alone there, {found - said or 'nothing'} alone here"


def in_notebook(world: World) -> str:
    """What an audit says that was opened in a notebook before the change, against what the server says."""
    here, found = world.memory["notebook"], world.findings()
    said = [(one["statement"], one["decision"], one["evidence"]) for one in here.findings().to_pylist() if not one["again"]]
    now = [(one["statement"], one["standing"]["decision"], one["evidence"]) for one in found if not one["again"]]
    key = talk.read(world.client, world.audit, "tilt", world.context)["key"]
    today = {one["key"] for one in here.evidence().to_pylist() if one["method"] == "tilt" and not one["changed"]}
    wrong = {
        "title": (here.title, world.view["title"]),
        "versions": (here.models(), {number: name for name, number in world.models_by_name.items()}),
        "findings": (said, now),
        "evidence of today": (key in today, True),
    }
    return "; ".join(f"{what}: {a} for {b}" for what, (a, b) in wrong.items() if a != b)


READ: dict[str, Callable[[World], str]] = {"command line": at_command_line, "notebook": in_notebook}
"""Places without a page: what is wrong there, "" where nothing is."""

BUSY = """() => document.body === null || document.querySelector('[aria-busy="true"], [data-behind], [data-before]') !== null
    || [...document.querySelectorAll('[data-testid=under-way]')].some((one) => one.textContent.trim() !== '')
    || /Reading …|Opening the audit|being made|being measured again|Still being measured/.test(document.body.textContent)
    || document.querySelector('main') === null || document.querySelector('.late, [role=status][aria-label]') !== null
    || document.querySelector('main').textContent.trim() === ''"""
MARKS = """() => [...document.querySelectorAll(
    '[aria-busy="true"], [data-behind], [data-before], [data-testid=under-way], .late, [role=status][aria-label]'
)].map((one) => one.outerHTML.slice(0, 200)).join('\\n')"""
"""What marks a page as being read, where that does not end."""
SAID = """() => {
    const page = document.querySelector('[data-testid=page]')?.contentDocument?.body.innerText ?? '';
    const values = [...document.querySelectorAll('input, textarea, select')].map((one) => one.value).join('|');
    const told = ['header', 'nav', 'main', 'aside'].map((name) => document.querySelector(name)?.innerText ?? '');
    const card = document.querySelector('[data-radix-popper-content-wrapper]')?.innerText ?? '';
    return [...told, values, page, card];
}"""
SETTLED = f"""async ([seconds, calm]) => {{
    const busy = {BUSY}, said = {SAID}, until = performance.now() + seconds * 1000;
    // whether a page is busy is asked only once something in it has moved: asking takes longer than most of what moves
    let [moved, idle, same] = [true, false, 0];
    const watch = new MutationObserver(() => {{ moved = true; }});
    watch.observe(document, {{ subtree: true, childList: true, characterData: true, attributes: true }});
    // so many looks that agree: a page that stands still because the machine is busy is not one that is done
    while (moved || same < calm) {{
        if (moved) [moved, same, idle] = [false, 0, !busy()];
        else same = idle ? same + 1 : 0;
        if (performance.now() > until) return null;
        await new Promise((done) => setTimeout(done, 120));
    }}
    watch.disconnect();
    return said();
}}"""
OPENED = re.compile(r"today, \d\d:\d\d")
REGIONS = ("header", "rail", "sheet", "dossier", "fields", "page", "card")


def busy(page: Page) -> bool:
    """Whether a page says that something of it is being read."""
    return bool(page.evaluate(BUSY))


def settled(pages: Sequence[Page], seconds: float = 60, calm: int = 4) -> list[dict[str, str]]:
    """What pages say once each says the same for a moment, and nothing of it is being read; ``calm``: looks that agree."""
    for page in pages:  # all at the same time
        page.evaluate(f"(given) => {{ window.settling = ({SETTLED})(given) }}", [seconds, calm])
    told = []
    for page in pages:
        said = page.evaluate("() => window.settling")
        assert said, f"still being read: {page.url}\n{page.evaluate(MARKS)}\n{page.inner_text('body')[:1500]}"
        told.append(plain(said))
    return told


def shown(page: Page) -> dict[str, str]:
    """What a page says at this moment."""
    return plain(page.evaluate(SAID))


def plain(told: list[str]) -> dict[str, str]:
    """Part by part; not whether somebody has looked at an area, at what minute, and what is under way."""
    clean = []
    for text in told:
        for word in ("○", ", not yet looked at"):
            text = text.replace(word, "")
        text = OPENED.sub("today", text)
        clean.append("\n".join(line.strip() for line in text.splitlines() if line.strip() and "running" not in line))
    return dict(zip(REGIONS, clean, strict=True))


def tried(
    world: World,
    change: str,
    tabs: Sequence[Page],
    places: Sequence[str],
    anew: Sequence[int] | None = None,
    read: Sequence[str] = (),
) -> dict[str, str]:
    """One change under open places; what is wrong, by place: of before and not marked, or other than a fresh page says.

    ``anew``: which of them are read anew to be held against, all when None; what is left in another shows when it is its turn.
    ``read``: places without a page that are read after it.
    """
    before = world.memory.get("told") or settled(tabs)
    CHANGES[change](world)
    early = [once_heard(world, tab, was) for tab, was in zip(tabs, before, strict=True)]
    after = settled(tabs)
    # what one place has measured is told in the others, which may have been calm before
    while not all(of_today(world, tab) and shown(tab) == said for tab, said in zip(tabs, after, strict=True)):
        after = settled(tabs)
    again = range(len(tabs)) if anew is None else anew
    for place in again:
        tabs[place].reload(wait_until="commit")
    fresh = dict(zip(again, settled([tabs[place] for place in again]), strict=True))
    for place in again:
        if places[place].endswith(CARD):
            fresh[place] = card_opened(tabs[place]) or fresh[place] | {"card": GONE if GONE in after[place]["card"] else ""}
            after[place] |= {"card": GONE if GONE in after[place]["card"] else after[place]["card"]}
    wrong = {}
    for at, (was, (marked, seen), now) in enumerate(zip(before, early, after, strict=True)):
        if left := differs(now, fresh.get(at, now)):
            wrong[places[at]] = str(left)
        elif not marked and differs(seen, now) and not differs(seen, was):
            wrong[places[at]] = f"of before without a mark: {differs(seen, now)}"
    world.memory["told"] = [fresh.get(at, now) for at, now in enumerate(after)]
    return wrong | {place: said for place in read if (said := READ[place](world))}


def of_today(world: World, tab: Page) -> bool:
    """Whether a page has heard of the present state of what it shows."""
    state = tab.evaluate("document.querySelector('[data-state]')?.dataset.state ?? ''").partition(" ")[0]
    return state in {world.client.get(address).json()["state"] for address in (f"{world.at}/state", "/api/state")}


def once_heard(world: World, tab: Page, was: dict[str, str]) -> tuple[bool, dict[str, str]]:
    """Whether a page is marked, and what it says, as soon as it knows of a change or should."""
    until = time.monotonic() + LEARNT
    while time.monotonic() < until:
        marked, said = busy(tab), shown(tab)
        if marked or differs(said, was) or of_today(world, tab):
            break
        tab.wait_for_timeout(40)
    return busy(tab), shown(tab)


def opened(world: World, tabs: Sequence[Page], places: Sequence[str]) -> None:
    """Each place in a tab of its own."""
    for tab, place in zip(tabs, places, strict=True):
        tab.goto(f"/audits/{world.audit}/{place}" if place else "/")
        if place.endswith(CARD):
            settled([tab])
            card_opened(tab)


CARD = "#card"
MARK = "[data-mark^='age_band|'][data-mark$='|selection_rate']"
GONE = "is no longer among the groups that are compared here"


def card_opened(tab: Page) -> dict[str, str]:
    """The card of the first group of an age, and what the page says then; nothing where that is not drawn."""
    if tab.locator(MARK).count() == 0:
        return {}
    tab.locator(MARK).first.dispatch_event("click")
    return settled([tab])[0]


LEARNT = 3.0
"""Seconds in which a page hears of what another hand did, on a machine that does several other things."""


def differs(one: dict[str, str], other: dict[str, str]) -> dict[str, tuple[str, str]]:
    """Where two pages say something else, with the first lines that differ."""
    found = {}
    for region in REGIONS:
        if one[region] != other[region]:
            lines = [one[region].splitlines(), other[region].splitlines()]
            at = next((i for i, pair in enumerate(itertools.zip_longest(*lines)) if pair[0] != pair[1]), 0)
            found[region] = ("\n".join(lines[0][at : at + 3]), "\n".join(lines[1][at : at + 3]))
    return found
