"""The built front end is sent in the smallest form that is understood."""

from __future__ import annotations

import pytest
from starlette.testclient import TestClient

from zerotilt.api.app import create
from zerotilt.api.pages import FOREVER
from zerotilt.store.files import FileStore


@pytest.fixture(scope="module")
def pages(tmp_path_factory):
    folder = tmp_path_factory.mktemp("pages")
    (folder / "assets").mkdir()
    (folder / "index.html").write_text("<!doctype html>")
    (folder / "assets" / "a.js").write_bytes(b"plain")
    (folder / "assets" / "a.js.gz").write_bytes(b"as gzip")
    (folder / "assets" / "a.js.br").write_bytes(b"as brotli")
    (folder / "assets" / "b.css").write_bytes(b"alone")
    with TestClient(create(FileStore(folder / "files"), folder), base_url="http://127.0.0.1") as client:
        yield client


@pytest.mark.parametrize(
    ("accepted", "encoding", "held"),
    [
        ("gzip, deflate, br, zstd", "br", b"as brotli"),
        ("gzip, deflate", "gzip", b"as gzip"),
        ("br;q=0, gzip;q=0.5", "gzip", b"as gzip"),
        ("brown", None, b"plain"),
        ("identity", None, b"plain"),
    ],
)
def test_the_smallest_form_that_is_understood_is_sent(pages, accepted, encoding, held):
    with pages.stream("GET", "/assets/a.js", headers={"Accept-Encoding": accepted}) as answer:
        assert b"".join(answer.iter_raw()) == held
    assert answer.headers.get("content-encoding") == encoding
    assert answer.headers["content-type"].startswith("text/javascript")
    assert answer.headers["cache-control"] == FOREVER
    assert encoding is None or answer.headers["vary"] == "Accept-Encoding"


def test_what_has_no_other_form_is_sent_as_it_is(pages):
    answer = pages.get("/assets/b.css", headers={"Accept-Encoding": "br, gzip"})
    assert answer.content == b"alone" and "content-encoding" not in answer.headers
    assert pages.get("/assets/c.css").status_code == 404
