"""An audit as one file, and back: equal by every digest, also after the original is gone; nothing that is not whole is taken."""

from __future__ import annotations

import io
import json
import os
import random
import re
import zipfile
from collections import Counter
from uuid import uuid4, uuid5

import pytest
from tests.api import talk

from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work
from zerotilt.store import archive, check, database, removal
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit, TableFile
from zerotilt.stored import audit_named, report_named, reproduce


@pytest.fixture
def files(running):
    database.bind(running.postgres.address)
    with database.database.connection_context():
        yield FileStore(running.home.files)


@pytest.fixture(scope="module")
def signed(running):
    """An audit with everything in it: decisions, remarks, a kept figure, a rule, a signed report."""

    with talk.to(running.url) as client:
        demo = talk.demo_audit(client)
        own = client.post(f"/api/audits/{demo['id']}/duplicate").json()["id"]
        at = f"/api/audits/{own}"
        context = {"model": client.get(at).json()["models"][1]["id"], "rows": "hold-out", "output": "probability"}
        key = talk.read(client, own, "tilt", context)["key"]
        client.post(f"{at}/dossier", json={"key": key, "context": context, "note": "=1+1 <b>"})
        found = client.post(f"{at}/findings", json=context).json()[0]
        body = {"finding": found["name"], "decision": "accepted", "reason": "Æ", "evidence": key, "due": "2027-01-02"}
        assert client.put(f"{at}/findings", json=body).status_code == 200
        raised = {"statement": "Look at this.", "key": key, "context": context}
        assert client.post(f"{at}/findings/raised", json=raised).status_code == 201
        assert talk.wait(client, client.post(f"{at}/reports", json=context).json())["state"] == "done"
        body = {"name": "A. Reader", "role": "reviewer", "note": "Read."}
        assert client.post(f"{at}/reports/1/signatures", json=body).status_code == 201
        yield own
        client.delete(f"{at}?for_good=true")


def exported(audit: Audit, files: FileStore) -> bytes:
    sink = io.BytesIO()
    archive.export(audit, files, sink)
    return sink.getvalue()


def test_what_was_exported_comes_back_as_it_was(files, signed, client):
    audit = audit_named(signed)
    before = exported(audit, files)
    assert exported(audit, files) == before
    html = client.get(f"/api/audits/{signed}/reports/1").content
    reports = client.get(f"/api/audits/{signed}/reports").json()
    with pytest.raises(Refused, match="is here already"):
        archive.restore(io.BytesIO(before), files)
    with database.database.atomic():
        left = removal.remove_audit(audit, files)
    removal.discard(files, left)
    assert client.get(f"/api/audits/{signed}").status_code == 404
    back = archive.restore(io.BytesIO(before), files)
    assert str(back.id) == signed and exported(back, files) == before
    assert client.get(f"/api/audits/{signed}/reports/1").content == html
    assert client.get(f"/api/audits/{signed}/reports").json() == reports
    problems, _ = check.check(files)
    assert [one for one in problems if "belongs to no record" not in one] == []
    # it is worked on as before
    context = {"model": client.get(f"/api/audits/{signed}").json()["models"][1]["id"], "rows": "hold-out"}
    standing = [
        one["standing"]["decision"] for one in client.post(f"/api/audits/{signed}/findings", json=context).json()
    ]
    assert standing.count("accepted") == 1


OTHERS = ("11111111-1111-1111-1111-111111111111", "22222222-2222-2222-2222-222222222222")
"""Names that belong to nothing in the archive."""


def deep(levels: int):
    found: list = []
    for _ in range(levels):
        found = [found]
    return found


def altered(data: bytes, change, **more: bytes) -> io.BytesIO:
    """The archive with its records changed, its files as they were, and more of them by their names."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w") as new:
        for name in old.namelist():
            content = old.read(name)
            if name == "records.json":
                told = json.loads(content)
                change(told)
                content = json.dumps(told).encode()
            new.writestr(name, content)
        for name, content in more.items():
            new.writestr(f"files/{name}", content)
    out.seek(0)
    return out


def elsewhere(told) -> None:
    """As if the audit were not here."""
    own = told["records"]["audit"][0]["id"]
    other = f"{'0' * 8}{own[8:]}"
    text = json.dumps(told["records"]).replace(own, other)
    told["records"] = json.loads(text)


def all_anew(told) -> None:
    """As if nothing of it were here: every record has another name."""
    salt = uuid4()
    text = re.sub(
        r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}", lambda one: str(uuid5(salt, one[0])), json.dumps(told["records"])
    )
    told["records"] = json.loads(text)


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda told: told.update(format="zerotilt-archive/9"), "in the format zerotilt-archive/9"),
        (lambda told: told["records"].update(secrets=[{}]), "records called secrets"),
        (lambda told: told["records"]["audit"][0].update(colour="red"), "“colour” in records of audit"),
        (lambda told: told["records"].update(audit=[]), "does not hold one audit"),
        (lambda told: told["files"].append("../../etc/passwd"), "cannot be read"),
        (lambda told: told["files"].append("0" * 64), "is not in the archive"),
        (lambda told: told["records"]["report"][0].update(html_digest="f" * 64), "is not in the archive"),
        (lambda told: told["records"]["kept"][0].update(evidence_key="none"), "not in the archive"),
        (lambda told: told.pop("files"), "cannot be read"),
        (lambda told: told["records"]["audit"][0].update(id="nobody"), "cannot be read"),
        (lambda told: told["records"]["table_file"][0].update(digest="../x"), "cannot be read"),
        (lambda told: told["records"].update(kept={"a": 1}), "no records in kept"),
    ],
)
def test_what_is_not_whole_or_not_known_is_refused_and_leaves_nothing(files, signed, change, said):
    data = exported(audit_named(signed), files)
    audits = Audit.select().count()

    def both(told):
        elsewhere(told)
        change(told)

    with pytest.raises(Refused, match=said):
        archive.restore(altered(data, both), files)
    assert Audit.select().count() == audits


def first(table, **changes):
    return lambda told: told["records"][table][0].update(changes)


def of_task(**changes):
    return lambda told: told["records"]["background_task"][0].update(changes)


def payload(**more):
    return lambda told: told["records"]["background_task"][0]["payload"].update(more)


@pytest.mark.parametrize(
    ("change", "said"),
    [
        # it starts no work and reads no file of the host
        (of_task(state="queued"), "still to be done"),
        (of_task(kind="form", state="queued", payload={"path": "/etc/shadow"}), "still to be done"),
        (of_task(kind="report"), "still to be done"),
        (payload(path="/etc/shadow"), "asks with “path”"),
        (of_task(result={"counts": {"all": "many"}, "unknown_outcomes": 0}), "none of its kind"),
        # it owns nothing but what it brings
        (
            lambda told: told["records"]["table_file"][0].update(audit_id=OTHERS[0]),
            "belongs to something that is not in the",
        ),
        (
            lambda told: told["records"]["report"][0].update(audit_id=OTHERS[0]),
            "belongs to something that is not in the",
        ),
        (
            lambda told: told["records"]["model_version"][0].update(parent_id=OTHERS[1]),
            "belongs to something that is not in the",
        ),
        (lambda told: told["records"]["table_file"].append(dict(told["records"]["table_file"][0])), "have one name"),
        # nothing by which a list or page breaks
        (first("audit", created="99999-01-01T00:00:00+00:00"), "none of its kind"),
        (first("audit", created="9999-01-01T00:00:00+00:00"), "no time at which"),
        (first("audit", created="2026-01-01T00:00:00"), "of no zone"),
        (first("audit", title="a\0b"), "holds a NUL"),
        (first("audit", title="\ud800"), "half of a character"),
        (first("audit", title=7), "is no text"),
        (first("audit", title=None), "is empty"),
        (first("audit", spec={"columns": 7}), "none of its kind"),
        (first("audit", ready="yes"), "neither true nor false"),
        (first("table_file", profile={}), "none of its kind"),
        (first("table_file", bytes=2**70), "whole number of a size"),
        (first("model_version", card=[]), "none of its kind"),
        (first("report", files={"../../x": "0" * 64}), "could be a path"),
        (first("report", files={"x.html": "etc"}), "cannot be read"),
        (first("report", number=0), "numbered from 1"),
        (first("meaning_version", part="secrets"), "no such part"),
        (first("judgement", decision="done"), "no such decision"),
        (first("judgement", due="0001-01-01"), "no day"),
        (first("kept", view={"a": float("nan")}), "cannot be read as JSON"),
        (first("kept", view=deep(100)), "nested too deeply"),
        (first("kept", context={"rows": "some"}), "none of its kind"),
        (first("evidence", body={"a": 1}), "none of its kind"),
        (first("evidence", method="tilt2"), "another piece of evidence"),
    ],
)
def test_a_record_that_an_enemy_wrote_is_refused_by_its_place_and_leaves_nothing(files, signed, change, said):
    data = exported(audit_named(signed), files)
    before = [(kind.__name__, kind.select().count()) for kind in archive.ORDER]

    def both(told):
        elsewhere(told)
        change(told)

    with pytest.raises(Refused, match=said):
        archive.restore(altered(data, both), files)
    assert [(kind.__name__, kind.select().count()) for kind in archive.ORDER] == before


def test_records_that_are_no_json_packed_oddly_or_locked_are_refused_in_words(files, signed):
    data = exported(audit_named(signed), files)
    for text in (
        b"[" * 200_000,
        b'{"a":' * 50_000,
        b"\xff\xfe",
        b"null",
        b"[]",
        b'{"format": "zerotilt-archive/1"}',
        b"",
    ):
        made = io.BytesIO()
        with zipfile.ZipFile(made, "w") as one:
            one.writestr("records.json", text)
        with pytest.raises(Refused):
            archive.restore(made, files)
    locked = bytearray(data)
    for place in (data.find(b"PK\x03\x04") + 6, data.find(b"PK\x01\x02") + 8):
        locked[place] |= 1  # says of itself that it is encrypted
    with pytest.raises(Refused, match="cannot be read"):
        archive.restore(io.BytesIO(bytes(locked)), files)


TRIES = int(os.environ.get("ZT_TRIES", "12"))
PLAIN = ("another text", 3, 0.5, False, "all", "E1", ["a"], {"a": 1}) * 3
"""Of the right kind here and there, and not what was meant."""
NASTY = (None, True, -1, 2**40, 1e308, "", "\0", "\ud800", "../../etc/passwd", "x" * 5_000, [], {}, [[]], "0" * 64, "99999-01-01",
         OTHERS[0], deep(70), {"path": "/etc/passwd"}, "queued", "1970-01-01T00:00:00+00:00")  # fmt: skip


@pytest.mark.parametrize("seed", range(2))
def test_whatever_is_put_into_records_is_refused_or_leaves_every_page_whole(files, signed, client, seed):
    """A value somewhere in the records is exchanged, at random: what is taken all the same is listed, read and deleted."""
    rng = random.Random(seed + int(os.environ.get("ZT_SEED", "0")))
    data = exported(audit_named(signed), files)
    others = Counter({str(one.audit_id): 1 for one in TableFile.select()})
    taken = 0
    for number in range(TRIES):

        def change(told, number=number):
            all_anew(told)
            if number == 0:
                return  # as it is, it is taken
            table = rng.choice([name for name, rows in told["records"].items() if rows])
            at = rng.choice(told["records"][table])
            key = rng.choice(sorted(at))
            while isinstance(at[key], dict | list) and at[key] and rng.random() < 0.7:
                at, inner = at[key], at[key]
                key = rng.choice(sorted(inner)) if isinstance(inner, dict) else rng.randrange(len(inner))
            at[key] = rng.choice(NASTY + PLAIN)

        try:
            made = archive.restore(altered(data, change), files)
        except Refused:
            continue
        own, taken = f"/api/audits/{made.id}", taken + 1
        for address in (
            "/api/audits",
            "/api/audits/flagged",
            own,
            f"{own}/dossier",
            f"{own}/reports",
            f"{own}/tasks",
            f"{own}/versions",
        ):
            assert client.get(address).status_code < 500, address
        assert client.delete(f"{own}?for_good=true").status_code < 300
        assert Counter({str(one.audit_id): 1 for one in TableFile.select()}) == others
    assert 0 < taken < TRIES


def test_an_altered_file_and_no_archive_at_all_are_refused(files, signed):
    data = exported(audit_named(signed), files)

    def one_more(told):
        elsewhere(told)
        told["files"].append("a" * 64)

    with pytest.raises(Refused, match="was altered"):
        archive.restore(altered(data, one_more, **{"a" * 64: b"something else"}), files)
    for data in (b"", b"no archive", b"PK\x05\x06" + bytes(18)):
        with pytest.raises(Refused, match="no archive of an audit"):
            archive.restore(io.BytesIO(data), files)


def test_every_figure_of_a_report_is_computed_again_to_the_same_numbers(files, signed):
    report = report_named(f"{signed}/1")
    done = list(reproduce(report, files, Work()))
    assert len(done) > 6 and [one.sentence for one in done if one.compared is None or one.compared.differences] == []
    assert report_named(report.manifest[:12]) == report
    for name, said in (
        ("no such", "There is no report"),
        (f"{signed}/7", "has no report 7"),
        ("No audit/1", "There is no audit"),
    ):
        with pytest.raises(Refused, match=said):
            report_named(name)


def test_a_number_that_was_altered_is_named_with_how_much_it_differs(files, signed):
    report = report_named(f"{signed}/1")
    stored = json.loads(files.verified(report.files["evidence.json"]).read_bytes())
    stored["evidence"].sort(key=lambda one: one["method"] != "performance")
    first = stored["evidence"][0]
    accuracy = first["result"]["sets"][0]["metrics"]["accuracy"]
    accuracy["value"] += 0.015
    first["libraries"]["numpy"] = "1.0"
    stored["evidence"][1]["digests"]["table"] = "0" * 64
    stored["evidence"] = stored["evidence"][:2]
    report.files = {"evidence.json": files.put(json.dumps(stored).encode())}
    one, other = reproduce(report, files, Work())
    assert [round(found.size, 6) for found in one.compared.differences] == [0.015]
    assert (
        "differs, by at most 0.015 (sets / 1 / metrics / accuracy / value:" in one.sentence
        and "numpy 1.0 →" in one.sentence
    )
    assert "not computed again: The stored file 000000000000… is missing." in other.sentence
    files.discard(report.files["evidence.json"])
    report.files = {}
    with pytest.raises(Refused, match="before the evidence of a report was kept"):
        list(reproduce(report, files, Work()))


def test_the_command_line_says_what_differs_and_what_an_archive_holds(running, signed, tmp_path):
    from typer.testing import CliRunner

    from zerotilt import cli

    env = {"ZT_HOME": str(running.home.folder)}
    run = CliRunner().invoke(cli.app, ["export", signed, str(tmp_path / "a.zip")], env=env)
    assert run.exit_code == 0 and "1 report" in run.output and zipfile.is_zipfile(tmp_path / "a.zip")
    run = CliRunner().invoke(cli.app, ["import", str(tmp_path / "a.zip")], env=env)
    assert run.exit_code == 2 and "is here already" in run.output
    run = CliRunner().invoke(cli.app, ["export", "nothing", str(tmp_path / "b.zip")], env=env)
    assert run.exit_code == 2 and "There is no audit “nothing”" in run.output and not (tmp_path / "b.zip").exists()
    run = CliRunner().invoke(cli.app, ["import", str(tmp_path / "none.zip")], env=env)
    assert run.exit_code == 2 and "No such file" in run.output
    run = CliRunner().invoke(cli.app, ["reproduce", f"{signed}/9"], env=env)
    assert run.exit_code == 2 and "has no report 9" in run.output
