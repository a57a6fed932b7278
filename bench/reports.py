"""Reports: from known evidence to HTML for three readers, to PDF and DOCX, and what 300 pages take; an audit as in a build."""

from __future__ import annotations

import io
import subprocess
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

import pyarrow.csv as pacsv
from pypdf import PdfReader
from timing import line

from zerotilt import settings_file
from zerotilt.core.evidence import Digests
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work
from zerotilt.demo import audit, generator
from zerotilt.report import forms, word
from zerotilt.report.compose import gather
from zerotilt.report.document import READERS
from zerotilt.report.render import Cover, render
from zerotilt.settings_file import HowRead, SettingsFile


def main() -> None:
    claims, audits = audit.build_all()
    table = Table(claims)
    for one in audits:
        name, data = next(iter(one.models.items()))
        subject = Subject(one.spec, table, OnnxPredictor(data, table, one.spec))
        digests = Digests.of(one.spec, "0" * 64, "1" * 64)
        known = gather(subject, digests, Work()).by_key()
        cover = Cover(one.title, 1, "claims.parquet", "0" * 64, table.rows, name, gaps=[])
        render(gather(subject, digests, Work(), known=known), subject, cover)  # what draws is loaded once

        started = time.perf_counter()
        bundle, drawn = gather(subject, digests, Work(), known=known), {}
        pages = {reader: render(bundle, subject, cover, reader=reader, drawn=drawn).html for reader in READERS}
        line(f"{one.title}: HTML for three readers, from known evidence", time.perf_counter() - started)
        started = time.perf_counter()
        forms.pdf(pages["full"])
        line(f"{one.title}: full report as PDF", time.perf_counter() - started)
        started = time.perf_counter()
        with TemporaryDirectory() as folder:
            word.document(pages["full"], Path(folder) / "report.docx")
        line(f"{one.title}: full report as DOCX", time.perf_counter() - started)
    body = pages["full"].partition("<section")[2].rpartition("</main>")[0]
    many = pages["full"].replace("</main>", f"<section{body}" * 9 + "</main>")
    started = time.perf_counter()
    made = forms.pdf(many)
    took = time.perf_counter() - started
    line(f"{len(PdfReader(io.BytesIO(made)).pages)} pages as PDF", took)
    in_a_build(audits[0])


def in_a_build(demo: audit.DemoAudit) -> None:
    """``./zt audit audit.toml`` on 100,000 rows, from the start of the command to its end; and held against itself."""
    with TemporaryDirectory() as name:
        folder = Path(name)
        pacsv.write_csv(generator.claims(100_000), folder / "claims.csv")
        version, data = next(iter(demo.models.items()))
        (folder / "model.onnx").write_bytes(data)
        found = SettingsFile(spec=demo.spec, table="claims.csv", model="model.onnx", reading=HowRead(rows="all"))
        (folder / "audit.toml").write_text(settings_file.written(found))
        for said, more in (("", ()), (", against a baseline", ("--against", "report/audit.json", "--out", "again"))):
            command = [sys.executable, "-m", "zerotilt.cli", "audit", "audit.toml", "--junit", "rules.xml", *more]
            started = time.perf_counter()
            run = subprocess.run(command, cwd=folder, capture_output=True, text=True)
            line(
                f"audit from TOML, 100,000 rows of CSV, {version}{said}",
                time.perf_counter() - started,
                f"exit {run.returncode}",
            )


if __name__ == "__main__":
    main()
