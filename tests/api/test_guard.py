"""Host and Origin, without a running installation."""

import asyncio
import re
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest

from zerotilt.api.guard import Guard


async def _echo(scope, receive, send):
    await send({"type": "http.response.start", "status": 200, "headers": [(b"x-content-type-options", b"own")]})
    await send({"type": "http.response.body", "body": b"reached"})


def ask(**headers) -> httpx.Response:
    async def run():
        transport = httpx.ASGITransport(app=Guard(_echo))
        async with httpx.AsyncClient(transport=transport, base_url="http://127.0.0.1:8420") as client:
            return await client.post("/", headers=headers)

    with ThreadPoolExecutor(1) as apart:  # a browser's tests leave a loop of their own in this thread
        return apart.submit(asyncio.run, run()).result()


@pytest.mark.parametrize("host", ["127.0.0.1:8420", "localhost:8420", "localhost", "[::1]:8420", "[::1]"])
def test_this_machine_is_let_in(host):
    assert ask(host=host).text == "reached"


@pytest.mark.parametrize(
    "host", ["evil.example", "127.0.0.1.evil.example:8420", "10.0.0.1:8420", "", "localhost.evil:80"]
)
def test_other_names_for_this_machine_are_not(host):
    answer = ask(host=host)
    assert answer.status_code == 421
    assert answer.headers["content-type"] == "application/problem+json"


@pytest.mark.parametrize(
    ("origin", "status"),
    [
        ("http://127.0.0.1:8420", 200),
        ("http://127.0.0.1:9999", 403),
        ("http://localhost:8420", 403),
        ("https://evil.example", 403),
        ("null", 403),
    ],
)
def test_only_a_page_of_the_same_address_may_ask(origin, status):
    assert ask(host="127.0.0.1:8420", origin=origin).status_code == status


def test_headers_of_an_answers_own_are_kept_and_the_others_added():
    answer = ask(host="localhost")
    assert answer.headers.get_list("x-content-type-options") == ["own"]
    assert answer.headers["referrer-policy"] == "no-referrer"
    assert "frame-ancestors 'self'" in answer.headers["content-security-policy"]


def test_answers_are_kept_in_no_cache_and_files_named_by_their_content_for_good(client, audit):
    for path in (f"/api/audits/{audit['id']}", "/api/audits", f"/api/audits/{audit['id']}/reports", "/api/nothing"):
        assert client.get(path).headers["cache-control"] == "no-store", path
    page = client.get("/").text
    script = re.search(r'src="(/assets/[^"]+\.js)"', page)
    assert script and "immutable" in client.get(script[1]).headers["cache-control"]


def test_settings_that_would_take_an_hour_are_refused_at_once_and_nobody_waits_for_them(client, audit):
    for text in ("a" + ".a" * 60_000 + " = 1", "a = " + "[" * 6_000 + "]" * 6_000):
        answer = client.post(f"/api/audits/{audit['id']}/settings", json={"file": text})
        assert answer.status_code == 422 and "nested deeper than 32 levels" in answer.json()["detail"]


@pytest.mark.parametrize(
    ("wanted", "status"), [("bytes=zzz", 400), ("lines=1-2", 400), ("bytes", 400), ("bytes=99999999-", 416)]
)
def test_a_range_that_cannot_be_given_is_answered_as_every_problem_is(client, wanted, status):
    answer = client.get("/", headers={"Range": wanted})
    assert answer.status_code == status and answer.headers["content-type"] == "application/problem+json"
    assert answer.json()["todo"].startswith("Ask for bytes=FIRST-LAST") and answer.headers["x-content-type-options"]
    assert answer.headers.get("content-range", "bytes */").startswith(("bytes */", "*/"))


def test_a_range_that_can_be_given_is_given(client):
    whole, some = client.get("/"), client.get("/", headers={"Range": "bytes=2-5"})
    assert some.status_code == 206 and some.content == whole.content[2:6]
