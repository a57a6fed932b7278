"""Talking to a running server as a client does."""

from __future__ import annotations

import io
import ssl
import time
from typing import Any

import httpx
import pyarrow as pa
import pyarrow.csv as pacsv

PLAIN = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
"""Nothing here is encrypted; to load every authority that there is takes longer than most questions."""


KEYS: dict[str, str] = {}
"""Of the servers that run here, by their addresses."""


def bearer(url: str) -> dict[str, str]:
    """The header that a program sends."""
    return {"Authorization": f"Bearer {KEYS[url]}"} if url in KEYS else {}


def to(url: str, seconds: float = 60) -> httpx.Client:
    """A client of a running server."""
    return httpx.Client(base_url=url, timeout=seconds, verify=PLAIN, headers=bearer(url))


def with_key(client: httpx.Client, path: str) -> str:
    """The address of a page as who may enter gives it to a program."""
    url = str(client.base_url).rstrip("/")
    return f"{url}{path}?key={KEYS[url]}"


def let_in(window: Any, url: str) -> Any:
    """A browser's window that holds the key, as after the address of the start was opened in it."""
    name = f"zerotilt-{url.rpartition(':')[2]}"
    window.add_cookies([{"name": name, "value": KEYS[url], "url": url, "httpOnly": True, "sameSite": "Lax"}])
    return window


def wait(client: httpx.Client, task: dict[str, Any], seconds: float = 180) -> dict[str, Any]:
    """The task when it has ended."""
    until = time.monotonic() + seconds
    while task["state"] in ("queued", "running"):
        assert time.monotonic() < until, f"{task['title']} did not end: {task}"
        time.sleep(0.05)
        task = client.get(task["address"]).json()
    return task


def demo_audit(client: httpx.Client) -> dict[str, Any]:
    found = next(one for one in client.get("/api/audits").json() if one["demo"])
    return client.get(f"/api/audits/{found['id']}").json()


def new_audit(client: httpx.Client, title: str = "Audit of a test") -> str:
    return client.post("/api/audits", json={"title": title}).json()["id"]


def csv_bytes(table: pa.Table) -> bytes:
    sink = io.BytesIO()
    pacsv.write_csv(table, sink)
    return sink.getvalue()


def put_table(client: httpx.Client, audit: str, data: bytes, name: str = "table.csv") -> dict[str, Any]:
    answer = client.put(f"/api/audits/{audit}/table", params={"name": name}, content=data)
    assert answer.status_code == 202, answer.text
    return wait(client, answer.json())


def put_model(client: httpx.Client, audit: str, data: bytes, name: str = "model.onnx") -> dict[str, Any]:
    answer = client.put(f"/api/audits/{audit}/models", params={"name": name}, content=data)
    assert answer.status_code == 202, answer.text
    return wait(client, answer.json())


def read(client: httpx.Client, audit: str, method: str, context: dict, settings: dict | None = None) -> dict[str, Any]:
    """The evidence of a method, waited for."""
    body = {"context": context, "settings": settings or {}}
    while True:
        answer = client.post(f"/api/audits/{audit}/readings/{method}", json=body)
        assert answer.status_code == 200, answer.text
        if answer.json()["evidence"]:
            return answer.json()["evidence"]
        task = wait(client, answer.json()["task"])
        assert task["state"] == "done", task


def set_roles(spec: dict[str, Any], **roles: str) -> dict[str, Any]:
    columns = [column | {"role": roles.get(column["name"], column["role"])} for column in spec["columns"]]
    return spec | {"columns": columns}


PARTS = {
    "schema": ("columns",),
    "problem": (
        "task", "event", "favourable", "favourable_classes", "favourable_end", "threshold", "holdout_values",
        "training_values", "holdout_share", "seed", "model_inputs", "model_event_class", "model_readings", "favourable_said",
        "decision_means", "score_top",
    ),
    "comparisons": ("intersections", "segments"),
    "policy": ("policy",),
    "wording": ("wording",),
    "changeable": ("allowed",),
}  # fmt: skip


def put_part(
    client: httpx.Client, audit: str, part: str, body: dict[str, Any], read: str | None = None
) -> httpx.Response:
    """Write one part of the meaning; ``read``: the tag of the version that was read."""
    headers = {"If-Match": read} if read else {}
    return client.put(f"/api/audits/{audit}/meaning/{part}", json=body, headers=headers)


def put_spec(client: httpx.Client, audit: str, spec: dict[str, Any]) -> dict[str, Any]:
    """Write what has changed of a meaning, part by part; the audit then."""
    now = client.get(f"/api/audits/{audit}").json()
    spec = spec | {"favourable_said": True}  # who writes all of it has been asked
    for part, names in PARTS.items():
        if any(spec[name] != now["spec"][name] for name in names if name in spec):
            answer = put_part(client, audit, part, {name: spec[name] for name in names if name in spec})
            assert answer.status_code == 200, answer.text
            now = answer.json()
    return now


def expect(client: httpx.Client, audit: str, feature: str, expected: str | None) -> httpx.Response:
    """Say how the output is expected to go along a feature, or take it back."""
    columns = client.get(f"/api/audits/{audit}").json()["spec"]["columns"]
    known = {one["name"]: one["expected"] for one in columns if one["expected"]} | {feature: expected}
    said = {name: direction for name, direction in known.items() if direction}
    return put_part(client, audit, "expectations", {"expectations": said})


def put_back(client: httpx.Client, audit: dict[str, Any]) -> None:
    """What the columns mean, what is compared, limits and rules as they were when the audit was looked at."""
    now = put_spec(client, audit["id"], audit["spec"])
    for column in audit["spec"]["columns"]:
        expected = {one["name"]: one["expected"] for one in audit["spec"]["columns"] if one["expected"]}
        if column["expected"] != next(
            one["expected"] for one in now["spec"]["columns"] if one["name"] == column["name"]
        ):
            put_part(client, audit["id"], "expectations", {"expectations": expected})
            break
    for model in now["models"]:
        if model["rule"]:
            address = f"/api/audits/{audit['id']}/models/{model['id']}/rule"
            client.put(address, json={"rule": None, "author": "test"})
