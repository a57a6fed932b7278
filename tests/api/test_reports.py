"""Composing, writing and signing over HTTP: nothing that somebody wrote is lost, nothing that was written can be altered."""

from __future__ import annotations

import io
import json
import os
import re
import time

import peewee
import pypdf
import pytest
from tests.api import talk
from tests.api.test_conflicts import own  # noqa: F401  fixture

from zerotilt.store import written
from zerotilt.store.check import check, sweep_unowned
from zerotilt.store.database import database
from zerotilt.store.files import FileStore
from zerotilt.store.holdings import files_named
from zerotilt.store.records import Report, Signature

CONTEXT = {"rows": "all"}


def texts(document: dict, **given) -> dict:
    """The document with texts of some pieces."""
    pieces = [piece | {"text": given.get(piece["id"], piece["text"])} for piece in document["pieces"]]
    return document | {"pieces": pieces}


def draft(client, audit):
    return client.get(f"/api/audits/{audit}/draft").json()


def put(client, audit, document, read, **more):
    return client.put(f"/api/audits/{audit}/draft", json={"document": document, "read": read} | more)


def page(client, audit, reader="full") -> dict:
    answer = client.post(f"/api/audits/{audit}/draft/preview", params={"reader": reader}, json=CONTEXT).json()
    if answer["task"]:
        assert talk.wait(client, answer["task"])["state"] == "done"
        answer = client.post(f"/api/audits/{audit}/draft/preview", params={"reader": reader}, json=CONTEXT).json()
    assert answer["page"] and answer["task"] is None
    return answer


def write(client, audit) -> str:
    done = talk.wait(client, client.post(f"/api/audits/{audit}/reports", json=CONTEXT).json())
    assert done["state"] == "done", done
    return f"/api/audits/{audit}/reports/{done['result']['number']}"


@pytest.fixture
def problems(running):
    """What ``zt check`` would say of a report or a signature."""
    files = FileStore(running.home.files)

    def found() -> list[str]:
        with database.connection_context():
            return [one for one in check(files)[0] if "report" in one or "signature" in one]

    return found


def test_two_people_who_write_at_once_lose_nothing(client, own):  # noqa: F811
    first = draft(client, own)
    assert first["number"] == 0 and [piece["id"] for piece in first["document"]["pieces"]][:2] == ["short", "purpose"]
    ada = put(client, own, texts(first["document"], purpose="Ada's purpose"), 0, author="Ada").json()
    assert ada["number"] == 1 and not ada["together"]
    bo = put(client, own, texts(first["document"], data="Bo's data", purpose="Bo's purpose"), 0, author="Bo").json()
    assert bo["together"] and bo["number"] == 2
    kept = {piece["id"]: piece for piece in bo["document"]["pieces"]}
    assert kept["purpose"]["text"] == "Ada's purpose" and kept["data"]["text"] == "Bo's data"
    beside = kept["purpose-2"]
    assert beside["text"] == "Bo's purpose" and beside["title"] == "Purpose and use, as Bo wrote it at the same time"
    assert draft(client, own)["document"] == bo["document"]
    # the same again changes nothing and makes no version
    assert put(client, own, bo["document"], 2).json()["number"] == 2


def test_what_makes_no_document_is_refused_in_words(client, own):  # noqa: F811
    document = draft(client, own)["document"]
    twice = document | {"pieces": [{"id": "purpose"}, {"id": "purpose"}]}
    assert "wo pieces are called “purpose”" in put(client, own, twice, 0).json()["detail"]
    assert put(client, own, document | {"smallest": 1}, 0).status_code == 422
    assert put(client, own, document, 77).status_code == 422  # of no version that is known
    assert client.get(f"/api/audits/{own}/draft/preview/full").status_code == 404


def test_a_page_is_made_once_and_again_when_a_decision_changes_it(client, own):  # noqa: F811
    first = page(client, own)
    assert any(one.startswith("Purpose and use: nobody has written") for one in first["lacking"])
    assert any("Nobody has chosen the metrics and limits" in one for one in first["lacking"])
    answer = client.get(f"/api/audits/{own}/draft/preview/full")
    assert "sandbox allow-same-origin" in answer.headers["Content-Security-Policy"]
    assert 'data-piece="purpose"' in answer.text
    # texts and order do not make it anew
    put(client, own, texts(draft(client, own)["document"], purpose="Written."), 0)
    assert page(client, own)["page"] == first["page"]
    key = talk.read(client, own, "tilt", CONTEXT)["key"]
    raising = {"statement": "Look at <q>.", "key": key, "context": CONTEXT}
    name = client.post(f"/api/audits/{own}/findings/raised", json=raising).json()
    again = page(client, own)
    assert again["page"] != first["page"] and "1 finding is open: nobody has decided about it." in again["lacking"]
    body = {"finding": name, "decision": "accepted", "reason": "Known."}
    assert client.put(f"/api/audits/{own}/findings", json=body).status_code == 200
    third = page(client, own)
    html = client.get(f"/api/audits/{own}/draft/preview/full").text
    assert third["page"] != again["page"] and "Known." in html and "Look at &lt;q&gt;." in html
    assert client.put(f"/api/audits/{own}/findings", json=body | {"due": "0001-01-01"}).status_code == 422


def test_numbers_are_offered_by_words_and_stand_in_texts_as_they_are_computed(client, own):  # noqa: F811
    page(client, own)
    offered = client.get(f"/api/audits/{own}/draft/numbers", params={"find": "accur held"}).json()
    offered = offered or client.get(f"/api/audits/{own}/draft/numbers", params={"find": "accuracy"}).json()
    one = next(found for found in offered if found["name"].endswith("/ accuracy"))
    made = client.post(f"/api/audits/{own}/draft/prose", json={"text": f"It is @{{{one['name']}}}, <b>."}).json()
    assert f">{one['text']}</span>" in made["html"] and "&lt;b&gt;" in made["html"] and made["unknown"] == []
    assert client.post(f"/api/audits/{own}/draft/prose", json={"text": "@{x}"}).json()["unknown"] == ["x"]
    put(client, own, texts(draft(client, own)["document"], model=f"Right in @{{{one['name']}}}."), 0)
    html = client.get(write(client, own)).text
    assert re.search(rf'Right in <span class="number"[^>]*>{re.escape(one["text"])}</span>', html)


def test_a_report_is_written_for_three_readers_and_signed_in_a_chain(client, own, running, problems):  # noqa: F811
    document = draft(client, own)["document"]
    put(client, own, texts(document, purpose="For <claims>.") | {"title": "As =1+1 sees it"}, 0)
    at = write(client, own)
    manifest = client.get(f"{at}/manifest.json").json()
    assert set(manifest["files"]) >= {"report.html", "summary.html", "public.html", "audit.json"}
    assert manifest["title"] == "As =1+1 sees it" and manifest["before"] == ""
    for name in ("report.html", "summary.html", "public.html"):
        answer = client.get(f"{at}/{name}")
        assert answer.status_code == 200 and "For &lt;claims&gt;." in answer.text
        assert "default-src 'none'" in answer.headers["Content-Security-Policy"]
    assert client.get(f"{at}/nothing.html").status_code == client.get(f"{at}/..%2f..%2fetc").status_code == 404
    signed = [
        client.post(f"{at}/signatures", json={"name": name, "role": role, "note": note}).json()
        for name, role, note in (("Ada", "reviewer", ""), ("Bo <b>", "head of desk", "With the gaps named."))
    ]
    assert [one["number"] for one in signed] == [1, 2]
    for body in ({"name": " ", "role": "x"}, {"name": "x"}, {"name": "x" * 201, "role": "x"}):
        assert client.post(f"{at}/signatures", json=body).status_code == 422
    (found,) = client.get(f"/api/audits/{own}/reports").json()
    assert [one["name"] for one in found["signatures"]] == ["Ada", "Bo <b>"] and found["signable"]
    files = FileStore(running.home.files)
    held = json.loads(files.path(found["signatures"][1]["digest"]).read_bytes())
    assert held["before"] == found["signatures"][0]["digest"] and held["report"] == found["digest"]
    assert problems() == []
    # a later one names the one before
    second = client.get(f"{write(client, own)}/manifest.json").json()
    assert second["before"] == found["digest"] and second["number"] == 2


def test_a_form_from_before_a_signature_goes_with_its_file(client, own, running):  # noqa: F811
    at = write(client, own)
    task = client.post(f"{at}/forms/report-markdown.zip").json()["task"]
    assert talk.wait(client, task)["state"] == "done"
    files = FileStore(running.home.files)
    with database.connection_context():
        made = [digest for digest, what in files_named().items() if what == "report-markdown.zip of a report"]
    assert made and all(files.path(digest).exists() for digest in made)
    assert client.post(f"{at}/signatures", json={"name": "Ada", "role": "reviewer"}).status_code == 201
    until = time.monotonic() + 20
    while any(files.path(digest).exists() for digest in made) and time.monotonic() < until:
        time.sleep(0.05)
    assert not any(files.path(digest).exists() for digest in made)  # it did not name who signed


def test_whatever_is_altered_in_a_signed_report_is_noticed(client, own, running, problems):  # noqa: F811
    at = write(client, own)
    for name in ("Ada", "Bo", "Cy"):
        assert client.post(f"{at}/signatures", json={"name": name, "role": "reviewer"}).status_code == 201
    with database.connection_context():
        report = Report.get(Report.audit == own)
        first, second, third = report.signatures.order_by(Signature.number)
    changes = [
        (Signature.update(name="Eve").where(Signature.id == first.id), "the signature of Eve was altered"),
        (Signature.update(note="Never.").where(Signature.id == third.id), "the signature of Cy was altered"),
        (Signature.update(before=first.file).where(Signature.id == third.id), "does not follow the one before it"),
        (Signature.update(number=9).where(Signature.id == third.id), "number 9 where 3 is due"),
        (Signature.update(file=first.file).where(Signature.id == second.id), "belongs to no record"),
        (Report.update(files=report.files | {"report.html": report.files["public.html"]}).where(Report.id == report.id),
         "its record names other files than what was written"),
    ]  # fmt: skip
    for change, said in changes:
        with database.connection_context(), database.atomic() as attempt:
            for table in ("report", "signature"):  # as somebody does who owns the database
                database.execute_sql(f"alter table {table} disable trigger user")
            change.execute()
            found = check(FileStore(running.home.files))[0]
            attempt.rollback()
        assert any(said in one for one in found), said
    with pytest.raises(peewee.InternalError, match="never altered"), database.connection_context(), database.atomic():
        changes[0][0].execute()
    with pytest.raises(peewee.InternalError, match="never removed"), database.connection_context(), database.atomic():
        Signature.delete().where(Signature.id == second.id).execute()
    with database.connection_context(), database.atomic() as attempt:
        database.execute_sql("alter table signature disable trigger user")
        Signature.delete().where(Signature.id == second.id).execute()
        found = check(FileStore(running.home.files))[0]
        attempt.rollback()
    assert any("one is missing before it" in one for one in found) and any(
        "belongs to no record" in one for one in found
    )
    write(client, own)  # it names the last signature: that is missed, too
    with database.connection_context(), database.atomic() as attempt:
        database.execute_sql("alter table signature disable trigger user")
        Signature.delete().where(Signature.id == third.id).execute()
        found = check(FileStore(running.home.files))[0]
        attempt.rollback()
    assert any("the last signature of the report before it is there no more" in one for one in found)
    assert problems() == []


def test_old_versions_of_a_document_go_and_what_was_written_from_them_is_refused(client, own, monkeypatch):  # noqa: F811
    monkeypatch.setattr(written, "MOST_VERSIONS", 3)
    with database.connection_context():
        from zerotilt.store.records import Audit

        audit = Audit.get_by_id(own)
        for number in range(6):
            document = written.draft(audit)[1].model_copy(update={"title": f"v{number}"})
            assert written.write_draft(audit, document, number, "")[0] == number + 1
        assert audit.drafts.count() == 3
        with pytest.raises(Exception, match="changed too often"):
            written.write_draft(audit, written.draft(audit)[1].model_copy(update={"title": "x"}), 2, "")


def test_files_that_an_attempt_left_are_swept_and_those_that_records_name_stay(client, own, running):  # noqa: F811
    at = write(client, own)
    files = FileStore(running.home.files)
    left, young = files.put(b"of an attempt that was overtaken"), files.put(b"of one that is under way")
    with database.connection_context():
        named = list(files_named())
        for digest in (left, *named):
            os.utime(files.path(digest), (1_000_000, 1_000_000))
        assert sweep_unowned(files, 999_999, 1_000_001) == 1
        assert not files.path(left).exists() and files.path(young).exists()
        assert all(files.path(digest).exists() for digest in named)
        assert sweep_unowned(files, 999_999, 1_000_001) == 0
        files.discard(young)
    assert client.get(at).status_code == 200


def test_other_forms_are_made_once_and_held_against_their_digest(client, own, running, problems):  # noqa: F811
    at = write(client, own)
    assert client.get(f"{at}/summary.pdf").status_code == 404
    made = client.post(f"{at}/forms/summary.pdf").json()["task"]
    assert talk.wait(client, made)["state"] == "done"
    assert client.post(f"{at}/forms/summary.pdf").json()["task"] is None
    answer = client.get(f"{at}/summary.pdf")
    assert answer.content[:5] == b"%PDF-" and answer.headers["content-type"] == "application/pdf"
    assert "summary-1.pdf" in answer.headers["content-disposition"]
    # who signs is named in every form from then on; what was signed stays as it was
    page = client.get(at).content
    body = {"name": "Ada <b>", "role": "reviewer", "note": "Read & checked."}
    assert client.post(f"{at}/signatures", json=body).status_code == 201
    assert client.get(f"{at}/summary.pdf").status_code == 404  # of before the signature
    made = client.post(f"{at}/forms/summary.pdf").json()["task"]
    assert talk.wait(client, made)["state"] == "done"
    told = pypdf.PdfReader(io.BytesIO(client.get(f"{at}/summary.pdf").content))
    said = re.sub(r"\s+", " ", " ".join(one.extract_text() for one in told.pages))
    assert "Signed by" in said and "Ada <b>, reviewer, on" in said and "Read & checked." in said
    assert client.get(at).content == page and b"Signed by" not in page
    text = client.post(f"{at}/forms/report-markdown.zip").json()["task"]
    assert talk.wait(client, text)["state"] == "done"
    assert client.get(f"{at}/report-markdown.zip").content[:2] == client.get(f"{at}/tables.zip").content[:2] == b"PK"
    for name in ("report.exe", "manifest.json", "audit.json"):
        assert client.post(f"{at}/forms/{name}").status_code == 404
    assert problems() == []
    assert client.delete(f"/api/audits/{own}?for_good=true").status_code == 204
    assert problems() == []
