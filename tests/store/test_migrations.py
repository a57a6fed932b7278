"""Later migrations, from a database as earlier ones left it."""

from __future__ import annotations

import importlib
import json
import uuid
from dataclasses import replace
from datetime import UTC, datetime

import psycopg2
import pytest

from zerotilt.api.views import kept
from zerotilt.core.evidence import Digests, Evidence, compute
from zerotilt.core.groups.disparity import TiltSettings
from zerotilt.core.meaning import PARTS, Names, Spec, Wording
from zerotilt.core.work import Work
from zerotilt.report.compose import Kept as Shown
from zerotilt.report.compose import gather
from zerotilt.report.render import Cover, render
from zerotilt.store import database, meaning, migrations, removal
from zerotilt.store.files import FileStore
from zerotilt.store.records import Audit, DecisionRule, Judgement, Kept, MeaningVersion, ModelVersion, Report, Task
from zerotilt.tasks.board import rule_of

NAME = "earlier_release"


@pytest.fixture(params=["m0001_first"])
def earlier(running, request):
    """A database as one migration left it, with an audit, a kept figure and a report in it."""
    admin = psycopg2.connect(**running.postgres.address)
    admin.autocommit = True
    with admin.cursor() as cursor:
        cursor.execute(f"create database {NAME}")
    address = running.postgres.address | {"dbname": NAME}
    audit = str(uuid.uuid4())
    with psycopg2.connect(**address) as connection, connection.cursor() as cursor:
        cursor.execute("create table migration (name text primary key, applied timestamptz default now())")
        for name in [name for name in database.names() if name <= request.param]:
            cursor.execute(importlib.import_module(f"{migrations.__name__}.{name}").SQL)
            cursor.execute("insert into migration (name) values (%s)", (name,))
        cursor.execute("insert into audit (id, title, spec) values (%s, 'Kept', %s)", (audit, json.dumps({"a": 1})))
        cursor.execute("insert into evidence (key, method, body) values ('k', 'drivers', '{}')")
        cursor.execute(
            "insert into kept (id, audit_id, evidence_key, context, note) values (%s, %s, 'k', '{}', 'a note')",
            (str(uuid.uuid4()), audit),
        )
        cursor.execute(
            "insert into report (id, audit_id, number, html_digest, json_digest, flagged) values (%s, %s, 1, 'h', 'j', 0)",
            (str(uuid.uuid4()), audit),
        )
    connection.close()
    database.bind(address)
    yield audit
    database.database.close_idle()
    database.bind(running.postgres.address)
    with admin.cursor() as cursor:
        cursor.execute(f"drop database {NAME} with (force)")
    admin.close()


@pytest.mark.parametrize("earlier", ["m0010_recorded"], indirect=True)
def test_what_was_decided_stays_decided_with_a_reason(earlier):
    told = {"a": ("no concern", ""), "b": ("no concern", "Known."), "c": ("accepted", ""), "d": ("to mend", "Soon.")}
    with database.database.connection_context():
        for finding, (decision, reason) in told.items():
            database.database.execute_sql(
                "insert into judgement (id, audit_id, finding, decision, reason) values (%s, %s, %s, %s, %s)",
                (str(uuid.uuid4()), earlier, finding, decision, reason),
            )
    assert database.migrate()[0] == "m0011_facts"
    with database.database.connection_context():
        found = {one.finding: (one.decision, one.reason, one.owner) for one in Audit.get_by_id(earlier).judgements}
    assert found == {
        "a": ("accepted", "No concern.", ""),
        "b": ("accepted", "Known.", ""),
        "c": ("accepted", "No reason was given.", ""),
        "d": ("to mend", "Soon.", ""),
    }


def test_what_was_there_is_kept_and_findings_can_be_judged(earlier):
    assert database.migrate() == [name for name in database.names() if name != "m0001_first"]
    with database.database.connection_context():
        audit = Audit.get_by_id(earlier)
        assert (audit.title, audit.spec) == ("Kept", {"a": 1})
        assert [item.note for item in audit.kept] == ["a note"]
        Judgement.create(audit=audit, finding="f", decision="accepted", reason="known")
        assert [one.reason for one in audit.judgements] == ["known"]
        model = ModelVersion.create(audit=audit, name="m", digest="d", card={})
        MeaningVersion.create(audit=audit, part="policy", number=2, body={}, author="a")
        DecisionRule.create(model=model, number=2, rule=None, author="a")
        audit.delete_instance()
        # what was decided goes with its audit
        assert [record.select().count() for record in (Judgement, MeaningVersion, DecisionRule)] == [0, 0, 0]
    assert database.migrate() == []


@pytest.mark.parametrize("earlier", ["m0003_choices"], indirect=True)
def test_what_was_there_begins_at_version_nought_and_an_old_report_does_not_say_what_it_tested(earlier):
    assert database.migrate()[0].startswith("m0004")
    with database.database.connection_context():
        audit = Audit.get_by_id(earlier)
        assert audit.spec == {"a": 1} and meaning.in_force(audit) == {}
        assert [(item.note, item.noted) for item in Kept.select()] == [("a note", 0)]
        assert [report.tested for report in audit.reports] == [None]


@pytest.mark.parametrize("earlier", ["m0004_fences"], indirect=True)
def test_evidence_gets_its_owners_and_what_was_kept_opens_as_it_was_written(earlier, demo_subject, tmp_path):
    """Bodies as earlier versions wrote them: no reading, one digest of policy and comparisons, one of an older method."""
    found = compute(demo_subject, Digests.of(demo_subject.spec, "t", "m"), "tilt", TiltSettings(), 20, Work())
    body = found.model_dump(mode="json", exclude={"reading"})
    body["digests"] = {name: body["digests"][name] for name in ("table", "spec", "model", "alongside", "compared")}
    older = body | {"key": "old", "method_version": 1, "result": {"nothing": "known"}}
    unknown = body | {"key": "gone", "method": "no_such_method"}
    database.database.connect(reuse_if_open=True)
    run = database.database.execute_sql
    for one in (body | {"key": "now"}, older, unknown):
        run(
            "insert into evidence (key, method, body) values (%s, %s, %s)", (one["key"], one["method"], json.dumps(one))
        )
    audit, other = earlier, str(uuid.uuid4())
    spec = demo_subject.spec.model_dump_json()
    run("update audit set spec = %s, ready = true where id = %s", (spec, audit))
    run("update evidence set body = %s where key = 'k'", (json.dumps(older | {"key": "k"}),))
    run("insert into audit (id, title, spec) values (%s, 'Other', %s)", (other, spec))
    for owner in (audit, other):
        run(
            "insert into table_file (id, audit_id, name, raw_digest, digest, bytes, profile) values (%s, %s, 'a', 'r', 't', 1, '{}')",
            (str(uuid.uuid4()), owner),
        )
    run(
        "insert into model_version (id, audit_id, name, digest, card) values (%s, %s, 'v', 'm', '{}')",
        (model := str(uuid.uuid4()), audit),
    )
    for key in ("now", "gone"):
        run(
            "insert into kept (id, audit_id, evidence_key, context) values (%s, %s, %s, %s)",
            (str(uuid.uuid4()), audit, key, json.dumps({"model": model})),
        )
    database.database.close()

    assert database.migrate()[0].startswith("m0005")
    with database.database.connection_context():
        mine, theirs = Audit.get_by_id(audit), Audit.get_by_id(other)
        assert {one.evidence_key for one in mine.asked} == {"now", "old", "gone", "k"}
        assert [one.evidence_key for one in theirs.asked] == []  # the same table, and not the model
        views = {row.evidence_key: kept(row, demo_subject.spec, mine, FileStore(tmp_path)) for row in mine.kept}
        assert views["now"].reading == found.read(demo_subject.spec) and not views["now"].older
        assert views["now"].changed == []
        assert views["k"].older and "by an earlier version" in views["k"].reading.text
        assert views["gone"].older and views["gone"].area == "" and views["gone"].changed == ["how it is computed"]
        items = [Shown(Evidence.model_validate(row.evidence.body), "n") for row in mine.kept]
    digests = Digests.of(demo_subject.spec, "t", "m")
    bundle = gather(replace(demo_subject, predictor=None), digests, Work(), items)
    html = render(bundle, demo_subject, Cover("Kept", 1, "t.csv", "t" * 64, 1, "m", made="today")).html
    assert html.count("by an earlier version of Zero Tilt") == 2


@pytest.mark.parametrize("earlier", ["m0005_owners"], indirect=True)
def test_the_meaning_comes_apart_with_its_history_and_nothing_of_the_last_release_is_lost(
    earlier, demo_subject, tmp_path
):
    """Evidence, dossier, rules, policies, judgements and a report of the last release: all readable, and written on."""
    found = compute(demo_subject, Digests.of(demo_subject.spec, "t", "m"), "tilt", TiltSettings(), 20, Work())
    spec = demo_subject.spec.model_dump(mode="json")
    first, second = (spec["policy"] | changes for changes in ({}, {"number": 2, "ratio_low": 0.7}))
    audit, bare, untouched, model = earlier, *(str(uuid.uuid4()) for _ in range(3))
    database.database.connect(reuse_if_open=True)
    run = database.database.execute_sql
    body = found.model_dump(mode="json")
    run("insert into evidence (key, method, body) values ('e', 'tilt', %s)", (json.dumps(body | {"key": "e"}),))
    run(
        "update audit set spec = %s, ready = true, version = 7 where id = %s",
        (json.dumps(spec | {"policy": second}), audit),
    )
    run("insert into audit (id, title) values (%s, 'Without a table')", (bare,))
    run("insert into audit (id, title, spec) values (%s, 'Nobody chose', %s)", (untouched, json.dumps(spec)))
    run(
        "insert into table_file (id, audit_id, name, raw_digest, digest, bytes, profile) values (%s, %s, 'a', 'r', 't', 1, '{}')",
        (str(uuid.uuid4()), audit),
    )
    run("insert into model_version (id, audit_id, name, digest, card) values (%s, %s, 'v', 'm', '{}')", (model, audit))
    run("insert into audit_evidence (audit_id, evidence_key) values (%s, 'e')", (audit,))
    run(
        "insert into kept (id, audit_id, evidence_key, context, view, note) values (%s, %s, 'e', %s, '{\"part\": \"groups\"}', 'n')",
        (str(uuid.uuid4()), audit, json.dumps({"model": model})),
    )
    rule = json.dumps({"threshold": 0.3})
    run(
        "insert into decision_rule (id, model_id, number, rule, author, reason) values (%s, %s, 2, %s, 'R', 'why')",
        (str(uuid.uuid4()), model, rule),
    )
    run(
        "insert into judgement (id, audit_id, finding, decision, reason) values (%s, %s, 'f', 'accepted', 'known')",
        (str(uuid.uuid4()), audit),
    )
    for policy, author in ((first, ""), (second, "P. Chooser")):
        run(
            "insert into policy_version (id, audit_id, number, policy, answers, author, reason) values (%s, %s, %s, %s, %s, %s, 'r')",
            (
                str(uuid.uuid4()),
                audit,
                policy["number"],
                json.dumps(policy),
                json.dumps({"a": 1}) if author else None,
                author,
            ),
        )
    database.database.close()

    assert database.migrate()[0] == "m0006_parts"
    with database.database.connection_context():
        mine = Audit.get_by_id(audit)
        parts = meaning.in_force(mine)
        assert set(parts) == set(PARTS)
        assert Spec.joined({name: one.body for name, one in parts.items()}) == Spec.model_validate(mine.spec)
        assert [(one.number, one.author) for one in meaning.versions(mine, "policy")] == [(2, "P. Chooser"), (1, "")]
        assert parts["policy"].answers == {"a": 1} and parts["policy"].reason == "r"
        assert {name: parts[name].number for name in PARTS if name != "policy"} == dict.fromkeys(
            set(PARTS) - {"policy"}, 1
        )
        assert parts["expectations"].body["expectations"] == demo_subject.spec.expectations
        assert meaning.in_force(Audit.get_by_id(bare)) == {}
        assert meaning.in_force(Audit.get_by_id(untouched))["policy"].author == meaning.NOBODY_YET
        (item,) = [kept(row, demo_subject.spec, mine, FileStore(tmp_path)) for row in mine.kept if row.note == "n"]
        assert (item.reading, item.view, item.older) == (found.read(demo_subject.spec), {"part": "groups"}, False)
        assert "the flag policy" in item.changed  # it was kept under the one before
        assert rule_of(mine.models.get()).threshold == 0.3
        assert [one.reason for one in mine.judgements] == ["known"] and Report.select().count() == 1
        # and the parts are written on
        held = Audit.select().where(Audit.id == audit).get()
        spec_now = meaning.write(held, Names(wording=Wording(row="parcel")), meaning.By("W"))
        assert spec_now.wording.row == "parcel" and meaning.versions(mine, "wording")[0].number == 2


@pytest.mark.parametrize("earlier", ["m0006_parts"], indirect=True)
def test_work_of_the_last_release_is_still_there_and_can_be_dropped(earlier):
    run = database.database.execute_sql
    run(
        "insert into background_task (id, audit_id, kind, title, payload, state) values (%s, %s, 'evidence', 't', '{}', 'queued')",
        (str(uuid.uuid4()), earlier),
    )
    database.database.close()
    assert database.migrate()[0] == "m0007_expected"
    with database.database.connection_context():
        task = Task.get(Task.audit == earlier)
        assert (task.state, task.expected, task.unwatched) == ("queued", None, False)
        Task.update(state="dropped").where(Task.id == task.id).execute()
        assert Task.get_by_id(task.id).state == "dropped"


@pytest.mark.parametrize("earlier", ["m0007_expected"], indirect=True)
def test_audits_of_the_last_release_stand_on_the_front_page_and_come_back_when_deleted(earlier, tmp_path):
    database.database.close()
    assert database.migrate()[0] == "m0008_places"
    with database.database.connection_context():
        mine = Audit.get_by_id(earlier)
        assert (mine.opened, mine.archived, mine.deleted) == (None, False, None)
        removal.put_away(mine)
        assert removal.expire(FileStore(tmp_path)) == []  # not yet
        removal.bring_back(mine)
        assert Audit.get_by_id(earlier).deleted is None
        Audit.update(deleted=datetime.now(UTC) - 2 * removal.UNDO).where(Audit.id == earlier).execute()
        removal.expire(FileStore(tmp_path))
        assert Audit.get_or_none(Audit.id == earlier) is None
