"""The published contract, and the names the screens use: written from the code's own types."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path

from zerotilt.api.app import create
from zerotilt.core.groups.metrics import METRICS
from zerotilt.core.methods import METHODS
from zerotilt.report.auditfile import AuditFile
from zerotilt.store.files import FileStore

PROJECT = Path(__file__).resolve().parents[3]
FORMATS = PROJECT / "docs" / "formats"
NAMES = PROJECT / "web" / "src" / "api"


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
    methods = {
        name: {"title": method.title, "alongside": method.reads_alongside, "first_look": dict(method.first_look)}
        for name, method in METHODS.items()
    }
    bodies = {
        FORMATS / "openapi.json": openapi,
        FORMATS / "audit.schema.json": schema,
        NAMES / "metrics.json": metrics,
        NAMES / "methods.json": methods,
    }
    return {path: json.dumps(body, indent=1, ensure_ascii=False) + "\n" for path, body in bodies.items()}


if __name__ == "__main__":
    for _path, _text in documents().items():
        _path.write_text(_text, encoding="utf-8")
