"""Tables as NumPy arrays; CSV comes back as it was written."""

import csv
import datetime
import io

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zerotilt.core import output, profiles
from zerotilt.core.csvdialect import MISSING, Dialect
from zerotilt.core.players import Columns
from zerotilt.core.predictors import Frame
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table, convert, from_arrays

texts = st.text(st.characters(exclude_categories=["Cs", "Cc"], include_characters="\n"), max_size=12)


@settings(max_examples=80, deadline=None)
@given(st.lists(st.tuples(texts, texts), min_size=1, max_size=12), st.sampled_from([",", ";", "\t", "|"]))
def test_text_comes_back_as_it_was_written(rows, delimiter):
    written = io.StringIO()
    writer = csv.writer(written, delimiter=delimiter, quoting=csv.QUOTE_ALL)
    writer.writerows([("first", "second"), *rows, ("anchor", "of text")])
    sink = io.BytesIO()
    convert(io.BytesIO(written.getvalue().encode()), sink, Dialect(delimiter=delimiter))
    found = Table(io.BytesIO(sink.getvalue()))
    for place, name in enumerate(("first", "second")):
        expected = [None if row[place].strip() in ("", *MISSING) else row[place].replace("\r\n", "\n") for row in rows]
        assert found.texts(name).tolist()[:-1] == expected


def test_numbers_among_other_texts_are_read_and_the_others_counted():
    cells = ["12", " -3.5 ", None, "1e3", "yes"]
    assert from_arrays({"n": cells}).numbers("n").tolist()[:2] == [12, -3.5]
    assert from_arrays({"n": cells}).numbers("n")[[3, 4]].tolist() == [1000, 1]
    bad = from_arrays({"n": [*cells, "?", "?", "inf", "a", "b", "c", "d"]})
    with pytest.raises(Refused) as caught:
        bad.numbers("n")
    assert caught.value.message.startswith("7 cells of 12 are no number: “?” (2), ")
    assert "and 1 other; the first in row 6." in caught.value.message


@pytest.mark.parametrize(
    ("missing", "absent", "stored"),
    [(MISSING, [False, False, True, True], "string"), ((*MISSING, "?"), [False, True, True, True], "int64"), (("?",), [False, True, True, False], "string")],
)  # fmt: skip
def test_what_stands_for_no_value_is_said_and_counted(missing, absent, stored):
    marks: dict[str, int] = {}
    sink = io.BytesIO()
    used = convert(
        io.BytesIO(b"n;x\n1;a\n ? ;b\n;c\nNA;NA\n"), sink, Dialect(delimiter=";", missing=missing), marks=marks
    )
    found = Table(io.BytesIO(sink.getvalue()))
    assert [one is None for one in found.texts("n")] == absent and str(found.column("n").type) == stored
    assert marks == {"?": 1, "NA": 2}
    told = profiles.profile(found, dialect=used, marks=marks)
    assert [(one.level, one.rows) for one in told.marks] == [("NA", 2), ("?", 1)]


def test_a_mark_for_no_value_is_short():
    assert Dialect(missing=(" ? ", "?", "")).missing == ("?",)
    with pytest.raises(ValueError, match="too long a mark for no value"):
        Dialect(missing=("x" * 61,))


@settings(max_examples=60, deadline=None)
@given(st.lists(st.one_of(st.none(), st.floats(-1e9, 1e9)), min_size=2, max_size=20), st.sampled_from([".", ","]))
def test_numbers_come_back_as_they_were_written(numbers, decimal):
    shown = ["" if number is None else repr(number).replace(".", decimal) for number in [*numbers, 0.5]]
    data = "x;n\n" + "".join(f"a;{text}\n" for text in shown)
    sink = io.BytesIO()
    convert(io.BytesIO(data.encode()), sink, Dialect(delimiter=";", decimal=decimal))
    found = Table(io.BytesIO(sink.getvalue())).numbers("n")
    expected = [np.nan if number is None else number for number in [*numbers, 0.5]]
    assert np.allclose(found, expected, rtol=1e-12, equal_nan=True)


def test_both_views_of_every_kind():
    day = datetime.date(2026, 11, 23)
    found = from_arrays(
        {
            "whole": pa.array([1, None, 3]),
            "real": pa.array([1.0, None, 2.5]),
            "nan": np.array([1.0, np.nan, 2.0]),
            "truth": pa.array([True, None, False]),
            "word": pa.array(["yes", None, "No"]),
            "day": pa.array([day, None, day]),
        }
    )
    assert found.texts("whole").tolist() == ["1", None, "3"]
    assert found.texts("real").tolist() == ["1", None, "2.5"]
    assert found.texts("nan").tolist() == ["1", None, "2"]
    assert found.texts("truth").tolist() == ["True", None, "False"]
    assert found.texts("day").tolist() == ["2026-11-23", None, "2026-11-23"]
    for name in ("whole", "real", "nan", "truth", "word", "day"):
        assert np.isnan(found.numbers(name)).tolist() == [False, True, False], name
    assert found.numbers("word")[[0, 2]].tolist() == [1, 0]
    assert found.numbers("day")[0] == (day - datetime.date(1970, 1, 1)).days


def test_what_is_no_number_is_named_with_its_row():
    found = from_arrays({"n": ["yes", "no", "perhaps"]})
    with pytest.raises(Refused, match=r"1 cell of 3 is no number: “perhaps” \(1\); the first in row 3") as caught:
        found.numbers("n")
    assert caught.value.where == "column “n”"
    with pytest.raises(Refused, match="no column “z”"):
        found.column("z")


def test_a_profile_counts_missing_cells_of_both_kinds():
    found = profiles.profile(
        from_arrays({"f": np.array([1.0, np.nan, 3.0, np.nan]), "t": pa.array(["a", None, "a", "b"]), "e": pa.nulls(4)})
    )
    columns = {column.name: column for column in found.columns}
    assert (columns["f"].missing, columns["t"].missing, columns["e"].missing) == (2, 1, 4)
    assert (columns["f"].low, columns["f"].high, columns["f"].median) == (1, 3, 2)
    assert [(level.level, level.rows) for level in columns["t"].levels] == [("a", 2), ("b", 1)]
    assert columns["e"].distinct == 0


def test_a_frame_shares_what_is_not_touched():
    frame = Frame({"a": np.array([1.0, 2.0]), "b": np.array([3.0, 4.0])})
    changed = frame.replace("a", np.array([9.0, 9.0]))
    assert changed["b"] is frame["b"]
    assert frame["a"].tolist() == [1, 2]
    assert frame.take(np.array([1, 1, 0]))["b"].tolist() == [4, 4, 3]
    assert (frame.rows, frame.names) == (2, ("a", "b"))


def test_mixed_rows_take_each_feature_from_where_they_should(monkeypatch):
    monkeypatch.setattr("zerotilt.core.players.columns.EVALUATIONS_AT_ONCE", 2)
    cases = Frame({"a": np.array([1.0]), "t": np.array(["case"], dtype=object)})
    background = Frame({"a": np.array([10.0, 20.0]), "t": np.array(["x", "y"], dtype=object)})
    seen = []

    def spy(rows):
        seen.extend(zip(rows["a"].tolist(), rows["t"].tolist(), strict=True))
        return rows["a"]

    known = np.array([[True, False], [False, True], [False, False]])
    found = Columns(spy, cases, background)(np.zeros(3, int), np.array([0, 1, 1]), known)
    assert seen == [(1.0, "x"), (20.0, "case"), (20.0, "y")]
    assert found.tolist() == [1, 20, 20]
    assert background["a"].tolist() == [10, 20]


@given(st.lists(st.floats(0, 1), min_size=1, max_size=30))
def test_log_odds_are_finite_and_keep_the_order(scores):
    p = np.array(sorted(scores))
    found = output.transform(p, "log-odds")
    assert np.isfinite(found).all()
    assert (np.diff(found) >= 0).all()
    assert (output.transform(p, "probability") == p).all()
