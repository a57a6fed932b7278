"""The published contract: OpenAPI and the JSON Schema of audit.json, written from the code's own types."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path

from zerotilt.api.app import create
from zerotilt.report.auditfile import AuditFile
from zerotilt.store.files import FileStore

FORMATS = Path(__file__).resolve().parents[3] / "docs" / "formats"


def documents() -> dict[str, str]:
    """File name to content."""
    with tempfile.TemporaryDirectory() as folder:
        openapi = create(FileStore(Path(folder))).openapi()
    schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", **AuditFile.model_json_schema()}
    return {
        name: json.dumps(body, indent=1, ensure_ascii=False) + "\n"
        for name, body in (("openapi.json", openapi), ("audit.schema.json", schema))
    }


if __name__ == "__main__":
    for _name, _text in documents().items():
        (FORMATS / _name).write_text(_text, encoding="utf-8")
