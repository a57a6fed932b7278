"""PDF, Markdown and CSV hold what the HTML holds, as text, whatever people have called their columns."""

import csv
import io
import re
import urllib.request
import zipfile
from xml.etree import ElementTree

import pypdf
import pytest
from markdown_it import MarkdownIt
from tests.report.test_render import HOSTILE, rendered, subject_of

from zerotilt.core import arrayfile, tabulate
from zerotilt.report import archive, forms


@pytest.fixture(scope="module")
def made():
    """A bundle with hostile names, and its HTML."""
    return rendered(subject_of(HOSTILE, '=cmd|"/c"', n=120))


@pytest.fixture(scope="module")
def pdf(made):
    return pypdf.PdfReader(io.BytesIO(forms.pdf(made[1])))


def tags(pdf: pypdf.PdfReader) -> list:
    """Every element of the structure that a screen reader reads."""
    found, left = [], [pdf.trailer["/Root"]["/StructTreeRoot"]]
    while left:
        one = left.pop()
        one = one.get_object() if hasattr(one, "get_object") else one
        if isinstance(one, list):
            left += one
        elif isinstance(one, dict):
            found.append(one)
            if "/K" in one:
                left.append(one["/K"])
    return found


def test_a_pdf_is_tagged_has_a_language_a_title_and_real_text(pdf):
    root = pdf.trailer["/Root"]
    assert root["/MarkInfo"]["/Marked"] and root["/Lang"] == "en" and root["/ViewerPreferences"]["/DisplayDocTitle"]
    assert 'part="1"' in (xmp := root["/Metadata"].get_data().decode()) or "pdfuaid:part" in xmp
    assert HOSTILE in pdf.metadata.title
    text = re.sub(r"\s+", " ", " ".join(page.extract_text() for page in pdf.pages))
    assert "are decided rightly" in text and HOSTILE in text and '=cmd|"/c"' in text
    assert f"1 of {len(pdf.pages)}" in text and "E1" in text


def test_tables_have_heads_and_every_drawing_has_a_text_in_its_place(made, pdf):
    found = tags(pdf)
    kinds = [one.get("/S") for one in found]
    assert {"/H1", "/H2", "/Table", "/TH", "/TD", "/L", "/LI", "/Link"} <= set(kinds)
    drawings = [one for one in found if one.get("/S") == "/Figure"]
    assert len(drawings) == made[1].count("<figure") and all(one.get("/Alt") for one in drawings)
    names = {str(page["/Resources"].get("/XObject", {})) for page in pdf.pages}
    assert not any("/Subtype': '/Image" in name for name in names)  # vectors, no pictures of dots


def test_heads_say_of_what_they_are_margins_are_no_content_and_links_are_printed(pdf):
    """ISO 14289-1, 7.5, 7.8 and 7.18."""
    root = pdf.trailer["/Root"]["/StructTreeRoot"]
    rows, left, marks = [], [root["/K"]], {}
    while left:
        one = left.pop().get_object()
        kids = one if isinstance(one, list) else one.get("/K", [])
        if not isinstance(one, list) and one["/S"] == "/TR":
            rows.append([kid.get_object() for kid in kids])
        for kid in kids:
            if isinstance(kid, int):
                marks.setdefault(one["/Pg"].get_object()["/StructParents"], set()).add(int(kid))
            elif kid.get_object().get("/Type") != "/OBJR":
                left.append(kid)
    assert len(rows) > 20
    for cells in rows:
        heads = [one for one in cells if one["/S"] == "/TH"]
        expected = "/Column" if len(heads) == len(cells) else "/Row"
        assert all(one["/A"]["/Scope"] == expected for one in heads)
    for page in pdf.pages:
        content = page.get_contents().get_data().decode("latin-1")
        tagged = {int(one) for one in re.findall(r"/MCID (\d+)", content)}
        assert tagged <= marks[page["/StructParents"]], "what is marked as content is in the document's tree"
        assert re.search(r"/Artifact\s+<<\s*/Type\s*/Pagination\s*>>\s+BDC", content)
        for link in page.get("/Annots", []):
            assert link.get_object()["/F"] & 4


def test_pages_are_named_as_the_library_names_them():
    from pydyf import PDF, Dictionary

    made = PDF()
    for _ in range(5):
        made.add_page(Dictionary())
    named = made.page_references
    with forms._pages_told_apart():
        assert tuple(made.page_references[one] for one in range(5)) == named and made.page_references[-1] == named[-1]
    assert made.page_references == named


def test_a_pdf_fetches_nothing(monkeypatch):
    asked, open_it = [], urllib.request.OpenerDirector.open

    def noted(self, wanted, *given, **more):
        asked.append(getattr(wanted, "full_url", wanted).partition(":")[0])
        return open_it(self, wanted, *given, **more)

    monkeypatch.setattr("urllib.request.OpenerDirector.open", noted)
    outside = '<main><h1>T</h1><img src="http://elsewhere.example/p.png"><img src="file:///etc/passwd"></main>'
    assert forms.pdf(outside)[:5] == b"%PDF-"
    assert asked == []


def test_markdown_reads_as_the_html_does(made, tmp_path):
    _, html = made
    forms.markdown(html, tmp_path / "m.zip")
    with zipfile.ZipFile(tmp_path / "m.zip") as found:
        text = found.read("report.md").decode()
        figures = [name for name in found.namelist() if name.endswith(".svg")]
        for name in figures:
            assert ElementTree.fromstring(found.read(name)).tag.endswith("}svg")
            assert f"({name})" in text
    assert len(figures) == html.count("<figure")
    back = MarkdownIt("commonmark", {"html": True}).enable("table").render(text)  # markup would be markup here

    def words_of(page: str) -> list[str]:
        page = re.sub(r"<(style|svg|nav|figure|title).*?</\1>", " ", page, flags=re.S)
        return re.findall(r"[\w.,%]+", re.sub(r"&\w+;|&#\d+;", " ", re.sub(r"<[^>]+>", " ", page)))

    assert "onmouseover" in text and "<b onmouseover" not in back and "<i>c" not in back
    wanted = words_of(html)
    held = words_of(back)
    missing = [one for one in set(wanted) if one not in set(held)]
    assert not missing, missing
    assert back.count("<table>") == html.count("<table")


def test_the_archive_holds_every_table_and_no_formula(made, tmp_path):
    bundle, _ = made
    for name in ("a.zip", "b.zip"):
        archive.write_tables(bundle, tmp_path / name)
    assert (tmp_path / "a.zip").read_bytes() == (tmp_path / "b.zip").read_bytes()
    with zipfile.ZipFile(tmp_path / "a.zip") as found:
        names = found.namelist()
        wanted = sum(len(tabulate.tables(one.typed)) for one in bundle.by_key().values())
        assert len(names) == len(set(names)) == wanted
        assert all(re.fullmatch(r"E\d+ [\w ,-]+\.csv", name) for name in names)
        for name in names:
            for row in csv.reader(io.StringIO(found.read(name).decode())):
                assert not any(cell.startswith(("=", "@")) for cell in row)
        compared = next(one for one in bundle.by_key().values() if one.method == "tilt")
        mark = bundle.numbered[compared.key]
        held = found.read(next(name for name in names if name.startswith(f"{mark} ") and "disparities" in name))
        assert held == arrayfile.written(tabulate.tables(compared.typed)["disparities"], "csv")[0]
