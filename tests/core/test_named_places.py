"""Words of the audit within results: told in today's without computing again, and never left with a mark."""

from __future__ import annotations

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.conftest import trained_again

from zerotilt.core import marks, named_places, words
from zerotilt.core.evidence import Digests, Evidence, compute
from zerotilt.core.meaning import Context, Wording
from zerotilt.core.methods import METHODS
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work

BEFORE = Wording(
    row="claim",
    rows="claims",
    event="the claim is valid",
    unit="days",
    favourable="settled at once",
    unfavourable="inspected",
)
AFTER = Wording(
    row="Fall", rows="Fälle", event="it is “true”", unit="hours", favourable="paid", unfavourable="held back · later"
)
BARE = Wording()
ROWS = 500
OWN = {
    "row": 5,
    "other": 7,
    "column": "channel",
    "value": "app",
    "sql": "select channel, count(*) from rows group by 1",
}


def subject_of(claims, audit, wording: Wording) -> Subject:
    spec = audit.spec.model_copy(update={"wording": wording})
    table = Table(claims.slice(0, ROWS))
    predictor = OnnxPredictor(next(iter(audit.models.values())), table, spec)
    return Subject(spec, table, predictor, Context(rows="all"), again=trained_again)


def read(subject: Subject, method: str) -> Evidence | str:
    own = METHODS[method]
    given = dict(own.unasked(subject.spec) or {}) | {
        name: value for name, value in OWN.items() if name in own.settings.model_fields
    }
    small = {name: 40 for name in ("explained", "rows_read", "background") if name in own.settings.model_fields}
    digests = Digests.of(subject.spec, "t" * 64, "m" * 64)
    try:
        return compute(subject, digests, method, own.settings.model_validate(given | small), 20, Work())
    except Refused as problem:
        return problem.sentence()


@pytest.mark.parametrize("which", [0, 1, 2])
def test_what_was_computed_in_other_words_is_told_as_if_it_were_computed_in_these(demo_audits, which):
    claims, audits = demo_audits
    one, other = (subject_of(claims, audits[which], wording) for wording in (BEFORE, AFTER))
    worded = set()
    for method in OF_NUMBERS_AND_CLASSES if which else set(METHODS) - SLOW:
        first, second = read(one, method), read(other, method)
        if isinstance(first, str):
            assert isinstance(second, str) and marks.BEGIN not in first + second
            continue
        assert isinstance(second, Evidence)
        for found in (first, second):
            assert marks.BEGIN not in json.dumps(found.result, ensure_ascii=False), method
            assert marks.BEGIN not in str(found.reading), method
            assert all(marks.BEGIN.encode() not in data for data in found.attached.values()), method
        told = Evidence.model_validate_json(first.model_dump_json()).in_words(other.spec)
        if "wording" in METHODS[method].depends:
            continue
        assert told.result == second.result, method
        assert told.read(other.spec) == second.read(other.spec), method
        worded |= {method} if first.worded else set()
    assert len(worded) > 1


SLOW = {
    "families", "interactions", "explained", "spread", "mean_ladder", "pocket", "side_by_side", "shapley_by_part",
    "checks", "surrogate", "lattice", "loss_shapley", "thresholds", "flip", "performance", "versions", "changed",
}  # fmt: skip
"""Read on few rows they take long all the same; those of them whose results hold words are tried one by one."""
OF_NUMBERS_AND_CLASSES = ("concerns", "pockets", "ladder", "nearest", "change", "alike", "person", "cuts", "cases")


@pytest.mark.parametrize("method", ["pocket", "mean_ladder"])
def test_the_same_of_what_takes_long(demo_audits, method):
    claims, audits = demo_audits
    one, other = (subject_of(claims, audits[0], wording) for wording in (BEFORE, AFTER))
    first, second = read(one, method), read(other, method)
    assert isinstance(first, Evidence) and isinstance(second, Evidence) and first.worded
    assert first.in_words(other.spec).result == second.result


NAMES = (
    st.text(st.characters(exclude_categories=["Cs", "Co", "Cc"]), min_size=1, max_size=8).map(str.strip).filter(bool)
)


@given(
    st.builds(
        Wording, row=NAMES, rows=NAMES, event=NAMES, unit=NAMES | st.just(""), favourable=NAMES, unfavourable=NAMES
    )
)
@settings(max_examples=60)
def test_marks_come_out_and_every_word_goes_to_its_own_place(demo, wording):
    _, spec, _ = demo
    own = spec.model_copy(update={"wording": wording})
    told = named_places.marked(own).wording
    texts = {
        "a": [f"{words.opening(told.rows)} are {told.favourable}; {told.case_named('row 6')}.", "nothing"],
        "b": {"c": words.quantity(2.35, told.unit), "d": told.unfavourable},
    }
    clean, places = named_places.taken_out(texts, own)
    plain = wording
    assert clean == {
        "a": [f"{words.opening(plain.rows)} are {plain.favourable}; {plain.case_named('row 6')}.", "nothing"],
        "b": {"c": words.quantity(2.35, plain.unit), "d": plain.unfavourable},
    }
    assert named_places.in_words(clean, places, own) == clean
    # there and back again
    other = spec.model_copy(update={"wording": AFTER})
    away = named_places.in_words(clean, places, other)
    assert named_places.in_words(away, places, own) == clean


def test_an_empty_unit_leaves_no_space_and_a_new_one_is_told(demo):
    _, spec, _ = demo
    bare = spec.model_copy(update={"wording": BARE})
    told = named_places.marked(bare).wording
    clean, places = named_places.taken_out({"a": f"by {words.quantity(2.35, told.unit)}, more"}, bare)
    assert clean == {"a": "by 2.35, more"}
    hours = spec.model_copy(update={"wording": AFTER})
    assert named_places.in_words(clean, places, hours) == {"a": "by 2.35 hours, more"}


def test_an_event_without_a_name_has_one_in_words(demo):
    _, spec, _ = demo
    bare = spec.model_copy(update={"wording": BARE})
    told = named_places.marked(bare)
    clean, places = named_places.taken_out([f"chance that {told.event_phrase}"], bare)
    assert clean == ["chance that claim valid is yes"]
    named = spec.model_copy(update={"wording": BEFORE})
    assert named_places.in_words(clean, places, named) == ["chance that the claim is valid"]
