"""What a method says of itself is so: what its numbers depend on, what it needs, where its settings stand."""

from __future__ import annotations

from dataclasses import replace

import pytest

from zerotilt.core.evidence import Digests, key
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Condition, FlagPolicy, Segment, Spec
from zerotilt.core.work import Work

FEWER = {
    "rows": 120, "repeats": 2, "explained": 8, "walked": 12, "walks": 8, "sampled": 20, "draws": 2, "seeds": 2,
    "samples": 200, "background": 40, "orders": 2, "points": 6,
}  # fmt: skip
NEEDED = {"expectations": {"expected": {"missed_scans": "falls"}}}


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
    for part in ("policy", "comparisons"):
        spec = other(demo_subject.spec, part)
        changed = key(method, Digests.of(spec, "t", "m"), demo_subject.context, settings, 3)
        if part in method.depends:
            assert changed != own
        else:
            assert changed == own
            assert method.compute(replace(demo_subject, spec=spec), settings, 3, Work()) == result


@pytest.mark.parametrize("name", [name for name in METHODS if METHODS[name].needs == "model"])
def test_what_needs_a_model_is_refused_without_one(demo_subject, name):
    with pytest.raises(Refused, match="needs a model"):
        METHODS[name].refuse(replace(demo_subject, predictor=None))


@pytest.mark.parametrize("name", [name for name in METHODS if METHODS[name].needs != "model"])
def test_what_needs_none_is_read_of_recorded_decisions(demo_subject, name):
    method = METHODS[name]
    recorded = replace(demo_subject, predictor=None)
    method.refuse(recorded)
    if name == "thresholds":
        with pytest.raises(Refused, match="score"):
            method.compute(recorded, settings_of(method), 3, Work())
        return
    settings = settings_of(method)
    assert method.read(method.compute(recorded, settings, 3, Work()), recorded.spec.wording, settings).text


@pytest.mark.parametrize("name", METHODS)
def test_notes_are_prose_with_a_source_or_a_rule(name):
    note = METHODS[name].note
    assert len(note) > 80 and note.count("**") % 2 == 0 and note.strip().endswith((".", '"'))
    assert "  " not in note
