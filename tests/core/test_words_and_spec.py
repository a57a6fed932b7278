"""Numbers in sentences, and what an audit's meaning refuses."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError
from tests.core.systems import spec_of

from zerotilt.core import words
from zerotilt.core.meaning import PARTS, ColumnSpec, Condition, FlagPolicy, Kind, Role, Segment, Spec, Wording
from zerotilt.core.refusal import Refused
from zerotilt.core.table import from_arrays


@pytest.mark.parametrize(
    ("value", "text"),
    [(True, "True"), (3, "3"), (3.0, "3"), (3.5, "3.5"), ("03", "03"), (1e20, "1e+20"), (-0.0, "0"), ("", "")],
)
def test_one_text_form_of_a_cell(value, text):
    assert words.value_text(value) == text


@given(st.integers(-(10**15), 10**15))
def test_whole_numbers_read_the_same_as_integers_and_floats(number):
    assert words.value_text(number) == words.value_text(float(number)) or abs(number) >= 10**15


@pytest.mark.parametrize(
    ("made", "text"),
    [
        (words.percent(0.5123), "51.2%"),
        (words.percent(-0.02), "−2.0%"),
        (words.ratio(0.714), "0.71"),
        (words.ratio(0.0149), "0.015"),
        (words.points(-0.214), "21.4 points"),
        (words.decimal(-0.0412), "−0.041"),
        (words.count(12000), "12,000"),
        (words.level(0.95), "95%"),
        (words.listing(["a"]), "a"),
        (words.listing(["a", "b", "c"]), "a, b and c"),
        (words.listing([]), ""),
        (words.plural(1, "row"), "1 row"),
        (words.plural(2, "row"), "2 rows"),
        (words.title("missed_scans"), "missed scans"),
        (words.opening("élan"), "Élan"),
        (words.opening("v000 (kept)"), "v000 (kept)"),
        (words.opening("iD"), "iD"),
        (words.opening("3rd"), "3rd"),
        (words.opening(""), ""),
        (words.plural(1, "column"), "1 column"),
        (words.runs(["17", "25", "32", "42"], [True, False, True, True], True), "17 and 32 to 42"),
        (words.runs(["17", "25", "32", "42"], [True, False, True, True], False), "17, 32 and 42"),
        (words.runs(["17"], [False], True), ""),
        (words.runs(list("abcdefghijklm"), [True, False] * 6 + [True], True), "a, c, e, g and 3 other stretches"),
        (words.measured(0.12345, 0.1, 0.15), ("0.123", "0.100", "0.150")),
        (words.measured(1234.5, 1100, 1380), ("1,234", "1,100", "1,380")),
        (words.measured(-0.00001, -0.2, 0.2), ("0.00", "−0.20", "0.20")),
        (words.measured(-3e-18, None, None), ("0", "", "")),
    ],
)
def test_numbers_and_lists_in_sentences(made, text):
    assert made == text


def column(name: str, role: Role = Role.feature, **more) -> ColumnSpec:
    return ColumnSpec(name=name, kind=Kind.categorical, role=role, **more)


def test_a_column_listed_twice_is_refused():
    with pytest.raises(ValidationError, match="listed twice"):
        Spec(columns=(column("a"), column("a")), event="1")


@pytest.mark.parametrize(
    ("crossing", "message"),
    [(("a",), "two or three"), (("a", "b", "c", "d"), "two or three"), (("a", "z"), "not there: z")],
)
def test_intersections_are_checked(crossing, message):
    with pytest.raises(ValidationError, match=message):
        Spec(columns=tuple(map(column, "abcd")), event="1", intersections=(crossing,))


def test_roles_that_must_be_single_are_refused_when_double():
    spec = Spec(columns=(column("a", Role.outcome), column("b", Role.outcome)), event="1")
    with pytest.raises(Refused, match="“a” and “b” are both marked as outcome") as caught:
        _ = spec.outcome
    assert caught.value.where == "column “b”"
    with pytest.raises(Refused, match="no column “z”"):
        spec.column("z")


def test_groupings_are_single_columns_then_intersections():
    columns = (column("a", Role.group), column("b", grouped=True), column("c"))
    spec = Spec(columns=columns, event="1", intersections=(("a", "b"),))
    assert spec.groupings == [("a",), ("b",), ("a", "b")]


def test_wording_changes_no_digest_but_every_number_giving_part_does():
    table = from_arrays({"x": [1.0, 2.0], "y": ["a", "b"]})
    spec = spec_of(table, {"y": Role.outcome}, event="a")
    assert spec.digest() == spec.model_copy(update={"wording": Wording(rows="loans")}).digest()
    for change in (
        {"threshold": 0.4}, {"favourable": "other"}, {"event": "b"}, {"seed": 1}, {"holdout_share": 0.5},
        {"policy": FlagPolicy(confidence=0.9)}, {"columns": spec.columns[::-1]}, {"favourable_classes": ("a",)},
    ):  # fmt: skip
        assert spec.digest() != spec.model_copy(update=change).digest(), change


def test_limits_and_groups_have_a_digest_of_their_own():
    table = from_arrays({"x": [1.0, 2.0], "z": [0.0, 1.0], "y": ["a", "b"]})
    spec = spec_of(table, {"y": Role.outcome}, event="a")
    segment = Segment(name="s", conditions=(Condition(column="x", over=1),))
    for change in ({"policy": FlagPolicy(minimum_rows=10)}, {"segments": (segment,)}, {"intersections": (("x", "z"),)}):
        other = spec.model_copy(update=change)
        assert spec.digest() == other.digest(), change
        assert spec.compared_digest() != other.compared_digest(), change


@pytest.mark.parametrize("bad", [{"ratio_low": 1.2}, {"ratio_high": 0.9}, {"confidence": 1.0}, {"minimum_rows": 0}])
def test_a_flag_policy_that_makes_no_sense_is_refused(bad):
    with pytest.raises(ValidationError):
        FlagPolicy(**bad)


def test_a_refusal_says_place_problem_and_remedy():
    problem = Refused("It is wrong.", where="line 3", todo="Mend it.")
    assert problem.sentence() == "line 3: It is wrong. Mend it."
    assert Refused("It is wrong.").sentence() == "It is wrong."
    import pickle

    again = pickle.loads(pickle.dumps(problem))
    assert again.as_dict() == problem.as_dict()


def test_all_parts_are_joined_again_from_what_was_stored_of_each(demo):
    spec = demo[1]
    assert Spec.joined({name: spec.part(name) for name in PARTS}) == spec
