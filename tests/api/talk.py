"""Talking to a running server as a client does."""

from __future__ import annotations

import io
import time
from typing import Any

import httpx
import pyarrow as pa
import pyarrow.csv as pacsv


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


def put_back(client: httpx.Client, audit: dict[str, Any]) -> None:
    """What the columns mean, what is compared, limits and rules as they were when the audit was looked at."""
    address, spec = f"/api/audits/{audit['id']}", audit["spec"]
    now = client.get(address).json()
    compared = {part: spec[part] for part in ("intersections", "segments")}
    choices = {
        "spec": (spec, now["spec"]["columns"] != spec["columns"] or now["spec"]["threshold"] != spec["threshold"]),
        "compared": (compared, any(now["spec"][part] != spec[part] for part in compared)),
        "policy": ({"policy": spec["policy"], "author": "test"}, now["spec"]["policy"] != spec["policy"]),
    }
    for name, (body, changed) in choices.items():
        if changed:
            answer = client.put(f"{address}/{name}", json=body)
            assert answer.status_code == 200, answer.text
    for model in now["models"]:
        if model["rule"]:
            client.put(f"{address}/models/{model['id']}/rule", json={"rule": None, "author": "test"})
