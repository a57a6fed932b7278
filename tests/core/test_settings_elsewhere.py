"""Settings of one audit for the table of another: as a file, and put to columns that differ."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zerotilt import settings_file
from zerotilt.core import guess
from zerotilt.core.meaning import (
    Allowed,
    ColumnSpec,
    Condition,
    GroupThreshold,
    Kind,
    ModelReading,
    Role,
    Rule,
    Segment,
    Spec,
    Task,
    Wording,
)  # fmt: skip
from zerotilt.core.profiles import profile
from zerotilt.core.refit import refit
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.demo import audit as demo_audit
from zerotilt.settings_file import HowRead, SettingsFile


@pytest.mark.parametrize("of", [demo_audit.spec, demo_audit.days_spec, demo_audit.desk_spec])
def test_a_file_of_settings_comes_back_as_it_was_written(demo, of):
    spec = of(demo[0]).model_copy(
        update={
            "segments": (Segment(name="heavy", conditions=(Condition(column="parcel_weight", over=10.5),)),),
            "decision_means": {"accepted": "yes", 'a "b"\n\\c': "no"},
            "score_top": 100,
            "model_readings": (ModelReading(model="a" * 64, inputs=("x", "y")),),
        }
    )
    rule = Rule(threshold=0.4, columns=("home_area",), thresholds=(GroupThreshold(group="mainland", threshold=0.3),))
    given_ = SettingsFile(spec=spec, table="claims.csv", model="trees.onnx", reading=HowRead(rows="all", rule=rule))
    text = settings_file.written(given_)
    assert settings_file.read(text) == given_
    # settings put to their own table change nothing
    found = profile(Table(demo[0]))
    guessed = guessed_of(found)
    assert refit(spec, found, guessed) == (spec, ())


def guessed_of(found) -> Spec:
    columns = guess.guess_columns(found)
    return Spec.model_validate({"columns": columns, **guess.guess_problem(found, columns)})


@given(st.text(max_size=40), st.text(min_size=1, max_size=40))
def test_any_names_come_back(text: str, name: str):
    spec = Spec(
        columns=(ColumnSpec(name=name, kind=Kind.categorical, role=Role.outcome, order=(text,)),),
        event=text, wording=Wording(row=name, favourable=text or "f"), decision_means={text: name},
    )  # fmt: skip
    assert settings_file.read(settings_file.written(SettingsFile(spec=spec, table=text))).spec == spec


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("zerotilt = ", "not written as TOML"),
        ("a = 1", "does not say zerotilt = 1"),
        ("zerotilt = 2", "does not say zerotilt = 1"),
        ("zerotilt = 1\ncolumns = 3", "columns: a list of tables is needed"),
        ("zerotilt = 1\n[[columns]]\nkind = 'numeric'", "columns: a list of tables is needed, each with a name"),
        (
            "zerotilt = 1\n[[columns]]\nname = 'a'\nkind = 'number'\nrole = 'feature'",
            "columns.1.kind: it must be numeric, categorical",
        ),
        ("zerotilt = 1\n[[columns]]\nname = 'a'\nkind = 'text'", "columns.1.role: it is needed and was not given"),
        ("zerotilt = 1\n[problem]\nthreshold = 3", "problem.threshold: it must be at most 1"),
        ("zerotilt = 1\n[problem]\nthreshhold = 0.3", "problem.threshhold: it is not known here"),
        ("zerotilt = 1\n[policy]\nconfidence = 'high'", "policy.confidence: a number is needed"),
        ("zerotilt = 1\n[report]\na = 1", "report: a text is needed"),
        ("zerotilt = 1\nmodell = 'x'", "modell: it is not known here"),
        ("zerotilt = 1\n[reading]\nrows = 'some'", "reading.rows: it must be hold-out, training or all"),
        ("zerotilt = 1\nproblem = 3", "problem: "),
        ("zerotilt = 1\nexpectations = {a = 'up'}", "expectations.a: it must be rises, falls or none"),
    ],
)
def test_a_file_that_is_none_is_refused_with_the_place(text, said):
    with pytest.raises(Refused, match=said.replace(".", r"\.")):
        settings_file.read(text)


ROWS = 40
BEFORE = Spec(
    columns=(
        ColumnSpec(name="weight", kind=Kind.numeric, role=Role.feature, expected="rises"),
        ColumnSpec(name="grade", kind=Kind.ordered, role=Role.feature, order=("C", "B", "A")),
        ColumnSpec(name="area", kind=Kind.categorical, role=Role.group, reference="north"),
        ColumnSpec(name="gone", kind=Kind.categorical, role=Role.group),
        ColumnSpec(name="part", kind=Kind.categorical, role=Role.split),
        ColumnSpec(name="paid", kind=Kind.categorical, role=Role.outcome),
    ),
    event="yes",
    favourable="other",
    threshold=0.3,
    holdout_values=("test",),
    training_values=("train",),
    intersections=(("area", "gone"), ("area", "grade")),
    segments=(
        Segment(name="old", conditions=(Condition(column="gone", levels=("x",)),)),
        Segment(name="heavy", conditions=(Condition(column="weight", over=3),)),
    ),
    model_inputs=("weight", "gone"),
    wording=Wording(row="claim", rows="claims"),
    allowed=(Allowed(feature="weight", change="up"), Allowed(feature="gone", change="none")),
)


def put_to(**columns) -> tuple[Spec, str]:
    usual = {
        "weight": np.arange(ROWS, dtype=float),
        "grade": ["A", "B", "C", "B"] * (ROWS // 4),
        "area": ["north", "south"] * (ROWS // 2),
        "part": ["train", "test"] * (ROWS // 2),
        "paid": ["yes", "no"] * (ROWS // 2),
    }
    found = profile(Table(pa.table({name: value for name, value in (usual | columns).items() if value is not None})))
    spec, notes = refit(BEFORE, found, guessed_of(found))
    return spec, " ".join(notes)


def test_what_fits_is_taken_and_what_is_not_there_is_named():
    spec, said = put_to()
    assert [column.name for column in spec.columns] == ["weight", "grade", "area", "part", "paid"]
    assert spec.column("grade").order == ("C", "B", "A")
    assert spec.column("weight").expected == "rises"
    assert (spec.event, spec.favourable, spec.threshold, spec.wording.row) == ("yes", "other", 0.3, "claim")
    assert (spec.intersections, [one.name for one in spec.segments]) == ((("area", "grade"),), ["heavy"])
    assert spec.model_inputs == () and [one.feature for one in spec.allowed] == ["weight"]
    for part in (
        "no column “gone”",
        "segment “old” is left out",
        "crossing of “area” and “gone”",
        "order of the model's columns",
    ):
        assert part in said
    assert "“weight”" not in said


@pytest.mark.parametrize(
    ("columns", "said", "found"),
    [
        ({"weight": ["light", "heavy"] * 20}, "“weight” was numeric and cannot be so here; it is taken as categorical", lambda s: s.column("weight").kind is Kind.categorical),
        ({"grade": ["A", "B", "C", "D"] * 10}, "“grade” holds “D”, which the settings' order", lambda s: s.column("grade").order == ("C", "B", "A", "D")),
        ({"area": ["east", "west"] * 20}, "reference group “north” of “area” has no rows here", lambda s: s.column("area").reference is None),
        ({"paid": ["good", "bad"] * 20}, "“paid” does not hold “yes”; it holds “good” and “bad”", lambda s: s.favourable_said is False),
        ({"paid": ["YES", "NO"] * 20}, "", lambda s: s.event == "YES" and s.favourable == "other"),
        ({"part": ["training", "later"] * 20}, "“part” does not hold the held-out “test”", lambda s: s.training_values == ("training",)),
        ({"paid": None, "outcome": ["1", "0"] * 20}, "What is predicted was guessed anew, since “paid” is not there", lambda s: s.outcome.name == "outcome" and s.event == "1"),
        ({"colour": ["red", "blue"] * 20}, "The settings do not speak of “colour”; what it is was guessed", lambda s: s.column("colour").role is Role.feature),
        ({"outcome": ["1", "0"] * 20}, "do not speak of “outcome”", lambda s: s.outcome.name == "paid"),
        ({"paid": np.linspace(0.5, 9.5, ROWS)}, "“paid” does not hold “yes”; it holds “0.5”", lambda s: s.favourable_said is False),
        ({"weight": [b"\x00"] * ROWS}, "“weight” was numeric and cannot be so here; it is taken as bytes", lambda s: s.column("weight").role is Role.ignored),
    ],
)  # fmt: skip
def test_a_table_of_another_make(columns, said, found):
    spec, notes = put_to(**columns)
    assert said in notes
    assert found(spec)
    assert spec.task is Task.binary
