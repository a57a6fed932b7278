"""Other forms of a report that was written: PDF to print and to hand in, Markdown to go on with. Made from its HTML."""

from __future__ import annotations

import base64
import contextlib
import gc
import logging
import re
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from html import escape
from pathlib import Path
from typing import Any

from lxml import html as tree

from zerotilt.report.archive import BEGAN
from zerotilt.report.letters import FAMILY, letters


def with_signatures(html: str, signed: Sequence[Mapping[str, str]]) -> str:
    """A report's page with the names of those who signed it at its end; what was signed is the page without them.

    Parameters
    ----------
    signed : of each its name, role, note, signed (when) and digest.
    """
    if not signed:
        return html
    lines = []
    for one in signed:
        told = {name: escape(value) for name, value in one.items()}
        note = f": {told['note']}" if told["note"] else ""
        lines.append(f"<li>{told['name']}, {told['role']}, on {told['signed']}{note} ({told['digest'][:16]}…)</li>")
    said = f'<section aria-label="Signed by"><h2>Signed by</h2><ol>{"".join(lines)}</ol></section>'
    before, end, after = html.rpartition("</main>")
    return f"{before}{said}{end}{after}"


def pdf(html: str) -> bytes:
    """A tagged PDF (PDF/UA-1) with real text, vector figures, contents and page numbers. Nothing is fetched."""
    from weasyprint import HTML  # takes long to load
    from weasyprint.urls import URLFetcher

    logging.getLogger("weasyprint").setLevel(logging.CRITICAL)  # it tells of every rule that is for screens
    page = tree.document_fromstring(html)
    for figure in page.iter("figure"):
        drawing = figure.find("svg")
        if drawing is not None:  # a picture has a text in its place; a drawing that stands in the page has none
            source = base64.b64encode(vector(drawing).encode()).decode()
            picture = tree.Element("img", src=f"data:image/svg+xml;base64,{source}", alt=figure.get("aria-label", ""))
            picture.tail = drawing.tail
            figure.replace(drawing, picture)
            figure.attrib.pop("role", None)
            figure.attrib.pop("aria-label", None)
    for note in page.xpath("//meta[@http-equiv]"):
        note.getparent().remove(note)
    whole = tree.tostring(page, encoding="unicode", doctype="<!doctype html>")
    with _without_looking_back(), _pages_told_apart():
        made = HTML(string=whole, url_fetcher=URLFetcher(allowed_protocols=["data"])).write_pdf(
            pdf_variant="pdf/ua-1", finisher=_finished
        )
    if made is None:
        raise ValueError("nothing was written")
    return made


def _finished(document: Any, pdf: Any) -> None:
    """What a tagged PDF must say besides (ISO 14289-1): of every head of a table whether it is a column's or a row's (7.5);
    what stands in margins is no content (7.8); links are printed (7.18).
    """
    told: dict[Any, Any] = {one.reference: one for one in pdf.objects if hasattr(one, "keys")}
    for row in [one for one in told.values() if one.get("S") == "/TR"]:
        cells = [told[kid] for kid in row["K"] if kid in told]
        scope = "/Column" if all(one["S"] == "/TH" for one in cells) else "/Row"
        for one in cells:
            if one["S"] == "/TH":
                one["A"]["Scope"] = scope
    for one in told.values():
        if one.get("Subtype") == "/Link":
            one["F"] = 4
    root = told[pdf.catalog["StructTreeRoot"]]
    left, reached = list(root["K"]), set()
    while left:
        one = left.pop()
        if one in told and one not in reached:
            reached.add(one)
            left += told[one].get("K", ())
    outside: dict[Any, set[int]] = {}
    for reference, one in told.items():
        if one.get("Type") == "/StructElem" and reference not in reached:
            outside.setdefault(one["Pg"], set()).update(kid for kid in one["K"] if isinstance(kid, int))
    streams = {one.reference: one for one in pdf.objects if hasattr(one, "stream")}
    for page, marks in outside.items():
        stream = streams[told[page]["Contents"]].stream
        for place, part in enumerate(stream):
            if hasattr(part, "keys") and part.get("MCID") in marks:
                stream[place - 1] = "/Artifact"
                stream[place] = "<</Type /Pagination>>"


@contextlib.contextmanager
def _without_looking_back() -> Iterator[None]:
    """Millions of boxes are made and kept to the end; looking among them for what is kept no more takes a fifth of the time."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


class _Pages:
    """What stands for each page of a document, made when it is asked for."""

    def __init__(self, kids: Any):
        self._kids = kids

    def __getitem__(self, page: int) -> bytes:
        return f"{self._kids[::3][page] if page < 0 else self._kids[3 * page]} 0 R".encode("ascii")


@contextlib.contextmanager
def _pages_told_apart() -> Iterator[None]:
    """Every tag names its page; the library writes the names of all pages down to take one, which of 300 pages takes a
    fifteenth of the time."""
    from pydyf import PDF

    writer: Any = PDF
    was = writer.page_references
    writer.page_references = property(lambda whole: _Pages(whole.pages["Kids"]))
    try:
        yield
    finally:
        writer.page_references = was


def vector(drawing) -> str:
    """A drawing as a file of its own; the parser has made its names small, which SVG's own are not."""
    drawing.attrib.pop("aria-hidden", None)
    drawing.set("xmlns", "http://www.w3.org/2000/svg")
    text = str(tree.tostring(drawing, encoding="unicode", with_tail=False, method="xml"))
    text = (
        text.replace("viewbox=", "viewBox=")
        .replace("clippath", "clipPath")
        .replace("preserveaspectratio", "preserveAspectRatio")
    )
    text = text.replace("lineargradient", "linearGradient").replace("gradientunits", "gradientUnits")
    if "xlink:href" in text and "xmlns:xlink" not in text:
        text = text.replace("<svg ", '<svg xmlns:xlink="http://www.w3.org/1999/xlink" ', 1)
    return text


def _lettered(drawing: str) -> str:
    """A drawing with its letters in it: opened by itself, it stands in no page that has them."""
    face = (
        f"@font-face {{ font-family:'{FAMILY}'; src:url(data:font/woff2;base64,{letters()[FAMILY]}) format('woff2'); }}"
    )
    head = drawing.index(">") + 1
    return f"{drawing[:head]}<style>{face}</style>{drawing[head:]}"


def markdown(html: str, path: Path) -> None:
    """An archive with ``report.md`` and its figures as SVG."""
    page = tree.document_fromstring(html)
    figures: list[str] = []
    lines = [line for part in page.iter("main") for line in _blocks(part, figures)]
    text = re.sub(r"\n{3,}", "\n\n", "\n".join(lines)).strip() + "\n"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in [("report.md", text), *((f"figure-{n}.svg", one) for n, one in enumerate(figures, 1))]:
            entry = zipfile.ZipInfo(name, BEGAN)
            entry.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(entry, content)


def _blocks(part, figures: list[str]) -> Iterator[str]:
    """The lines of what stands within a part."""
    for one in part:
        tag = one.tag if isinstance(one.tag, str) else ""
        if not tag or one.get("hidden") is not None or tag == "nav":
            continue
        if tag in ("h1", "h2", "h3", "h4", "h5", "h6"):
            yield f"\n{'#' * int(tag[1])} {_inline(one)}\n"
        elif tag == "p":
            yield f"\n{_inline(one)}\n"
        elif tag in ("ul", "ol"):
            yield ""
            yield from _items(one, "")
        elif tag == "table":
            yield from _table(one)
        elif tag == "blockquote":
            yield "\n" + "\n".join(f"> {line}" for line in _inline(one, keep=True).splitlines()) + "\n"
        elif tag == "pre":
            fence = "```" + "`" * max((len(run) for run in re.findall("`{3,}", one.text_content())), default=0)
            yield f"\n{fence}\n{one.text_content().rstrip()}\n{fence}\n"
        elif tag == "figure":
            drawing = one.find("svg")
            if drawing is not None:
                figures.append(_lettered(vector(drawing)))
                caption = one.find("figcaption")
                said = _inline(caption) if caption is not None else ""
                yield f"\n![{_plain(one.get('aria-label', ''))}](figure-{len(figures)}.svg)\n\n*Figure {len(figures)}.* {said}\n"
        else:
            yield from _blocks(one, figures)


def _items(listed, indent: str) -> Iterator[str]:
    for item in listed.iterchildren("li"):
        inner = [child for child in item if child.tag in ("ul", "ol")]
        yield f"{indent}- {_inline(item, without=inner)}"
        for child in inner:
            yield from _items(child, indent + "  ")


def _table(table) -> Iterator[str]:
    caption = table.find("caption")
    if caption is not None:
        yield f"\n*{_inline(caption)}*"
    rows = [[_inline(cell).replace("|", "\\|") for cell in row if cell.tag in ("th", "td")] for row in table.iter("tr")]
    rows = [row for row in rows if row]
    if not rows:
        return
    wide = max(len(row) for row in rows)
    headed = table.find("thead") is not None
    head = rows[0] if headed else [""] * wide
    yield ""
    for row in [head, ["---"] * wide, *(rows[1:] if headed else rows)]:
        yield f"| {' | '.join([*row, *[''] * (wide - len(row))])} |"
    yield ""


def _inline(part, without=(), keep: bool = False) -> str:
    """Text of an element with what stands out in it; every sign that Markdown would read is written as a sign."""
    out = _plain(part.text or "")
    for one in part:
        if one not in without and isinstance(one.tag, str):
            inner = _inline(one, keep=keep)
            if one.tag in ("b", "strong") and inner.strip():
                inner = f"**{inner.strip()}**"
            elif one.tag in ("i", "em") and inner.strip():
                inner = f"*{inner.strip()}*"
            elif one.tag == "br":
                inner = " "
            out += inner
        out += _plain(one.tail or "")
    return out if keep else re.sub(r"\s+", " ", out).strip()


def _plain(text: str) -> str:
    """Text whose signs are not read as Markdown or HTML."""
    return re.sub(r"([\\`*_{}\[\]<>#|~$])", r"\\\1", text)
