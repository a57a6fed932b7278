"""What was changed or taken away behind the house's back is noticed; what the house does itself is not."""

from __future__ import annotations

import contextlib
import json
import os
import stat
from collections.abc import Iterator

import pytest
from tests.api import talk

from zerotilt.core.refusal import Refused
from zerotilt.store import archive, check, ledger, removal, written
from zerotilt.store.database import database
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit, EvidenceRow, Report, Signature


@pytest.fixture
def files(running, tmp_path) -> FileStore:
    """A store of its own, beside the house's database."""
    return FileStore(tmp_path / "files")


@pytest.fixture
def audit(running):
    with database.connection_context():
        made = Audit.create(title="Noted")
        yield made
        Audit.delete().where(Audit.id == made.id).execute()
        ledger.removed(FileStore(running.home.files), made)  # whose own worker may have noted what was written here


def report(audit: Audit, files: FileStore, flagged: int = 3) -> Report:
    made = {name: files.put(f"{name} {flagged} {audit.id}".encode()) for name in ("report.html", "audit.json")}
    with database.atomic():
        return written.freeze(audit, files, {"files": made, "flagged": flagged, "tested": 9}, {"title": "First"})


def signed(found: Report, files: FileStore, name: str) -> Signature:
    with database.atomic():
        return written.sign(found, files, name, "reviewer", "")[0]


@contextlib.contextmanager
def behind() -> Iterator[None]:
    """As who has the database's own rights, and goes round what it forbids."""
    with database.atomic():
        database.execute_sql("set local session_replication_role = replica")
        yield


def of(audit: Audit, found: list[str]) -> list[str]:
    """Of what was found only what is about this audit: the house's database holds others."""
    return [one for one in found if "“Noted”" in one]


def test_reports_and_signatures_that_are_taken_away_are_missed(audit, files):
    first, second = report(audit, files), report(audit, files, 4)
    one, two = signed(second, files, "Ana"), signed(second, files, "Bo")
    ledger.catch_up(files)
    assert of(audit, ledger.problems(files)) == [] and ledger.catch_up(files) == 0
    with behind():
        two.delete_instance()
    assert of(audit, ledger.problems(files)) == ["report 2 of “Noted”: the signature of Bo is there no more"]
    with behind():
        one.delete_instance()
        second.delete_instance()
    found = of(audit, ledger.problems(files))
    assert "report 2 of “Noted”: it was written, and its record is there no more, or is another" in found
    assert len(found) == 3 and not any(f"report {first.number} " in one for one in found)


@pytest.mark.parametrize(("column", "value"), [("title", "Better"), ("flagged", 0), ("tested", 1)])
def test_what_a_report_says_of_itself_is_held_against_what_was_written(audit, files, column, value):
    made = report(audit, files)
    assert of(audit, written.broken_chains(files)) == []
    with behind():
        Report.update({column: value}).where(Report.id == made.id).execute()
    (found,) = of(audit, written.broken_chains(files))
    assert f"its record says “{value}” of {column} where" in found


def test_what_was_deleted_by_the_house_is_not_missed_and_comes_back_whole(audit, files):
    made = report(audit, files)
    signed(made, files, "Ana")
    ledger.catch_up(files)
    with pytest.raises(RuntimeError), database.atomic():  # a deletion that comes to nothing
        removal.remove_audit(audit, files)
        raise RuntimeError
    assert of(audit, ledger.problems(files)) == []
    assert ledger.catch_up(files) >= 2  # they are noted anew
    with behind():
        Signature.delete().where(Signature.report == made).execute()
    assert of(audit, ledger.problems(files)) == ["report 1 of “Noted”: the signature of Ana is there no more"]
    with database.atomic():
        removal.remove_audit(audit, files)
    assert of(audit, ledger.problems(files)) == []


def test_a_ledger_that_was_cut_or_written_in_is_noticed(audit, files):
    report(audit, files)
    report(audit, files, 5)
    ledger.catch_up(files)
    path = files.folder / "ledger.jsonl"
    lines = path.read_bytes().splitlines(keepends=True)
    assert ledger.problems(files) == ledger.problems(files)
    for number, text in (
        (len(lines), b"".join(lines[:-2]) + lines[-1]),
        (len(lines), b"".join(lines[:-2]) + lines[-2].replace(b"Noted", b"Other") + lines[-1]),
        (1, b"{}\n" + b"".join(lines)),
        (1, b"no line\n" + b"".join(lines[1:])),
    ):
        path.write_bytes(text)
        told = [one for one in ledger.problems(files) if one.startswith("the ledger")]
        broken = number - 1 if text.count(b"\n") < len(lines) else number
        assert told == [f"the ledger: line {broken} does not follow the one before it"]
    # a line that a kill cut off is no line; it is written anew
    path.write_bytes(b"".join(lines[:-1]) + lines[-1][:20])
    assert ledger.catch_up(files) == 1
    assert [one for one in ledger.problems(files) if one.startswith("the ledger")] == []


def test_the_secret_is_the_owners_alone(files):
    ledger.seal(files, ["none"])
    path = files.folder / "seal"
    assert stat.S_IMODE(os.stat(path).st_mode) == 0o600 and len(path.read_bytes()) == 32
    before = path.read_bytes()
    ledger.seal(files, ["none"])
    assert path.read_bytes() == before and [one.name for one in files.folder.glob("seal*")] == ["seal"]


def test_numbers_of_evidence_that_were_changed_are_noticed_and_not_exported(running, client):
    house = FileStore(running.home.files)
    made = talk.demo_audit(client)
    found = talk.read(client, made["id"], "tilt", {"model": made["models"][0]["id"], "rows": "hold-out"})
    with database.connection_context():
        row = EvidenceRow.get(EvidenceRow.key == found["key"])
        assert row.seal and ledger.altered(house, [row.key]) == []
        before = json.dumps(row.body)
        try:
            for change in (
                {"body": row.body | {"result": row.body["result"] | {"tested": 1}}},
                {"method": "pockets"},
                {"seal": None},
                {"seal": "0" * 64},
            ):
                EvidenceRow.update(change).where(EvidenceRow.key == row.key).execute()
                assert [key for key, _ in ledger.altered(house, [row.key])] == [row.key]
                problems, _ = check.check(house)
                assert any(f"evidence {row.key[:12]}" in one and "were changed" in one for one in problems)
                with pytest.raises(Refused, match="is not as this house wrote it"), open(os.devnull, "wb") as sink:
                    archive.export(Audit.get_by_id(made["id"]), house, sink)
                EvidenceRow.update(body=json.loads(before), method=row.method, seal=row.seal).where(
                    EvidenceRow.key == row.key
                ).execute()
        finally:
            EvidenceRow.update(body=json.loads(before), method=row.method, seal=row.seal).where(
                EvidenceRow.key == row.key
            ).execute()
        assert ledger.altered(house, [row.key]) == []


def test_what_was_written_before_there_were_seals_is_sealed_once(running, tmp_path):
    house, own = FileStore(running.home.files), FileStore(tmp_path / "files")
    with database.connection_context():
        row = EvidenceRow.select().order_by(EvidenceRow.created).first()
        assert row is not None and ledger.altered(house, [row.key]) == []
        EvidenceRow.update(seal=None).where(EvidenceRow.key == row.key).execute()
        try:
            ledger.begin(house)  # which has its secret: what has no seal now was not written by it
            assert [key for key, _ in ledger.altered(house, [row.key])] == [row.key]
            ledger.begin(own)
            assert ledger.altered(own, [row.key]) == []
        finally:
            EvidenceRow.update(seal=row.seal).where(EvidenceRow.key == row.key).execute()
