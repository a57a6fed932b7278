"""20,000 requests that were right before something was done to them. Run with ``./zt bench mangled [HOW MANY] [SEED]``.

``./zt bench fuzz`` makes requests from the contract alone. Here each begins as one that a page could send, about things that are
there: this audit, its model, a column, a report. Then up to three places of it are changed (another kind, far too large, NUL,
half a surrogate, another audit's number, nested a thousand deep, left out, given twice), or its text, its heads, its address.
Four clients send at once. Whatever comes back is an answer or a refusal in words, within seconds; in the end ``./zt check``
finds nothing, and the first audit can still be read.
"""

from __future__ import annotations

import collections
import copy
import json
import random
import re
import string
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import Any
from urllib.parse import quote

import httpx
from tests.api import talk

from zerotilt.api import contract
from zerotilt.services.home import Home
from zerotilt.services.supervisor import Supervisor
from zerotilt.store import check
from zerotilt.store.files import FileStore

MANY, CLIENTS = 20_000, 4
SLOW = 20.0
"""Seconds beyond which an answer counts as none; four clients ask at once, on two cores that compute."""
CONTRACT = json.loads((contract.FORMATS / "openapi.json").read_text())
SPOILS = re.compile(r"/meaning/(schema|problem)$|/table|audit_id}$|/finish$|/models")
"""What opens Intake again."""
LEFT_OUT = re.compile(r"/events$|^/api/demo$|/restore$")
ALWAYS = frozenset({"row", "column", "settings"})
DEEP = "\x01deep\x01"
HUGE = "\x01huge\x01"
NASTY: tuple[Any, ...] = (
    None, True, "", " ", "\0", "\ud800", "a\u202eb", -1, 0, 0.5, 2**31, 2**63, 10**30, 1e308, -1e-308, HUGE, DEEP, [], {}, [[]], {"": 1},
    "../../etc/passwd", "<script>alert(1)</script>", "=1+1", "'; drop table audit; --", "{{7*7}}", "a · b", "nan", "2026-13-45",
    "x" * 100_000, ["a"] * 5_000, list(range(3_000)), {str(i): i for i in range(3_000)}, "00000000-0000-0000-0000-000000000000",
)  # fmt: skip
HEADS: tuple[dict[str, str], ...] = (
    {"if-match": "*"}, {"if-match": '"' + "a" * 5_000 + '"'}, {"audit-seen": "-1"}, {"audit-seen": "9" * 400}, {"range": "bytes=5-1"},
    {"range": "bytes=0-0,1-1,2-2"}, {"accept": "image/png"}, {"content-type": "text/plain"}, {"content-encoding": "gzip"},
    {"accept-encoding": "br;q=9"}, {"idempotency-key": "\x7f"},
)  # fmt: skip


class Maker:
    """Requests that could be right."""

    def __init__(self, known: dict[str, list[str]], chosen: random.Random):
        self.known, self.random = known, chosen
        self.operations = [
            (method.upper(), path, told)
            for path, methods in CONTRACT["paths"].items()
            for method, told in methods.items()
            if method in ("get", "put", "post", "patch", "delete") and not LEFT_OUT.search(path)
        ]

    def right(self) -> tuple[str, str, Any, dict[str, str]]:
        """A method, an address, a body and questions in the address."""
        method, path, told = self.random.choice(self.operations)
        spoils = method != "GET" and SPOILS.search(path)
        for name in re.findall(r"{(\w+)}", path):
            if name == "audit_id":  # the first audit stays one that can be read
                path = path.replace(
                    "{audit_id}",
                    self.random.choice(
                        self.known["audit_id"][1:]
                        if spoils
                        else self.known["audit_id"][:1] * 4 + self.known["audit_id"][1:]
                    ),
                )
            path = path.replace(f"{{{name}}}", quote(self.random.choice(self.known.get(name) or ["1"])), 1)
        asked = {
            one["name"]: str(self.value(one.get("schema", {}), one["name"]))
            for one in told.get("parameters", [])
            if one["in"] == "query" and self.random.random() < 0.5
        }
        content = told.get("requestBody", {}).get("content", {})
        body = self.value(content["application/json"]["schema"], "") if "application/json" in content else None
        return method, path, body, asked

    def value(self, schema: dict, name: str, depth: int = 0) -> Any:
        if name == "context" and self.random.random() < 0.8:
            return {"model": self.random.choice(self.known["model"]), "rows": self.random.choice(self.known["rows"])}
        if "$ref" in schema:
            schema = CONTRACT["components"]["schemas"][schema["$ref"].rsplit("/", 1)[-1]]
        for several in ("anyOf", "oneOf", "allOf"):
            if several in schema:
                return self.value(self.random.choice(schema[several]), name, depth)
        if "const" in schema or "enum" in schema:
            return schema.get("const", self.random.choice(schema.get("enum", [None])))
        kind = schema.get("type")
        if kind == "object" or "properties" in schema:
            needed = set(schema.get("required", ()))
            return {
                key: self.value(one, key, depth + 1)
                for key, one in schema.get("properties", {}).items()
                if key in needed or key in ALWAYS or (depth < 4 and self.random.random() < 0.2)
            }
        if kind == "array":
            return [self.value(schema.get("items", {}), name, depth + 1) for _ in range(self.random.randint(0, 2))]
        if kind in ("integer", "number"):
            low = schema.get("minimum", schema.get("exclusiveMinimum", 0))
            found = low + self.random.random() * min(schema.get("maximum", low + 40) - low, 40)
            return int(found) + 1 if kind == "integer" else found
        if kind == "boolean":
            return self.random.random() < 0.5
        if kind == "null" or not kind:
            return None
        return self.random.choice(self.known.get(name) or self.known["word"])


def places(body: Any, at: tuple = ()) -> list[tuple]:
    found = [at]
    if isinstance(body, dict):
        found += [place for key, one in body.items() for place in places(one, (*at, key))]
    if isinstance(body, list):
        found += [place for key, one in enumerate(body) for place in places(one, (*at, key))]
    return found


def mangled(body: Any, chosen: random.Random) -> bytes | None:
    """A body with up to three places changed, as it is sent."""
    if body is None and chosen.random() < 0.9:
        return None
    holder = [copy.deepcopy(body)]
    for _ in range(chosen.choice((0, 0, 1, 1, 1, 2, 3))):
        *way, last = chosen.choice([place for place in places(holder) if place])
        inside: Any = holder
        for step in way:
            inside = inside[step]
        what = chosen.random()
        if what < 0.1 and isinstance(inside, dict):
            del inside[last]
        elif what < 0.2 and isinstance(inside, dict):
            inside["".join(chosen.choices(string.printable, k=8))] = chosen.choice(NASTY)
        else:
            inside[last] = copy.deepcopy(chosen.choice(NASTY))
        if not holder:
            break
    text = json.dumps(holder[0]) if holder else ""
    text = text.replace(json.dumps(DEEP), "[" * 1_000 + "]" * 1_000).replace(json.dumps(HUGE), "1e999")
    if chosen.random() < 0.06:
        cut = chosen.randrange(len(text) + 1)
        text = chosen.choice(
            (text[:cut], text[:cut] + chosen.choice(string.printable) + text[cut:], text + text, f"[{text}")
        )
    if text.startswith("{") and chosen.random() < 0.03:
        text = "{" + text[1:-1] + "," + text[1:] if len(text) > 2 else text  # every name given twice
    raw = text.encode("utf-8", "surrogatepass")
    return raw + b"\xff" if chosen.random() < 0.01 else raw


def odd_address(path: str, asked: dict[str, str], chosen: random.Random) -> tuple[str, dict[str, str]]:
    if chosen.random() < 0.12:
        parts = path.split("/")
        parts[chosen.randrange(2, len(parts))] = quote(
            str(chosen.choice(NASTY))[:500].encode("utf-8", "replace"), safe=""
        )
        path = "/".join(parts)
    if chosen.random() < 0.1:
        name = chosen.choice([*asked, "find", "rows", "reader"])
        asked = asked | {name: str(chosen.choice(NASTY))[:2_000].encode("utf-8", "replace").decode()}
    return path, asked


class Sent:
    """What came back, of all clients."""

    def __init__(self, many: int):
        self.left, self.many = many, many
        self.statuses: collections.Counter[int] = collections.Counter()
        self.wrong: list[str] = []
        self.slowest = 0.0
        self.lock = threading.Lock()

    def take(self) -> bool:
        with self.lock:
            if self.left % 2_000 == 0 and self.left < self.many:
                print(f"{self.many - self.left:,} requests, {len(self.wrong)} wrong", flush=True)
            self.left -= 1
            return self.left >= 0

    def note(self, request: str, answer: httpx.Response, took: float) -> None:
        with self.lock:
            self.slowest = max(self.slowest, took)
            self.statuses[answer.status_code] += 1
            kind = answer.headers.get("content-type", "")
            refused = answer.status_code >= 400
            if answer.status_code >= 500 or took > SLOW:
                self.wrong.append(f"{request}: {answer.status_code} after {took:.1f} s {answer.text[:200]}")
            elif refused and (
                not kind.startswith(("application/problem+json", "text/plain")) or len(answer.content) > 3_000
            ):
                self.wrong.append(f"{request}: {answer.status_code} as {kind}, {len(answer.content)} bytes")


def send(url: str, known: dict[str, list[str]], seed: int, sent: Sent) -> None:
    chosen = random.Random(seed)
    maker = Maker(known, chosen)
    with talk.to(url, 60) as client:
        while sent.take():
            method, path, body, asked = maker.right()
            if method == "DELETE" and (path.count("/") == 3 or chosen.random() < 0.9):
                path = re.sub(r"/[^/]+$", "/nothing", path)  # else soon nothing would be left to ask about
            path, asked = odd_address(path, asked, chosen)
            content = mangled(body, chosen)
            if method == "PUT" and content is None:
                content = chosen.choice((b"", b"a,b\n1,2\n", b"\0" * 1_000, b"PAR1" + b"\xff" * 200, b"ARROW1\0\0"))
            heads = {"content-type": "application/json"} if body is not None else {}
            if chosen.random() < 0.08:
                heads = heads | chosen.choice(HEADS)
            began = time.monotonic()
            try:
                request = client.build_request(method, path, params=asked, content=content, headers=heads)
                answer = client.send(request)
            except httpx.TransportError as problem:
                sent.wrong.append(f"{method} {path[:100]}: {problem!r}")
                continue
            except (httpx.InvalidURL, ValueError):
                continue
            sent.note(f"{method} {path[:120]} {(content or b'')[:200]!r}", answer, time.monotonic() - began)


def tidy(url: str, ended: threading.Event) -> None:
    """Cancel what was begun, so that requests and not what they ask for take the time."""
    with talk.to(url, 60) as client:
        while not ended.wait(5):
            for audit in client.get("/api/audits").json():
                for task in client.get(f"/api/audits/{audit['id']}/tasks").json():
                    if task["state"] in ("queued", "running"):
                        client.post(f"/api/tasks/{task['id']}/cancel")


def known_of(client: httpx.Client) -> dict[str, list[str]]:
    """Numbers and names of what is there."""
    audits = [talk.demo_audit(client)]
    copied = [client.post(f"/api/audits/{audits[0]['id']}/duplicate").json()["id"] for _ in range(3)]
    at = f"/api/audits/{audits[0]['id']}"
    context = {"model": audits[0]["models"][0]["id"], "rows": "hold-out"}
    made = client.post(f"{at}/reports", json=context).json()
    assert talk.wait(client, made, 300)["state"] == "done"
    evidence = [one["key"] for one in client.get(f"{at}/evidence").json()][:40]
    kept = client.post(f"{at}/dossier", json={"kind": "note", "text": "Looked at twice."}).json()
    columns = [one["name"] for one in audits[0]["spec"]["columns"]]
    models = [one["id"] for one in audits[0]["models"]]
    return {
        "audit_id": [audits[0]["id"], *copied], "model_id": models, "other_id": models, "model": models,
        "alongside": models, "key": evidence, "evidence": evidence, "number": ["1"], "task_id": [made.get("task", made).get("id", "1")],
        "kept_id": [str(kept.get("id", 1))], "note_id": ["1"], "name": ["report.html", "audit.json", *columns], "part": ["schema", "policy"],
        "reader": ["full", "summary", "public"], "rows": ["hold-out", "training", "all"], "column": columns, "feature": columns,
        "attribute": columns, "columns": columns, "features": columns, "group": ["outer isles", "uplands", "nowhere"],
        "reference": ["harbour town"], "metric": ["selection_rate", "true_positive_rate"], "estimator": ["linear", "naive Bayes"],
        "text": ["select count(*) from rows", "age_band is missing", "Read @{home_area / uplands / rows}."],
        "word": [*columns[:6], "event", "yes", "uplands", "0.5", "a note"],
    }  # fmt: skip


def main() -> None:
    many = int(sys.argv[2]) if len(sys.argv) > 2 else MANY
    seed = int(sys.argv[3]) if len(sys.argv) > 3 else 0
    with tempfile.TemporaryDirectory(prefix="zt-mangled-") as folder:
        Path(folder).chmod(0o755)
        supervisor = Supervisor(Home(Path(folder)))
        supervisor.start()
        talk.KEYS[supervisor.url] = supervisor.home.key
        try:
            with talk.to(supervisor.url, 120) as client:
                assert talk.wait(client, client.post("/api/demo").json(), 600)["state"] == "done"
                known = known_of(client)
            sent, began = Sent(many), time.monotonic()
            clients = [
                threading.Thread(target=send, args=(supervisor.url, known, seed * CLIENTS + number, sent))
                for number in range(CLIENTS)
            ]
            ended = threading.Event()
            threading.Thread(target=tidy, args=(supervisor.url, ended), daemon=True).start()
            for one in clients:
                one.start()
            for one in clients:
                one.join()
            ended.set()
            took = time.monotonic() - began
            with talk.to(supervisor.url, 120) as client:
                there = client.get(f"/api/audits/{known['audit_id'][0]}")
                if there.status_code not in (200, 404) or client.get("/api/audits").status_code != 200:
                    sent.wrong.append(f"afterwards the audits cannot be read: {there.text[:200]}")
            found = check.check(FileStore(supervisor.home.files))[0]
            sent.wrong += [one for one in found if "belongs to no record" not in one]
            logged = "".join(one.read_text(errors="replace") for one in supervisor.home.logs.glob("*.log"))
            sent.wrong += [
                f"a traceback in a log: {one}"
                for one in re.findall(r"Traceback[\s\S]{0,3000}?\n(\w[\w.]*: .*)", logged)
            ]
        finally:
            supervisor.stop()
    statuses = ", ".join(f"{count} × {status}" for status, count in sorted(sent.statuses.items()))
    print(f"{many} requests in {took:.0f} s: {statuses}; slowest {sent.slowest:.1f} s; wrong: {len(sent.wrong)}")
    for said, count in collections.Counter(one[:300] for one in sent.wrong).most_common(40):
        print(f"  {count} × {said}")
    sys.exit(1 if sent.wrong else 0)


if __name__ == "__main__":
    main()
