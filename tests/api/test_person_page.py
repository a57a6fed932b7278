"""The page for the person through the API: as HTML and PDF, of this evidence only, with nothing of the sender's read as markup."""

from __future__ import annotations

import io
import re

import pytest
from pypdf import PdfReader
from tests.api import talk

HOSTILE = "Ask <b>us</b> <script>alert(1)</script>\n\n=1+1 {{ 7 * 7 }} “at the desk”"


@pytest.fixture
def letter(client, audit, context):
    """Evidence of a refused case, and the address of its page."""
    listed = talk.read(client, audit["id"], "cases", context, {"decided": "inspected", "limit": 1})
    row = listed["result"]["cases"][0]["row"]
    found = talk.read(client, audit["id"], "person", context, {"row": row})
    return found, f"/api/audits/{audit['id']}/evidence/{found['key']}/page"


def test_the_page_says_every_sentence_of_its_evidence_and_stands_alone(client, letter):
    found, at = letter
    page = client.get(at)
    assert page.headers["content-type"].startswith("text/html")
    assert "sandbox" in page.headers["content-security-policy"]
    text = re.sub(r"\s+", " ", re.sub(r"<style.*?</style>|<[^>]+>", " ", page.text, flags=re.S))
    for one in found["result"]["counted"]:
        assert f"by {abs(one['contribution']) * 100:.1f} percentage points" in text
    assert found["key"][:12] in text and "about claim" in text.lower()
    assert not re.search(r"(src|href)=\"?(?!data:)", page.text)


def test_what_the_sender_adds_stays_text(client, letter):
    page = client.get(letter[1], params={"closing": HOSTILE})
    assert "<script>" not in page.text and "&lt;script&gt;" in page.text
    assert "{{ 7 * 7 }}" in page.text
    assert client.get(letter[1], params={"closing": "x" * 2_001}).status_code == 422


def test_the_page_prints_on_one_sheet_of_paper_and_is_tagged(client, letter):
    pdf = client.get(
        f"{letter[1]}.pdf", params={"closing": "Ask at the claims desk.\n\nYou can object within four weeks."}
    )
    assert pdf.headers["content-type"] == "application/pdf"
    read = PdfReader(io.BytesIO(pdf.content))
    assert len(read.pages) == 1
    assert read.trailer["/Root"]["/MarkInfo"]["/Marked"]
    assert "four weeks" in read.pages[0].extract_text()


def test_another_result_is_no_page_for_a_person(client, audit, context, letter):
    other = talk.read(client, audit["id"], "ladder", context, {"row": 5})
    answer = client.get(f"/api/audits/{audit['id']}/evidence/{other['key']}/page")
    assert answer.status_code == 422 and "cannot be read as a page" in answer.text
    assert client.get(letter[1].replace(letter[0]["key"], "0" * 64)).status_code == 404
