"""First looks: valid settings that read less, and say from how many rows they are."""

from __future__ import annotations

import pytest
from tests.core import zoo

from zerotilt.core.evidence import Digests, key
from zerotilt.core.meaning import Alongside, Context, Wording
from zerotilt.core.methods import METHODS
from zerotilt.core.work import Work

LOOKS = [method for method in METHODS.values() if method.first_look]


@pytest.mark.parametrize("method", LOOKS, ids=lambda method: method.name)
def test_a_first_look_is_a_setting_that_reads_less(method):
    whole = method.settings()
    look = method.settings(**method.first_look)
    for name, value in method.first_look.items():
        assert 0 < value <= getattr(whole, name)
    assert look != whole


@pytest.mark.parametrize("method", LOOKS, ids=lambda method: method.name)
def test_a_first_look_says_from_how_few_rows_it_is(method):
    task, model, columns = zoo.made("gradient boosting")
    subject = zoo.subject_of(model, columns, task)
    fields = method.settings.model_fields
    named = {name: "grade" for name in ("column", "attribute") if name in fields}
    if method.name == "mean_ladder":  # of a group that is larger than what is looked at first
        named = {"group": "grade", "member": "A"}
    look = dict(method.first_look) | (
        {"rows": 100} if method.name in ("arrangement", "pockets") else {}
    )  # of a table this small
    settings = method.settings(**look, **named)
    result = method.compute(subject, settings, 1, Work())
    reading = method.say(result, Wording(), settings)
    assert result.rows == subject.n
    smaller = {
        getattr(result, name)
        for name in ("rows_scored", "rows_explained", "rows_read", "explained", "rows_walked")
        if getattr(result, name, subject.n) < subject.n
    }
    if method.name == "interactions":
        smaller = {result.rows_read // result.draws}  # as many rows in each draw
    assert smaller and any(f"{count:,}" in reading.text + reading.detail for count in smaller)


def test_what_is_read_alongside_is_part_of_the_key_by_its_digest_not_its_name():
    method = METHODS["drivers"]

    def keyed(alongside, digest):
        digests = Digests(table="t", spec="s", model="m", alongside=digest)
        return key(method, digests, Context(model="one", alongside=alongside), method.settings(), 1)

    plain = keyed(None, None)
    named = keyed(Alongside(model="two"), "d")
    assert named != plain
    assert named == keyed(Alongside(model="another name of the same"), "d")
    assert named != keyed(Alongside(model="two"), "e")
    assert keyed(Alongside(rows="training"), None) not in (plain, keyed(Alongside(rows="all"), None))


def test_every_method_that_reads_alongside_says_so_and_no_other_takes_it():
    assert {method.name for method in METHODS.values() if method.reads_alongside} == {
        "drivers", "response", "pockets", "tilt", "changed",
    }  # fmt: skip
    for method in METHODS.values():
        fields = method.result.model_fields
        assert ("beside" in fields) == method.reads_alongside


@pytest.mark.parametrize("name", ["drivers", "response"])
def test_without_anything_alongside_nothing_is_said_of_it(name):
    task, model, columns = zoo.made("logistic regression")
    subject = zoo.subject_of(model, columns, task)
    method = METHODS[name]
    settings = method.settings(**method.first_look)
    result = method.compute(subject, settings, 1, Work())
    assert result.beside is None
    assert "alongside" not in method.say(result, Wording(), settings).text
