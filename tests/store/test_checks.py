"""Which model version an audit opens with, before, while and after Intake's check of it runs."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from zerotilt.store import database
from zerotilt.store.checks import chosen_version, last_check, opens_with
from zerotilt.store.records import Audit, ModelVersion, Task

BEGAN = datetime(2026, 1, 1, tzinfo=UTC)


@pytest.fixture
def audit(running):
    """An audit of two versions, the second uploaded later; undone afterwards."""
    database.bind(running.postgres.address)
    with database.database.connection_context(), database.database.atomic() as undone:
        made = Audit.create(title="Two versions", ready=True)
        for place in range(2):
            ModelVersion.create(
                audit=made, name=f"v{place}", digest="0" * 64, card={}, created=BEGAN + timedelta(hours=place)
            )
        yield made
        undone.rollback()


def check(audit, version, state, minutes):
    asked = BEGAN + timedelta(minutes=minutes)
    ended = asked if state == "done" else None
    payload = {"context": {"model": str(version)}}
    Task.create(audit=audit, kind="check", title="c", payload=payload, state=state, created=asked, finished=ended)


def test_the_version_that_is_being_checked_first_is_read_already(audit):
    first, newest = (one.id for one in audit.models.order_by(ModelVersion.created))
    assert opens_with(audit) == str(newest) and chosen_version(audit) is None
    check(audit, first, "queued", 0)
    assert opens_with(audit) == str(first) and last_check(audit) is None


def test_a_check_that_is_under_way_changes_nothing_until_it_has_ended(audit):
    first, newest = (one.id for one in audit.models.order_by(ModelVersion.created))
    check(audit, first, "done", 0)
    check(audit, newest, "running", 1)
    assert opens_with(audit) == str(first)
    check(audit, newest, "done", 2)
    assert opens_with(audit) == str(newest)


def test_a_version_that_was_chosen_and_is_gone_is_named_and_the_newest_is_read(audit):
    first, newest = (one.id for one in audit.models.order_by(ModelVersion.created))
    check(audit, first, "done", 0)
    ModelVersion.delete().where(ModelVersion.id == first).execute()
    assert (chosen_version(audit), opens_with(audit)) == (str(first), str(newest))


def test_while_intake_is_open_a_version_that_waits_for_its_check_is_not_chosen_yet(audit):
    first, newest = (one.id for one in audit.models.order_by(ModelVersion.created))
    audit.ready = False
    check(audit, first, "failed", 0)
    assert chosen_version(audit) is None and opens_with(audit) == str(newest)
