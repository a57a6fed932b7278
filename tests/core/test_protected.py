"""Protected attributes lead, and segments that were found by their errors are not tested on the same rows."""

from __future__ import annotations

import numpy as np
import pytest
from tests.core.systems import system

from zerotilt.core import guess, profiles
from zerotilt.core.findings import gathered
from zerotilt.core.groups import tilt, tilt_said
from zerotilt.core.groups.disparity import TiltSettings
from zerotilt.core.meaning import Condition, Role, Segment, Wording
from zerotilt.core.stats import intervals
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays
from zerotilt.core.work import Work

ROLES = {"desk": Role.group, "sex": Role.group, "d": Role.decision}


def subject_of(protected: str = "", segments: tuple[Segment, ...] = (), seed: int = 0) -> Subject:
    """Desks are decided far more differently than the sexes are; both are flagged."""
    rng = np.random.default_rng(seed)
    n = 4_000
    desk, sex = rng.choice(["one", "two"], n), rng.choice(["women", "men"], n)
    y = rng.integers(0, 2, n)
    chance = 0.6 - 0.4 * (desk == "two") - 0.18 * (sex == "women")
    columns = {"desk": desk, "sex": sex, "d": (rng.random(n) < chance).astype(int), "size": rng.random(n), "y": y}
    subject = system(columns, roles=ROLES, segments=segments)
    marked = tuple(one.model_copy(update={"protected": one.name == protected}) for one in subject.spec.columns)
    return Subject(subject.spec.model_copy(update={"columns": marked}), subject.table, None, subject.context)


def compared(subject: Subject):
    return tilt.compare_groups(subject, TiltSettings(reference="largest"), 0, Work())


def test_of_what_is_flagged_a_protected_attribute_is_told_first():
    plain, marked = subject_of(), subject_of("sex")
    assert plain.spec.groupings == [("desk",), ("sex",)] and marked.spec.groupings == [("sex",), ("desk",)]
    heads = [tilt_said.say(compared(one), Wording(), TiltSettings()).text for one in (plain, marked)]
    assert "desk" in heads[0].split("(95%")[0] and "women" in heads[1].split("(95%")[0]
    found = gathered(tilt_said.disparities(compared(marked), marked.spec))
    assert [one.columns for one in found] == [("sex",), ("desk",)]
    assert [(one.attribute, one.protected) for one in compared(marked).attributes] == [("sex", True), ("desk", False)]


def test_crossings_with_a_protected_attribute_come_before_others():
    spec = subject_of("sex").spec
    columns = (*spec.columns, spec.columns[0].model_copy(update={"name": "team"}))
    crossed = spec.model_copy(update={"columns": columns, "intersections": (("desk", "team"), ("desk", "sex"))})
    assert crossed.groupings == [("sex",), ("desk",), ("team",), ("desk", "sex"), ("desk", "team")]


def test_evidence_from_before_anything_could_be_protected_is_found():
    plain, marked = subject_of().spec, subject_of("sex").spec
    assert plain.digest() != marked.digest()
    body = plain.model_dump(mode="json")
    for column in body["columns"]:
        del column["protected"]
    assert type(plain).model_validate(body).digest() == plain.digest()


def test_what_no_rule_protects_is_not_guessed_to_be():
    n = 60
    rng = np.random.default_rng(1)
    names = ("sex", "religion", "age_band", "region", "language", "plan")
    table = from_arrays({name: rng.choice(["a", "b", "c"], n) for name in names} | {"y": rng.integers(0, 2, n)})
    found = {one.name: (one.role, one.protected) for one in guess.guess_columns(profiles.profile(table))}
    assert [found[name] for name in names[:3]] == [(Role.group, True)] * 3
    assert [found[name] for name in names[3:5]] == [(Role.group, False)] * 2
    assert found["plan"] == (Role.feature, False)


@pytest.mark.parametrize("seed", range(3))
def test_a_segment_found_by_its_errors_is_shown_and_not_tested(seed):
    errors = Segment(name="small", conditions=(Condition(column="size", under=0.3),), by_errors=True)
    other = Segment(name="large", conditions=(Condition(column="size", over=0.6),))
    result = compared(subject_of("sex", (errors, other), seed))
    alone = compared(subject_of("sex", (other,), seed))
    own = [one for one in result.disparities if one.group == "small"]
    assert own and all(one.status == "not_tested" and one.p_value is None and one.note for one in own)
    assert all(one.ratio.value is not None for one in own if one.metric == "selection_rate")
    # it does not count among the tests of the others either
    rest = [one for one in result.disparities if one.group != "small"]
    assert result.tested == alone.tested
    assert [one.p_adjusted for one in rest] == [one.p_adjusted for one in alone.disparities]
    p = [np.nan if one.p_value is None else one.p_value for one in rest]
    assert [one.p_adjusted for one in rest if one.p_adjusted is not None] == pytest.approx(
        [one for one in intervals.adjust(p, result.policy.adjustment) if np.isfinite(one)]
    )
    spec = subject_of("sex", (errors, other), seed).spec
    assert all(one.group != "small" for one in tilt_said.disparities(result, spec))
    assert (
        "1 segment found by its errors is shown and not tested here."
        in tilt_said.say(result, Wording(), TiltSettings()).detail
    )


def test_where_its_rows_came_from_changes_a_segments_comparison_alone():
    one = Segment(name="small", conditions=(Condition(column="size", under=0.3),))
    found = one.model_copy(update={"by_errors": True})
    plain, marked = subject_of("", (one,)).spec, subject_of("", (found,)).spec
    assert plain.digest() == marked.digest() and plain.comparisons_digest() != marked.comparisons_digest()
