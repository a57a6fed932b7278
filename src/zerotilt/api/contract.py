"""The published contract, and the names the screens use: written from the code's own types."""

from __future__ import annotations

import json
import re
import tempfile
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from zerotilt.api.app import create
from zerotilt.core import rows, words
from zerotilt.core.again import AGAIN
from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.drivers.losses import LOSS_LABELS
from zerotilt.core.findings import GATHERED, SEVERE
from zerotilt.core.groups.metrics import METRICS
from zerotilt.core.inputs import INPUTS
from zerotilt.core.meaning import PARTS
from zerotilt.core.method import Method
from zerotilt.core.methods import METHODS
from zerotilt.core.pockets.errors import CALLED
from zerotilt.core.predictors import formats
from zerotilt.core.steps.every import REMEDIES
from zerotilt.core.steps.remedy import Remedy
from zerotilt.core.tasks import KINDS
from zerotilt.report.auditfile import AuditFile
from zerotilt.store.files import FileStore

PROJECT = Path(__file__).resolve().parents[3]
FORMATS = PROJECT / "docs" / "formats"
NAMES = PROJECT / "web" / "src" / "api"
WORDS = PROJECT / "docs" / "methods.md"
RECIPES = PROJECT / "docs" / "recipes.md"


def documents() -> dict[Path, str]:
    """Where each document stands, and its content."""
    with tempfile.TemporaryDirectory() as folder:
        openapi = create(FileStore(Path(folder))).openapi()
    schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", **AuditFile.model_json_schema()}
    metrics = {
        name: {
            "label": metric.label,
            "short": metric.short,
            "kind": metric.kind,
            "unit": metric.unit,
            "meaning": metric.meaning,
            "tasks": list(metric.tasks),
            "signed": metric.signed,
        }
        for name, metric in METRICS.items()
    }
    tasks = {
        task: {
            "named": kind.named,
            "cut": kind.cut,
            "classed": kind.classed,
            "decides": kind.decides,
            "scaled": kind.scaled,
            "headline": kind.headline,
        }
        for task, kind in KINDS.items()
    }
    methods = {name: declared(method) for name, method in METHODS.items()}
    bodies = {
        FORMATS / "openapi.json": openapi,
        NAMES / "findings.json": {"gathered": GATHERED, "severe": SEVERE, "again": AGAIN},
        FORMATS / "audit.schema.json": schema,
        NAMES / "metrics.json": metrics,
        NAMES / "methods.json": methods,
        NAMES / "formats.json": {
            name: {"words": one.words, "files": list(one.files)} for name, one in formats.FORMATS.items()
        },
        NAMES / "inputs.json": {
            name: {"title": one.plain, "words": one.words, "files": list(one.files), "use": one.use}
            for name, one in INPUTS.items()
        },
        NAMES / "remedies.json": {name: _form_of(one) for name, one in REMEDIES.items()},
        NAMES / "notes.json": {name: method.note for name, method in METHODS.items()},
        NAMES / "tasks.json": tasks,
        NAMES / "numbers.cases.json": written(),
        NAMES / "words.json": {"losses": LOSS_LABELS, "rows": rows.NAMES, "errors": CALLED},
        NAMES / "parts.json": {name: list(part.model_fields) for name, part in PARTS.items()},
    }
    found = {path: json.dumps(body, indent=1, ensure_ascii=False) + "\n" for path, body in bodies.items()}
    return found | {
        WORDS: in_words(WORDS.read_text(encoding="utf-8")),
        RECIPES: remedies_in(RECIPES.read_text(encoding="utf-8")),
    }


def remedies_in(document: str) -> str:
    """The document of recipes with its remedies as they are declared now."""
    head = "| field | what is done | what it takes for granted, whom it can hurt, and the law |\n|---|---|---|\n"
    lines = [f"| `{one.written}` | {one.does} | {one.assumes} {one.hurts} {one.law} |\n" for one in REMEDIES.values()]
    told = "<!-- remedies -->\n" + head + "".join(lines) + "<!-- end of remedies -->"
    found, many = re.subn(r"<!-- remedies -->\n.*?<!-- end of remedies -->", lambda _: told, document, flags=re.S)
    if not many:
        raise ValueError(f"{RECIPES.name} has no place for remedies: write <!-- remedies --> there")
    return found


def _form_of(remedy: Remedy) -> dict[str, Any]:
    """What the form of a candidate needs of a remedy's declaration."""
    usual = {}
    if remedy.model is not None:
        fields = remedy.model.model_fields.items()
        usual = {name: one.default for name, one in fields if not one.is_required()}
    return {
        "title": remedy.title,
        "where": remedy.where,
        "of": remedy.of,
        "own": remedy.name in Recipe.model_fields,
        "nothing": remedy.nothing,
        "usual": usual,
        "against": list(remedy.against),
        "warned": remedy.warned,
        "form": [{"name": name, **asdict(one)} for name, one in remedy.form.items()],
    }


def in_words(document: str) -> str:
    """The document of methods with each area's notes as its methods have them now.

    Raises
    ------
    ValueError : methods of an area have no place in it.
    """
    areas = {method.area for method in METHODS.values()}
    if missing := areas - set(re.findall(r"<!-- notes of (\w+) -->\n", document)):
        raise ValueError(f"{WORDS.name} has no notes of {', '.join(sorted(missing))}: write <!-- notes of … --> there")

    def notes(found: re.Match) -> str:
        own = [method for method in METHODS.values() if method.area == found[1]]
        written = "\n".join(f"### {method.title}\n{method.note}\n" for method in own)
        return f"<!-- notes of {found[1]} -->\n{written}<!-- end of notes -->"

    return re.sub(r"<!-- notes of (\w+) -->\n.*?<!-- end of notes -->", notes, document, flags=re.S)


LIMITS = {"minimum": "least", "maximum": "most", "exclusiveMinimum": "over", "exclusiveMaximum": "under"}
SHARED = ("row", "case", "other", "at_least", "at_most")
"""Numbers that mean the same in every method."""


def written() -> list[dict[str, Any]]:
    """Numbers as the core writes them: ties, signs, sizes. The pages' own writing is tested against these."""
    rng = np.random.default_rng(20)
    plain = [0.0, -0.0, 0.5, 2.675, 0.125, 0.375, 1.005, 0.0625, 999.95, 999.949, 1234.5, 1235.5, 1e6, 12345678.9]
    drawn = rng.normal(size=40) * 10.0 ** rng.integers(-7, 7, 40)
    values = [*plain, *(-one for one in plain[2:]), *(float(one) for one in drawn)]
    return [
        {
            "value": value,
            "percent": words.percent(value / 100),
            "decimal": words.decimal(value),
            "two": words.decimal(value, 2),
            "quantity": words.quantity(value, "days"),
            "difference": words.difference(value, "probability"),
            "ratio": words.ratio(abs(value)),
        }
        for value in values
    ]


def declared(method: Method) -> dict[str, Any]:
    """What screens need of a method's declaration: where it is read, and how its settings stand in an address."""
    schema = method.settings.model_json_schema()
    return {
        "title": method.title,
        "area": method.area,
        "part": method.part,
        "main": method.main,
        "alongside": method.reads_alongside,
        "findings": method.findings is not None,
        "depends": sorted(method.depends),
        "others": method.reads_others or "recipe" in method.needs,
        "first_look": dict(method.first_look),
        "settings": {
            name: _setting(method, name, body, schema.get("$defs", {})) for name, body in schema["properties"].items()
        }
        if "properties" in schema
        else {},
    }


def _setting(method: Method, name: str, body: dict[str, Any], defs: dict[str, Any]) -> dict[str, Any]:
    """A setting's name in the address, what may stand there, and what it is where nothing does."""
    known = defs.get(body.get("$ref", "").rpartition("/")[2], {}) | body
    branches = [one for one in known.get("anyOf", [known]) if one.get("type") != "null"]
    kind = branches[0].get("type", "string")
    # how many rows or points are read is one method's own affair; a feature or a group is the sheet's
    own = kind in ("integer", "number") and name not in SHARED
    address = method.address.get(name, f"{method.name}-{name}" if own else name)
    found: dict[str, Any] = {"address": address, "kind": kind}
    found |= {said: branches[0][name] for name, said in LIMITS.items() if name in branches[0]}
    if "enum" in branches[0]:
        found["values"] = branches[0]["enum"]
    if kind == "array":
        items = branches[0].get("items") or (branches[0].get("prefixItems") or [{}])[0]
        found["of"] = items.get("type", "object")
    if kind == "object" and isinstance(values := branches[0].get("additionalProperties"), dict):
        found["of"] = values.get("type", "string")
    if "default" in body:
        found["default"] = body["default"]
    elif kind == "object":
        found["default"] = {}
    return found


if __name__ == "__main__":
    for _path, _text in documents().items():
        _path.write_text(_text, encoding="utf-8")
