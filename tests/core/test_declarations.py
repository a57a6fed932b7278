"""What a method says of itself is so: what its numbers depend on, what it needs, where its settings stand."""

from __future__ import annotations

from dataclasses import replace

import pytest

from zerotilt.core.evidence import Digests, key
from zerotilt.core.meaning import Allowed, Condition, FlagPolicy, Role, Segment, Spec
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

FEWER = {
    "rows": 120, "repeats": 2, "explained": 8, "walked": 12, "walks": 8, "sampled": 20, "draws": 2, "seeds": 2,
    "samples": 200, "background": 40, "orders": 2, "points": 6,
}  # fmt: skip
NEEDED = {"expectations": {"expected": {"missed_scans": "falls"}}, "difference": {"other": 9}}


def settings_of(method):
    fields = method.settings.model_fields
    given = {name: value for name, value in FEWER.items() if name in fields}
    if "rows" in fields and method.name == "interactions":
        given["rows"] = 8
    if "row" in fields:
        given["row"] = 7
    return method.settings.model_validate(given | NEEDED.get(method.name, {}))


def other(spec: Spec, part: str) -> Spec:
    """The meaning with one part changed."""
    if part == "changeable":
        return spec.model_copy(update={"allowed": (Allowed(feature="missed_scans", change="none"),)})
    if part == "policy":
        changed = FlagPolicy(number=9, ratio_low=0.5, ratio_high=3, minimum_rows=500, adjustment="none", alpha=0.2)
        return spec.model_copy(update={"policy": changed})
    heavy = Segment(name="heavy", conditions=(Condition(column="parcel_weight", over=5),))
    return spec.model_copy(update={"intersections": (("home_area", "channel"),), "segments": (heavy,)})


@pytest.mark.parametrize("name", METHODS)
def test_what_a_method_does_not_depend_on_changes_neither_its_numbers_nor_its_key(demo_subject, name):
    method = METHODS[name]
    settings = settings_of(method)
    result = method.compute(demo_subject, settings, 3, Work())
    digests = Digests.of(demo_subject.spec, "t", "m")
    own = key(method, digests, demo_subject.context, settings, 3)
    changed_all = demo_subject.spec
    for part in ("policy", "comparisons", "changeable"):
        spec = other(demo_subject.spec, part)
        changed = key(method, Digests.of(spec, "t", "m"), demo_subject.context, settings, 3)
        if part in method.depends:
            assert changed != own
        else:
            assert changed == own
            changed_all = other(changed_all, part)
    # all of them at once: what depends on none of them does not depend on any
    if changed_all != demo_subject.spec:
        assert method.compute(replace(demo_subject, spec=changed_all), settings, 3, Work()) == result


@pytest.mark.parametrize("name", [name for name in METHODS if "model" in METHODS[name].needs])
def test_what_needs_a_model_is_refused_without_one(demo_subject, name):
    with pytest.raises(Refused, match="needs a model"):
        METHODS[name].refuse(replace(demo_subject, predictor=None))


@pytest.mark.parametrize("name", [name for name in METHODS if "model" not in METHODS[name].needs])
def test_what_needs_none_is_read_of_recorded_decisions(demo_subject, name):
    method = METHODS[name]
    recorded = replace(demo_subject, predictor=None)
    method.refuse(recorded)
    if name in ("thresholds", "band"):
        with pytest.raises(Refused, match="score"):
            method.compute(recorded, settings_of(method), 3, Work())
        return
    settings = settings_of(method)
    assert method.read(method.compute(recorded, settings, 3, Work()), recorded.spec.wording, settings).text


@pytest.fixture(scope="module")
def untold(demo_subject):
    """The demo without its outcome: which claims were valid is not known."""
    columns = tuple(
        one.model_copy(update={"role": Role.ignored if one.role is Role.outcome else one.role})
        for one in demo_subject.spec.columns
    )
    return Subject(
        demo_subject.spec.model_copy(update={"columns": columns}), demo_subject.table, demo_subject.predictor
    )


@pytest.mark.parametrize("name", METHODS)
def test_without_an_outcome_a_method_reads_what_it_can_or_says_that_it_needs_one(untold, demo_subject, name):
    method, settings = METHODS[name], settings_of(METHODS[name])
    if "outcome" in method.needs:
        with pytest.raises(Refused, match=r"^This needs what really happened"):
            method.refuse(untold)
        return
    method.refuse(untold)
    result = method.compute(untold, settings, 3, Work())
    assert method.read(result, untold.spec.wording, settings).text
    if name in ("spread", "by_part", "response", "ladder"):  # the model alone: nothing in them needs an outcome
        known = method.compute(demo_subject, settings, 3, Work())
        assert known.model_dump(exclude={"outcome", "actual"}) == result.model_dump(exclude={"outcome", "actual"})


def test_decisions_with_no_known_outcome_are_an_audit_of_their_shares(untold, demo_subject):
    """Selection rates and their comparisons are those of the same rows with outcomes; nothing else is compared."""
    recorded = replace(untold, predictor=None)
    whole = replace(demo_subject, predictor=None)
    tilt = METHODS["tilt"]
    found, known = (tilt.compute(one, tilt.settings(), 3, Work()) for one in (recorded, whole))
    assert {one.metric for one in found.disparities} == {"selection_rate"}
    before = {(one.attribute, one.group): one for one in known.disparities if one.metric == "selection_rate"}
    assert found.disparities
    for one in found.disparities:
        assert one.ratio == before[one.attribute, one.group].ratio
    told = METHODS["performance"].compute(recorded, METHODS["performance"].settings(), 3, Work())
    said = METHODS["performance"].read(told, recorded.spec.wording, None)
    assert list(told.sets[0].metrics) == ["selection_rate"]
    assert "are settled at once" in said.text and "No column says what really happened" in said.detail
    assert METHODS["cases"].compute(recorded, METHODS["cases"].settings(), 3, Work()).cases[0].right is None
    with pytest.raises(Refused, match="No column is marked as the outcome"):
        METHODS["cases"].compute(recorded, METHODS["cases"].settings(which="wrong"), 3, Work())


@pytest.mark.parametrize("name", METHODS)
def test_notes_are_prose_with_a_source_or_a_rule(name):
    note = METHODS[name].note
    assert len(note) > 80 and note.count("**") % 2 == 0 and note.strip().endswith((".", '"'))
    assert "  " not in note
