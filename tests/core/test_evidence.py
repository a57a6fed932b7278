"""Evidence: what its key depends on, and that computing it again gives the same."""

from dataclasses import replace

import pytest
from tests.conftest import trained_again
from tests.core import zoo

from zerotilt.core.evidence import Digests, Evidence, compute, key, method_named
from zerotilt.core.meaning import Context
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.work import Work

DIGESTS = Digests(table="t", spec="s", model="m")


@pytest.fixture(scope="module")
def subject():
    task, model, columns = zoo.made("random forest")
    return zoo.subject_of(model, columns, task, grouped="channel")


def key_of(digests=DIGESTS, context=None, seed=1, method="response", **settings):
    found = METHODS[method]
    return key(found, digests, context or Context(), found.settings(**settings), seed)


def test_the_key_depends_on_everything_the_result_depends_on():
    keys = [
        key_of(),
        key_of(digests=Digests(table="T", spec="s", model="m")),
        key_of(digests=Digests(table="t", spec="S", model="m")),
        key_of(digests=Digests(table="t", spec="s", model=None)),
        key_of(context=Context(rows="all")),
        key_of(context=Context(output="log-odds")),
        key_of(seed=2),
        key_of(feature="value"),
        key_of(method="drivers"),
    ]
    assert len(set(keys)) == len(keys)


def test_the_key_does_not_depend_on_a_models_name():
    assert key_of(context=Context(model="one")) == key_of(context=Context(model="another"))


@pytest.mark.parametrize("name", list(METHODS))
def test_computing_again_gives_the_same_result_and_reading(subject, name):
    fields = METHODS[name].settings.model_fields
    settings = METHODS[name].settings(**{one: at for one, at in (("row", 3), ("other", 4)) if one in fields})
    if "recipe" in METHODS[name].needs:
        subject = replace(subject, again=trained_again)
    first = compute(subject, DIGESTS, name, settings, 20, Work())
    again = compute(subject, DIGESTS, name, settings, 20, Work())
    assert first.result == again.result
    assert first.key == again.key
    stored = Evidence.model_validate_json(first.model_dump_json())
    assert stored.typed == first.typed
    assert stored.read(subject.spec) == first.read(subject.spec)
    assert stored.read(subject.spec).text
    assert "NaN" not in first.model_dump_json() and "Infinity" not in first.model_dump_json()


def test_an_unknown_method_is_refused_with_those_there_are():
    with pytest.raises(
        Refused,
        match="“magic” is unknown; there are concerns, performance, columns, pairs, segment, cuts, segments, query, drivers",
    ):
        method_named("magic")
