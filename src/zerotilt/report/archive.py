"""What stands behind a report: its tables as CSV in one archive, and its evidence with all that computes it again."""

from __future__ import annotations

import json
import re
import zipfile
from pathlib import Path
from typing import Any

from zerotilt.core import arrayfile, tabulate
from zerotilt.report.compose import Bundle

INPUTS = ("spec", "table_name", "table_digest", "model_name", "model_digest")
BEGAN = (1980, 1, 1, 0, 0, 0)
"""The earliest time that such an archive knows: when it was made is said in the manifest."""


EVIDENCE = "evidence.json"
FORMAT = "zerotilt-evidence/1"


def evidence_file(bundle: Bundle, arguments: dict[str, Any]) -> str:
    """Every piece of evidence as it was computed, with the meaning, table and model versions that it was computed from."""
    names = bundle.numbered
    found = {
        "format": FORMAT,
        **{name: arguments.get(name) for name in INPUTS},
        "evidence": [{"name": names[key], **one.model_dump(mode="json")} for key, one in bundle.by_key().items()],
    }
    return json.dumps(found, ensure_ascii=False, sort_keys=True)


def write_tables(bundle: Bundle, path: Path) -> None:
    """One file for each array of each piece of evidence, named by its mark: ``E10 groups compared, disparities.csv``."""
    names = bundle.numbered
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for evidence in bundle.by_key().values():
            if not evidence.readable:
                continue
            for name, table in tabulate.tables(evidence.typed).items():
                title = re.sub(
                    r"[^\w ,-]", "", f"{names[evidence.key]} {evidence.title.lower()}, {name.replace('_', ' ')}"
                )
                entry = zipfile.ZipInfo(f"{title}.csv", BEGAN)
                entry.compress_type = zipfile.ZIP_DEFLATED
                archive.writestr(entry, arrayfile.written(table, "csv")[0])
