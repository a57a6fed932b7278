"""Only who holds the key of this Zero Tilt may read and write in it: browsers by a cookie, programs by a bearer token."""

from __future__ import annotations

import asyncio
import os
import stat
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest
from tests.api import talk

from zerotilt import key as keys
from zerotilt.api.guard import Guard
from zerotilt.core.refusal import Refused
from zerotilt.link import Server
from zerotilt.services.home import Home

KEY = "a-key_of-this-house"


async def _echo(scope, receive, send):
    await send({"type": "http.response.start", "status": 200, "headers": []})
    await send({"type": "http.response.body", "body": b"reached"})


def ask(path: str, method: str = "GET", host: str = "127.0.0.1:8420", **headers) -> httpx.Response:
    async def run():
        transport = httpx.ASGITransport(app=Guard(_echo, KEY))
        async with httpx.AsyncClient(transport=transport, base_url="http://127.0.0.1:8420") as client:
            return await client.request(method, path, headers={"host": host} | headers)

    with ThreadPoolExecutor(1) as apart:
        return apart.submit(asyncio.run, run()).result()


@pytest.mark.parametrize("path", ["/", "/audits/1/tilt", "/assets/index.js", "/api/audits", "/api/openapi.json"])
@pytest.mark.parametrize(
    "headers",
    [
        {},
        {"authorization": "Bearer wrong"},
        {"authorization": f"Basic {KEY}"},
        {"authorization": "Bearer "},
        {"cookie": "zerotilt-8420=wrong"},
        {"cookie": f"zerotilt-8421={KEY}"},  # of another house on this machine
        {"cookie": f"zerotilt-8420={KEY}", "authorization": "Bearer wrong"},
        {"cookie": "zerotilt-8420=é"},
    ],
)
def test_without_the_key_nothing_is_told(path, headers):
    raw = {name: value.encode("latin-1") for name, value in headers.items()}
    answer = ask(path, **raw)
    assert answer.status_code == 401 and "reached" not in answer.text and KEY not in answer.text
    assert "./zt address" in answer.text
    assert "default-src 'self'" in answer.headers["content-security-policy"]
    assert answer.headers["cache-control"] == "no-store"
    if path.startswith("/api/"):
        assert answer.headers["content-type"] == "application/problem+json"
        assert answer.headers["www-authenticate"] == "Bearer"


@pytest.mark.parametrize(
    "headers",
    [
        {"authorization": f"Bearer {KEY}"},
        {"authorization": f"bearer {KEY}"},
        {"cookie": f"zerotilt-8420={KEY}"},
        {"cookie": f"other=1; zerotilt-8420={KEY}; more=x"},
    ],
)
def test_with_it_everything_is(headers):
    for path in ("/", "/api/audits"):
        assert ask(path, **headers).text == "reached"
    assert ask("/api/audits", "DELETE", **headers).text == "reached"


def test_the_address_of_the_start_lets_a_browser_in_once_and_the_key_leaves_the_address():
    answer = ask(f"/audits/1/tilt?model=v%2B3&key={KEY}&part=groups")
    assert answer.status_code == 303 and answer.headers["location"] == "/audits/1/tilt?model=v%2B3&part=groups"
    cookie = answer.headers["set-cookie"]
    assert cookie.startswith(f"zerotilt-8420={KEY};") and "HttpOnly" in cookie and "SameSite=lax" in cookie
    assert "Path=/" in cookie and "Domain" not in cookie
    assert ask(f"/?key={KEY}").headers["location"] == "/"
    assert ask("/?key=wrong").status_code == 401 and "set-cookie" not in ask("/?key=wrong").headers
    # nothing is let in by a form, and nobody is sent to another host
    assert ask(f"/?key={KEY}", "POST").status_code == 401
    assert ask(f"http://127.0.0.1:8420//evil.example/?key={KEY}").headers["location"] == "/evil.example/"
    assert ask(f"/?key={KEY}", host="localhost").headers["set-cookie"].startswith("zerotilt-80=")


def test_strangers_are_sent_away_before_the_key_is_looked_at():
    assert ask(f"/?key={KEY}", host="evil.example").status_code == 421
    held = {"authorization": f"Bearer {KEY}"}
    assert ask("/api/audits", "POST", origin="http://127.0.0.1:9999", **held).status_code == 403


@pytest.fixture
def open_umask():
    before = os.umask(0o022)
    yield
    os.umask(before)  # the tests after this one write into a running house


def test_a_house_makes_one_key_that_its_owner_alone_can_read(open_umask, tmp_path):
    first = Home(tmp_path / "house").key
    assert first == Home(tmp_path / "house").key and len(first) >= 40
    assert stat.S_IMODE((tmp_path / "house" / "token").stat().st_mode) == 0o600
    assert first != Home(tmp_path / "other").key
    (tmp_path / "house" / "token").write_text("")  # killed before it was written
    assert len(Home(tmp_path / "house").key) >= 40


def test_a_running_house_is_closed_to_who_does_not_hold_its_key(running):
    with httpx.Client(base_url=running.url, verify=talk.PLAIN) as stranger:
        assert stranger.get("/api/audits").status_code == 401
        assert stranger.post("/api/audits", json={"title": "Mine"}).status_code == 401
        assert stranger.get("/api/health").json()["state"] == "running"
        assert "does not hold its key" in stranger.get("/").text
        entered = stranger.get(running.entrance.removeprefix(running.url), follow_redirects=True)
        assert entered.status_code == 200 and "key=" not in str(entered.url)
        assert stranger.get("/api/audits").status_code == 200  # the cookie was kept


def test_programs_find_the_key_by_themselves(running, monkeypatch, tmp_path):
    monkeypatch.setenv("ZT_HOME", str(tmp_path / "another"))
    monkeypatch.delenv("ZT_KEY", raising=False)
    with pytest.raises(Refused, match="does not hold the key") as told:
        Server(running.url).ask("GET", "/api/audits")
    assert "ZT_KEY" in told.value.todo
    assert Server(running.entrance).ask("GET", "/api/audits").status_code == 200
    monkeypatch.setenv("ZT_KEY", running.home.key)
    assert Server(running.url).ask("GET", "/api/audits").status_code == 200
    monkeypatch.delenv("ZT_KEY")
    monkeypatch.setenv("ZT_HOME", str(running.home.folder))
    assert keys.of(f"{running.url}/audits/1") is None or running.home.note.exists()
    running._note()  # as the start command does
    assert Server(running.url).ask("GET", "/api/audits").status_code == 200
    assert keys.of("http://127.0.0.1:1/") is None  # never sent to whoever else listens here


@pytest.mark.parametrize("note", ["", "[]", "{}", '{"url": 3}', "[" * 50_000])
def test_a_damaged_note_names_no_key(tmp_path, monkeypatch, note):
    monkeypatch.setenv("ZT_HOME", str(tmp_path))
    (tmp_path / "running.json").write_text(note)
    assert keys.of("http://127.0.0.1:8420") is None
