"""Every row explained: the same as one by one, adding up, sorted by and taken away under any names."""

from __future__ import annotations

import io
from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from tests.core import zoo
from tests.core.systems import system
from tests.core.test_one_case import decided, numbered

from zerotilt.core import arrayfile
from zerotilt.core.attached import attached_to, digests_in
from zerotilt.core.cases_asked import CasesQuery
from zerotilt.core.contributions.every import ExplainedSettings, explain_every
from zerotilt.core.contributions.explain import explain
from zerotilt.core.meaning import Context, Role
from zerotilt.core.methods import METHODS, result_of
from zerotilt.core.refusal import Refused
from zerotilt.core.reproduction import compared
from zerotilt.core.work import Work


def everything(subject):
    result = explain_every(subject, ExplainedSettings(), 0, Work())
    return result, pq.read_table(io.BytesIO(attached_to(result)["table"]))


def asked(subject, **query):
    return result_of(METHODS["cases"], subject, CasesQuery(**query), 0, Work())


@pytest.mark.parametrize(
    ("kind", "scale"),
    [
        ("random forest", "probability"),
        ("gradient boosting", "log-odds"),
        ("gradient boosting", "probability"),
        ("random forest, three classes", "probability"),
        ("random forest of a number", "probability"),
    ],
)
def test_every_row_adds_up_and_is_what_explaining_it_alone_gives(kind, scale):
    task, model, columns = zoo.made(kind)
    subject = zoo.subject_of(model, columns, task, scale)
    result, table = everything(subject)
    values = np.column_stack([table.column(name).to_numpy() for name in result.features])
    output, baseline = table.column("output").to_numpy(), table.column("baseline").to_numpy()
    np.testing.assert_allclose(baseline + values.sum(axis=1), output, atol=1e-9)
    np.testing.assert_allclose(output, subject.own_output, atol=1e-6)
    if result.error == 0:
        alone = explain(subject, subject.rows.numbers[:20], 0, Work())
        np.testing.assert_allclose(values[:20], alone.values, atol=1e-9)
    assert [one.feature for one in result.moved] == [
        result.features[j] for j in np.argsort(-np.abs(values).mean(axis=0), kind="stable")
    ]


def test_the_most_raised_and_lowered_rows_are_those_of_the_table():
    subject = decided()
    result, table = everything(subject)
    for one in result.moved:
        values = table.column(one.feature).to_numpy()
        rows = table.column("row").to_numpy() - 1
        assert one.raised == values.max() and one.lowered == values.min()
        assert values[list(rows).index(one.lowered_row)] == values.min()


def test_cases_are_ordered_by_a_contribution_and_show_it():
    subject = decided()
    _, table = everything(subject)
    by_row = dict(zip(table.column("row").to_pylist(), table.column("x1").to_pylist(), strict=True))
    page = asked(subject, order="contribution", by="x1", contributions=("x1", "group"), limit=30)
    shown = [one.contributions[0] for one in page.cases]
    assert shown == sorted(by_row.values())[:30]
    assert all(one.contributions[0] == by_row[one.row + 1] for one in page.cases)
    assert page.contributions == ("x1", "group")
    downwards = asked(subject, order="contribution", by="x1", descending=True, limit=1, contributions=("x1",))
    assert downwards.cases[0].contributions[0] == max(by_row.values())


def test_what_was_computed_before_is_read_and_not_computed_again():
    subject = decided()
    result, table = everything(subject)
    place = table.column_names.index("x0")
    other = table.set_column(place, "x0", pa.array(np.arange(subject.n, dtype=float)))
    sink = io.BytesIO()
    pq.write_table(other, sink)
    given = subject.with_given({"explained": sink.getvalue()})
    assert [one.contributions[0] for one in asked(given, contributions=("x0",), limit=3).cases] == [0.0, 1.0, 2.0]
    assert given.of_class("").given == {}, "another class has other contributions"
    assert result.table.columns == tuple(table.column_names)


def test_a_context_reads_its_own_rows_only():
    subject = decided(held=True) if "held" in decided.__code__.co_varnames else decided()
    some = replace(subject, context=Context(rows="all"))
    assert everything(some)[1].num_rows == some.n


def test_columns_may_be_called_like_those_written_besides():
    rng = np.random.default_rng(1)
    columns = {
        "row": rng.normal(size=60),
        "output": rng.normal(size=60),
        "baseline": rng.normal(size=60),
        "output (2)": np.array([f"=c{i}" for i in range(60)]),
        "y": rng.integers(0, 2, 60),
    }
    subject = system(
        columns,
        lambda rows: 1 / (1 + np.exp(-rows["row"] - 2 * rows["output"] + rows["baseline"])),
        ["row", "output", "baseline"],
        roles={"output (2)": Role.identifier},
    )
    result, table = everything(subject)
    assert len(set(table.column_names)) == len(table.column_names) == 7
    page = asked(subject, contributions=("output", "baseline", "row"), limit=60)
    alone = explain(subject, subject.rows.numbers, 0, Work())
    for place, name in enumerate(("output", "baseline", "row")):
        expected = alone.values[:, alone.features.index(name)]
        np.testing.assert_allclose([one.contributions[place] for one in page.cases], expected, atol=1e-9)
    text = b"".join(arrayfile.csv_pieces(io.BytesIO(attached_to(result)["table"]))).decode()
    assert "'=c0" in text and '"=c0"' not in text, "a spreadsheet takes it for text"


def test_csv_in_pieces_has_one_head_and_every_row(monkeypatch):
    monkeypatch.setattr(arrayfile, "PIECE_ROWS", 64)
    result, table = everything(numbered())
    lines = b"".join(arrayfile.csv_pieces(io.BytesIO(attached_to(result)["table"]))).decode().splitlines()
    assert len(lines) == table.num_rows + 1
    assert sum("baseline" in one for one in lines) == 1


def test_the_table_is_no_part_of_the_records_and_named_by_its_digest():
    result = explain_every(numbered(), ExplainedSettings(), 0, Work())
    told = result.model_dump(mode="json")
    assert "data" not in told["table"] and digests_in(told) == {"table": result.table.digest}
    again = told | {"table": told["table"] | {"digest": "0" * 64, "size": 1}}
    assert not compared(told, again).differences, "the bytes may be another library's"
    fewer = told | {"table": told["table"] | {"rows": 1}}
    assert compared(told, fewer).differences


def test_refusals_name_the_feature():
    with pytest.raises(Refused, match="“nope” is not a feature"):
        asked(decided(), order="contribution", by="nope")


def test_said_for_one_row_and_for_many():
    method = METHODS["explained"]
    one = decided()
    read = method.read(explain_every(one, ExplainedSettings(), 0, Work()), one.spec.wording, ExplainedSettings())
    assert "rows explained, a contribution for each of 3 features; " in read.text
    assert read.text.count(".") >= 1 and "no cause" in read.detail
