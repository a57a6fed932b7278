"""Reports: from known evidence to HTML for three readers, to PDF, and what 300 pages take."""

from __future__ import annotations

import io
import time

from pypdf import PdfReader
from timing import line

from zerotilt.core.evidence import Digests
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work
from zerotilt.demo import audit
from zerotilt.report import forms
from zerotilt.report.compose import gather
from zerotilt.report.document import READERS
from zerotilt.report.render import Cover, render


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
    body = pages["full"].partition("<section")[2].rpartition("</main>")[0]
    many = pages["full"].replace("</main>", f"<section{body}" * 9 + "</main>")
    started = time.perf_counter()
    made = forms.pdf(many)
    took = time.perf_counter() - started
    line(f"{len(PdfReader(io.BytesIO(made)).pages)} pages as PDF", took)


if __name__ == "__main__":
    main()
