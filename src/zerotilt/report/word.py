"""A report that was written as a document for a word processor, for those who must go on editing it. Made from its HTML."""

from __future__ import annotations

import base64
import io
import logging
import re
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

from docx import Document
from docx.oxml import OxmlElement
from docx.oxml.ns import qn
from docx.shared import Inches, Pt
from lxml import html as tree

from zerotilt.report.forms import vector

WIDE = 6.3
"""Inches of a figure: a page of A4 within its margins."""
SHARP = 300
"""Dots an inch of figures, which is what print asks for."""
NOT_TEXT = re.compile(r"[^\t\n\r\x20-\uD7FF\uE000-\uFFFD\U00010000-\U0010FFFF]")
BEGAN = datetime(1980, 1, 1)
"""When it was made is said in the text; the same report makes the same file."""


def document(html: str, path: Path) -> None:
    """Write the file: headings, text, lists, tables whose heads go on over pages, figures with a text in their place."""
    page = tree.document_fromstring(html)
    drawings = [figure.find("svg") for figure in page.iter("figure")]
    pictures = iter(list(_pictures([vector(one) for one in drawings if one is not None])))
    made = Document()
    title = page.findtext(".//title") or "Audit report"
    about = made.core_properties
    about.title, about.author, about.comments, about.language = _text(title)[:255], "", "", "en-GB"
    about.created = about.modified = BEGAN
    made.styles["Normal"].font.name, made.styles["Normal"].font.size = "Calibri", Pt(10.5)  # type: ignore[union-attr]
    made.sections[0].left_margin = made.sections[0].right_margin = Inches((8.27 - WIDE) / 2)
    made.sections[0].page_width, made.sections[0].page_height = Inches(8.27), Inches(11.69)
    state = _Writing(made, pictures)
    for part in page.iter("main"):
        state.blocks(part)
    made.save(str(path))


class _Writing:
    """Adds what stands in a page to a document, in its order."""

    def __init__(self, made: Any, pictures: Iterator[bytes]):
        self.made, self.pictures, self.figures = made, pictures, 0

    def blocks(self, part: Any) -> None:
        for one in part:
            tag = one.tag if isinstance(one.tag, str) else ""
            if not tag or one.get("hidden") is not None or tag in ("nav", "style"):
                continue
            if re.fullmatch("h[1-6]", tag):
                self.inline(self.made.add_heading(level=0 if tag == "h1" else int(tag[1]) - 1), one)
            elif tag in ("p", "blockquote"):
                self.inline(self.made.add_paragraph(style="Intense Quote" if tag == "blockquote" else None), one)
            elif tag in ("ul", "ol"):
                self.items(one, 1)
            elif tag == "table":
                self.table(one)
            elif tag == "pre":
                run = self.made.add_paragraph().add_run(_text(one.text_content().rstrip()))
                run.font.name = "Consolas"
            elif tag == "figure":
                self.figure(one)
            else:
                self.blocks(one)

    def items(self, listed: Any, level: int) -> None:
        style = "List Bullet" if level == 1 else f"List Bullet {min(level, 3)}"
        for item in listed.iterchildren("li"):
            self.inline(self.made.add_paragraph(style=style), item)
            for child in item:
                if child.tag in ("ul", "ol"):
                    self.items(child, level + 1)

    def table(self, table: Any) -> None:
        caption = table.find("caption")
        if caption is not None:
            self.inline(self.made.add_paragraph(style="Caption"), caption)
        rows = [[cell for cell in row if cell.tag in ("th", "td")] for row in table.iter("tr")]
        rows = [row for row in rows if row]
        if not rows:
            return
        wide = max(len(row) for row in rows)
        made = self.made.add_table(rows=len(rows), cols=wide, style="Light Grid")
        heads = len(table.findall(".//thead/tr"))
        for place, (cells, own) in enumerate(zip(rows, made.rows, strict=True)):
            for cell, to in zip(cells, own.cells, strict=False):
                self.inline(to.paragraphs[0], cell, small=True)
            marks = [OxmlElement("w:cantSplit")] + ([OxmlElement("w:tblHeader")] if place < heads else [])
            for mark in marks:
                mark.set(qn("w:val"), "true")
                own._tr.get_or_add_trPr().append(mark)
        self.made.add_paragraph()

    def figure(self, figure: Any) -> None:
        if figure.find("svg") is None:
            return
        self.figures += 1
        self.made.add_picture(io.BytesIO(next(self.pictures)), width=Inches(WIDE))
        said = self.made.paragraphs[-1]._p.find(f".//{qn('wp:docPr')}")
        said.set("descr", _text(figure.get("aria-label", "")))
        caption = self.made.add_paragraph(style="Caption")
        caption.add_run(f"Figure {self.figures}. ").bold = True
        if (own := figure.find("figcaption")) is not None:
            self.inline(caption, own)

    def inline(self, paragraph: Any, part: Any, small: bool = False) -> None:
        for text, bold, italic in _runs(part, part.tag == "th", False):
            run = paragraph.add_run(text)
            run.bold, run.italic = bold or None, italic or None
            if small:
                run.font.size = Pt(8.5)


def _runs(part: Any, bold: bool, italic: bool) -> Iterator[tuple[str, bool, bool]]:
    """Text of an element with what stands out in it; lists within are written by themselves."""
    if part.text:
        yield _plain(part.text), bold, italic
    for one in part:
        if isinstance(one.tag, str) and one.tag not in ("ul", "ol"):
            if one.tag == "br":
                yield "\n", bold, italic
            else:
                stands = (one.tag in ("b", "strong", "mark"), one.tag in ("i", "em"))
                yield from _runs(one, bold or stands[0], italic or stands[1])
                if one.tag in ("p", "li", "div"):
                    yield "\n", bold, italic
        if one.tail:
            yield _plain(one.tail), bold, italic


def _plain(text: str) -> str:
    return _text(re.sub(r"\s+", " ", text))


def _text(text: str) -> str:
    return NOT_TEXT.sub("�", text)


def _pictures(drawings: list[str]) -> Iterator[bytes]:
    """Drawings as pictures, in print's sharpness; each is set as a page of its own size."""
    if not drawings:
        return
    import pypdfium2  # these take long to load
    from weasyprint import HTML
    from weasyprint.urls import URLFetcher

    logging.getLogger("weasyprint").setLevel(logging.CRITICAL)
    rules, pages = "body { margin: 0 }", ""
    for place, drawing in enumerate(drawings):
        tall = WIDE * _ratio(drawing)
        rules += f" @page p{place} {{ size: {WIDE}in {tall:.4f}in; margin: 0 }} .p{place} {{ page: p{place}; height: {tall:.4f}in }}"
        source = base64.b64encode(drawing.encode()).decode()
        pages += f'<div class="p{place}"><img alt="" style="width: 100%; display: block" src="data:image/svg+xml;base64,{source}"></div>'
    html = f"<style>{rules}</style>{pages}"
    pdf = HTML(string=html, url_fetcher=URLFetcher(allowed_protocols=["data"])).write_pdf()
    assert pdf is not None
    with pypdfium2.PdfDocument(pdf) as found:
        for place in range(len(drawings)):
            sink = io.BytesIO()
            found[place].render(scale=SHARP / 72).to_pil().convert("RGB").save(
                sink, "PNG", dpi=(SHARP, SHARP), optimize=False
            )
            yield sink.getvalue()


def _ratio(drawing: str) -> float:
    """How tall a drawing is for its width."""
    box = re.search(r'viewBox="[-\d.]+ [-\d.]+ ([\d.]+) ([\d.]+)"', drawing)
    return float(box[2]) / float(box[1]) if box else 0.75
