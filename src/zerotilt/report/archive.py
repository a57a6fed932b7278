"""Every table behind a report as CSV in one archive, the same bytes for the same evidence."""

from __future__ import annotations

import re
import zipfile
from pathlib import Path

from zerotilt.core import arrayfile, tabulate
from zerotilt.report.compose import Bundle

BEGAN = (1980, 1, 1, 0, 0, 0)
"""The earliest time that such an archive knows: when it was made is said in the manifest."""


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
