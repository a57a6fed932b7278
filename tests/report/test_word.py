"""The report for a word processor holds what the HTML holds, as text, with its figures, heads of tables and texts in their place."""

import re
import zipfile

import docx
import pytest
from docx.oxml.ns import qn
from lxml import html as tree
from tests.report.test_render import HOSTILE, rendered, subject_of

from zerotilt.report import word

FORMULA = '=cmd|"/c calc"!A0'


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    """A report with hostile names, its HTML, and the document that was made of it."""
    path = tmp_path_factory.mktemp("word") / "report.docx"
    html = rendered(subject_of(HOSTILE, FORMULA, n=120))[1]
    word.document(html, path)
    return html, path, docx.Document(str(path))


def said(text: str) -> str:
    return re.sub(r"\s+", " ", text).strip()


def texts(document) -> list[str]:
    """Everything that stands in it, in its order, tables' cells too."""
    return [
        said("".join(one.text or "" for one in part.iter(qn("w:t")))) for part in document.element.body.iter(qn("w:p"))
    ]


def test_every_heading_paragraph_and_cell_is_there_as_text(made):
    html, _, document = made
    page = tree.document_fromstring(html)
    there = texts(document)
    for tag in ("h2", "h3", "th", "td"):
        for one in page.xpath(f"//main//{tag}[not(ancestor-or-self::*[@hidden])]"):
            assert said(one.text_content()) in there or not said(one.text_content()), tag
    whole = " ".join(there)
    assert '<b onmouseover="x">$a 1^2$</b>' in whole and FORMULA in whole


def test_names_make_no_field_and_no_link(made):
    with zipfile.ZipFile(made[1]) as archive:
        body = archive.read("word/document.xml").decode()
        links = archive.read("word/_rels/document.xml.rels").decode()
    assert "w:instrText" not in body and "w:fldSimple" not in body and "w:hyperlink" not in body
    assert 'TargetMode="External"' not in links


def test_tables_have_heads_that_go_on_and_figures_a_text_in_their_place(made):
    html, _, document = made
    page = tree.document_fromstring(html)
    heads = [
        row for table in document.tables for row in table.rows if row._tr.find(f".//{qn('w:tblHeader')}") is not None
    ]
    wanted = page.xpath("//main//table[not(ancestor-or-self::*[@hidden])]/thead/tr")
    assert len(heads) == len(wanted) > 3
    figures = page.xpath("//main//figure[svg][not(ancestor-or-self::*[@hidden])]")
    shown = document.element.body.findall(f".//{qn('wp:docPr')}")
    assert [one.get("descr") for one in shown] == [one.get("aria-label") for one in figures] and len(shown) > 3
    captions = [
        one.text for one in document.paragraphs if one.style.name == "Caption" and one.text.startswith("Figure ")
    ]
    assert [int(re.match(r"Figure (\d+)\. ", one)[1]) for one in captions] == list(range(1, len(figures) + 1))


def test_figures_are_sharp_enough_for_print(made):
    document = made[2]
    for shape in document.inline_shapes:
        part = document.part.related_parts[shape._inline.graphic.graphicData.pic.blipFill.blip.embed]
        assert part.image.px_width / (shape.width / 914_400) == pytest.approx(300, rel=0.02)
        assert part.image.px_width / part.image.px_height == pytest.approx(shape.width / shape.height, rel=0.01)


def test_the_same_report_makes_the_same_document_and_signs_that_are_no_text_are_replaced(tmp_path):
    html = "<html><head><title>A \x01</title></head><body><main><h1>T</h1><p>a&#1;b<br>c</p><ul><li>one<ul><li>two</li></ul></li></ul></main></body></html>"
    files = [tmp_path / "a.docx", tmp_path / "b.docx"]
    for path in files:
        word.document(html, path)
    made = [docx.Document(str(path)) for path in files]
    assert made[0].element.xml == made[1].element.xml
    assert [one.text for one in made[0].paragraphs] == ["T", "a�b\nc", "one", "two"]
    assert made[0].paragraphs[3].style.name == "List Bullet 2"
