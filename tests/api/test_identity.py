"""Every route reaches an audit through who asks: what they have no right to is as if it were not there."""

from __future__ import annotations

import json

import pytest
from fastapi.testclient import TestClient

from zerotilt.api import contract
from zerotilt.api.app import create
from zerotilt.api.identity import Identity, who
from zerotilt.services.postgres import Postgres
from zerotilt.store import database
from zerotilt.store.files import FileStore


class Nobody(Identity):
    def may(self, right, audit):
        return False


class Reader(Identity):
    def may(self, right, audit):
        return right == "read"


OTHERS = {"part": "problem", "name": "points", "key": "k", "number": "1", "kind": "json"}


def routes() -> list[tuple[str, str]]:
    """Every operation whose address names an audit, by the published contract, which another test holds current."""
    paths = json.loads((contract.FORMATS / "openapi.json").read_text())["paths"]
    return [(method.upper(), path) for path, methods in paths.items() if "{audit_id}" in path for method in methods]


@pytest.fixture(scope="module")
def asked(running, tmp_path_factory):
    """The application in this process, over the running database, asked as somebody."""
    assert isinstance(running.postgres, Postgres)
    database.bind(running.postgres.address)
    app = create(FileStore(tmp_path_factory.mktemp("files")))

    def ask(identity: Identity):
        app.dependency_overrides[who] = lambda: identity
        return TestClient(app, base_url="http://127.0.0.1")

    return ask


def address(path: str, audit: str) -> str:
    filled = path.replace("{audit_id}", audit)
    for name, value in OTHERS.items():
        filled = filled.replace(f"{{{name}}}", value)
    for name in ("task_id", "kept_id", "model_id"):
        filled = filled.replace(f"{{{name}}}", "00000000-0000-0000-0000-000000000000")
    return filled


BODIES = {"guide": {"effect": "gives something", "harmed": "both", "labels": "trusted"}}


@pytest.mark.parametrize(("method", "path"), routes())
def test_no_route_shows_an_audit_to_nobody(asked, audit, method, path):
    body = next((one for name, one in BODIES.items() if path.endswith(name)), {})
    answer = asked(Nobody("n")).request(method, address(path, audit["id"]), json=body, params={"name": "a"})
    if answer.status_code == 422:  # what a body lacks is said before anything is looked for
        assert audit["title"] not in answer.text
        return
    assert answer.status_code == 404 and answer.json()["detail"] == "There is no such audit."


def test_who_may_read_only_writes_nothing(asked, audit):
    reader = asked(Reader("r"))
    own = f"/api/audits/{audit['id']}"
    assert reader.get(own).json()["title"] == audit["title"]
    assert reader.get(f"{own}/meaning").json()
    wording = {"wording": audit["spec"]["wording"]}
    assert reader.put(f"{own}/meaning/wording", json=wording).status_code == 404
    assert reader.delete(own).status_code == 404
    assert reader.get("/api/audits").json()


def test_what_is_written_is_signed_by_who_asks(asked, client, audit, restored):
    spec = audit["spec"]
    body = {"wording": spec["wording"] | {"row": "parcel"}}
    answer = asked(Identity("R. Reader")).put(f"/api/audits/{audit['id']}/meaning/wording", json=body)
    assert answer.status_code == 200, answer.text
    assert answer.json()["meaning"]["wording"]["author"] == "R. Reader"
