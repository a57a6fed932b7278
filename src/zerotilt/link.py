"""A running Zero Tilt from a notebook: a model and its table sent there, an audit read back as tables.

>>> from zerotilt.notebook import open_audit, publish
>>> sent = publish(pipeline, X, y, event="yes", groups=["home_area"], server="http://127.0.0.1:8420")  # doctest: +SKIP
>>> open_audit(sent.link).findings().to_pandas()  # doctest: +SKIP
"""

from __future__ import annotations

import contextlib
import io
import os
import subprocess
import sys
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pyarrow as pa
import pyarrow.parquet as pq

from zerotilt import key
from zerotilt.core import words
from zerotilt.core.predictors.made import Made
from zerotilt.core.refusal import Refused

SERVER = "ZT_SERVER"
"""Name in the environment of the address of a running Zero Tilt."""
TOLERANCE = 1e-5
"""Largest difference between a file's predictions and the estimator's, of a number in standard deviations of it."""
LIBRARIES = ("scikit-learn", "xgboost", "xgboost-cpu", "lightgbm", "numpy", "pandas", "skl2onnx", "onnxmltools")
MOST_SCRIPT = 100_000
PATIENCE = 600.0


@dataclass(frozen=True)
class Published:
    """A model and its table in an audit of a running Zero Tilt."""

    link: str
    audit: str
    model: str
    made: Made
    favourable: str = ""
    """What is taken to be the favourable decision, in a sentence; empty for a version of an audit that says it."""

    def __repr__(self) -> str:
        found = self.made
        return (
            f"{self.link}\nThe file predicts as the estimator does on {found.rows:,} rows: the largest difference is "
            f"{found.largest_difference:.2g}."
        ) + (f"\n{self.favourable}" if self.favourable else "")

    def _repr_html_(self) -> str:
        from html import escape

        link, *said = (escape(one) for one in repr(self).splitlines())
        return "<br>".join([f'<a href="{link}">{link}</a>', *said])


class Server:
    """Requests to a running Zero Tilt; what it refuses is raised with its own words."""

    def __init__(self, address: str):
        parts = urlsplit(address)
        if parts.scheme not in ("http", "https") or not parts.netloc:
            raise Refused(f"server: “{address}” is no address.", todo="Give what the start command prints, http://…")
        self.base = f"{parts.scheme}://{parts.netloc}"
        self.near = parts.hostname in ("127.0.0.1", "localhost", "::1")
        held = key.of(address)
        self._headers = {"Authorization": f"Bearer {held}"} if held else {}

    def ask(self, method: str, path: str, **given: Any) -> httpx.Response:
        try:
            answer = httpx.request(
                method, f"{self.base}{path}", timeout=PATIENCE, trust_env=not self.near, headers=self._headers, **given
            )
        except httpx.TransportError as problem:
            raise Refused(
                f"server: {self.base} does not answer ({problem}).", todo="Start it, or check the address."
            ) from None
        if answer.is_success:
            return answer
        told: dict[str, Any] = {}
        with contextlib.suppress(ValueError):
            told = answer.json()
        raise Refused(
            str(told.get("detail") or f"{answer.status_code} {answer.reason_phrase}"),
            where=told.get("where"),
            todo=told.get("todo"),
        )

    def done(self, task: dict[str, Any]) -> dict[str, Any]:
        """A task once it has ended well."""
        until = time.monotonic() + PATIENCE
        while task["state"] in ("queued", "running"):
            if time.monotonic() > until:
                raise Refused(
                    f"{task['title']} did not end within {PATIENCE:g} seconds.", todo="Look at the audit's page."
                )
            time.sleep(0.1)
            task = self.ask("GET", task["address"]).json()
        if task["state"] != "done":
            problem = task.get("error") or {}
            raise Refused(
                problem.get("message") or f"{task['title']}: {task['state']}",
                where=problem.get("where"),
                todo=problem.get("todo"),
            )
        return task


def server_at(address: str | None) -> Server:
    found = address or os.environ.get(SERVER)
    if not found:
        raise Refused(
            f"server: none was given, and {SERVER} names none.", todo="Give what the start command prints, http://…"
        )
    return Server(found)


def how_made(model: Any, rows: int, difference: float) -> Made:
    """What can be told of a model from where it is: its class and parameters, libraries, script or cell, git commit."""
    steps = [step for _, step in model.steps] if hasattr(model, "steps") else [model]
    libraries = {}
    for name in LIBRARIES:
        with contextlib.suppress(PackageNotFoundError):
            libraries[name] = version(name)
    commit, changed = _commit()
    parameters = model.get_params(deep=True) if hasattr(model, "get_params") else {}
    said = {
        str(name): repr(value)[:1_000]
        for name, value in parameters.items()
        if not hasattr(value, "get_params") and name != "steps"
    }
    return Made(
        estimator=", then ".join(f"{type(step).__module__.split('.')[0]} {type(step).__name__}" for step in steps)[
            :400
        ],
        parameters=dict(list(said.items())[:500]),
        libraries=libraries,
        made=datetime.now(UTC).isoformat(timespec="seconds"),
        script=_script()[:MOST_SCRIPT],
        commit=commit,
        changed=changed,
        rows=rows,
        largest_difference=difference,
    )


def _script() -> str:
    """The cell that runs, or the script that was started."""
    main = sys.modules.get("__main__")
    cells = getattr(main, "In", None)
    if isinstance(cells, list) and cells and isinstance(cells[-1], str):
        return cells[-1]
    path = getattr(main, "__file__", None)
    with contextlib.suppress(OSError, UnicodeDecodeError, TypeError):
        return Path(path).read_text(encoding="utf-8") if path else ""
    return ""


def _commit() -> tuple[str, bool]:
    """The commit of the folder that this runs in, and whether it holds changes besides; nothing where there is no git."""

    def git(*words: str) -> str:
        return subprocess.run(["git", *words], capture_output=True, text=True, timeout=10, check=True).stdout.strip()

    with contextlib.suppress(OSError, subprocess.SubprocessError):
        return git("rev-parse", "HEAD"), bool(git("status", "--porcelain"))
    return "", False


def send(
    server: Server,
    table: pa.Table,
    model: bytes,
    spec: Any,
    title: str,
    name: str,
    groups: Sequence[str],
    audit: str | None,
) -> tuple[str, str]:
    """A table, its meaning and a model to the server; the audit's identity, and the model version's.

    Parameters
    ----------
    spec : meaning of the columns that the study knows; the server's guesses stand for the rest. audit : one that is there
        already, to which the model is added as a further version.
    """
    number: str = audit or server.ask("POST", "/api/audits", json={"title": title}).json()["id"]
    at = f"/api/audits/{number}"
    if audit is None:
        sink = io.BytesIO()
        pq.write_table(table, sink, compression="zstd")
        server.done(server.ask("PUT", f"{at}/table", params={"name": "table.parquet"}, content=sink.getvalue()).json())
    before = {one["id"] for one in server.ask("GET", at).json()["models"]}
    server.done(server.ask("PUT", f"{at}/models", params={"name": name}, content=model).json())
    view = server.ask("GET", at).json()
    version = next((one["id"] for one in view["models"] if one["id"] not in before), view["models"][-1]["id"])
    if not before and spec is not None:
        known = {column.name: column.model_dump(mode="json") for column in spec.columns}
        columns = [
            column
            | (
                {part: known[column["name"]][part] for part in ("role", "kind", "order", "grouped")}
                if column["name"] in known
                else {}
            )
            for column in view["spec"]["columns"]
        ]
        columns = [
            column | ({"role": "group"} if column["name"] in groups and column["name"] not in known else {})
            for column in columns
        ]
        server.ask("PUT", f"{at}/meaning/schema", json={"columns": columns, "author": ""})
        told = spec.part("problem")
        now = server.ask("GET", at).json()["spec"]
        kept = ("holdout_values", "training_values", "holdout_share")
        problem = {field: now[field] if field in kept else value for field, value in told.items()}
        server.ask("PUT", f"{at}/meaning/problem", json=problem | {"author": ""})
    server.done(server.ask("POST", f"{at}/finish", json={"model": version}).json())
    return number, version


class OpenAudit:
    """An audit of a running Zero Tilt, read back as Arrow tables (``.to_pandas()`` where a pandas frame is wanted).

    Parameters
    ----------
    link : address of any of its pages.
    """

    def __init__(self, link: str):
        parts = urlsplit(link)
        self._server = Server(link)
        steps = parts.path.strip("/").split("/")
        if len(steps) < 2 or steps[0] != "audits":
            raise Refused(f"link: “{link}” is no page of an audit.", todo="Copy the address of one of its pages.")
        self.identity = steps[1]
        self._at = f"/api/audits/{self.identity}"
        self._asked = {name: values[-1] for name, values in parse_qs(parts.query).items()}
        self._view()  # who gives a wrong address learns of it here

    @property
    def title(self) -> str:
        """As it is now."""
        return self._view()["title"]

    def __repr__(self) -> str:
        return f"{self.title}: {len(self.models())} model versions, {self.evidence().num_rows} results"

    def _view(self) -> dict[str, Any]:
        return self._server.ask("GET", self._at).json()

    def models(self) -> dict[str, str]:
        """Model versions: names by their identities."""
        return {one["id"]: one["name"] for one in self._view()["models"]}

    def evidence(self) -> pa.Table:
        """Every result that was computed for the audit: key, method, title, rows, when, its reading, and what has changed
        since; a result of today has nothing there."""
        return _table(self._server.ask("GET", f"{self._at}/evidence").json(), EVIDENCE)

    def arrays(self, key: str) -> list[str]:
        """Names of the arrays of a result."""
        return self._server.ask("GET", f"{self._at}/evidence/{key}/arrays").json()

    def table(self, key: str, array: str | None = None) -> pa.Table:
        """An array of a result, by the result's key or the name of a method, of which the newest of today is taken.

        Raises
        ------
        Refused : there is no such result or array; those that there are are named. By the name of a method also: all that
            was computed of it is of before a change.
        """
        found = [one for one in self.evidence().to_pylist() if key in (one["key"], one["method"])]
        if not found:
            known = sorted(set(self.evidence().column("method").to_pylist()))
            raise Refused(f"key: nothing called “{key}” was computed; there are {', '.join(known) or 'no results'}.")
        today = [one for one in found if one["key"] == key or not one["changed"]]
        if not today:
            last = max(found, key=lambda one: one["computed"])
            raise Refused(
                f"key: {last['title']} was computed before these changed: {words.listing(last['changed'])}.",
                todo=f"Read it again on its page, or give the key of the result of before, “{last['key']}”.",
            )
        newest = max(today, key=lambda one: one["computed"])
        names = self.arrays(newest["key"])
        if not names or (array is not None and array not in names):
            raise Refused(f"array: {newest['title']} has {', '.join(names) or 'no arrays'}.")
        path = f"{self._at}/evidence/{newest['key']}/arrays/{array or names[0]}"
        return pq.read_table(io.BytesIO(self._server.ask("GET", path, params={"kind": "parquet"}).content))

    def findings(self) -> pa.Table:
        """Findings of what the link reads, with what was decided about each.

        What was found before a change is measured again first; what can't be says so under ``again``.
        """
        view = self._view()
        known = {one["id"] for one in view["models"]}
        asked = self._asked.get("model")
        context = {
            "model": asked
            if asked in known
            else view["checked_model"] or (view["models"][-1]["id"] if view["models"] else None),
            "rows": self._asked.get("rows") or ("all" if view["only_all"] else "hold-out"),
        }
        until = time.monotonic() + PATIENCE
        while True:
            found = self._server.ask("POST", f"{self._at}/findings", json=context).json()
            if not any(one["measuring"] for one in found) or time.monotonic() > until:
                break
            time.sleep(0.1)
        return _table([{**one, **one["standing"]} for one in found], FINDINGS)


EVIDENCE = pa.schema(
    [("key", pa.string()), ("method", pa.string()), ("title", pa.string()), ("rows", pa.int64()), ("rows_described", pa.string()),
     ("computed", pa.string()), ("reading", pa.string()), ("changed", pa.list_(pa.string()))]
)  # fmt: skip
FINDINGS = pa.schema(
    [("name", pa.string()), ("kind", pa.string()), ("severity", pa.string()), ("statement", pa.string()), ("area", pa.string()),
     ("group", pa.string()), ("rows", pa.int64()), ("decision", pa.string()), ("reason", pa.string()), ("owner", pa.string()),
     ("due", pa.string()), ("evidence", pa.string()), ("again", pa.string())]
)  # fmt: skip


def _table(records: Sequence[Mapping[str, Any]], schema: pa.Schema) -> pa.Table:
    return pa.Table.from_pylist([{name: one.get(name) for name in schema.names} for one in records], schema)


def open_audit(link: str) -> OpenAudit:
    """An audit of a running Zero Tilt, by the address of any of its pages.

    Raises
    ------
    Refused : the address is none of an audit, or nobody answers there.
    """
    return OpenAudit(link)
