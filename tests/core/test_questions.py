"""Questions in SQL: the same numbers as NumPy's, and nothing but the one table within reach."""

from __future__ import annotations

import subprocess
import sys
import time

import numpy as np
import psutil
import pyarrow as pa
import pytest
from tests.core.systems import matrix, spec_of, system
from tests.core.test_segments_made import columns, run, subject_of

from zerotilt.core.meaning import Context, Role
from zerotilt.core.refusal import Refused
from zerotilt.core.segmenting import sql
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays


def asked(text: str, subject=None, **more):
    return run("query", subject or subject_of(columns(1)), sql=text, **more)


@pytest.mark.parametrize("rows", ["hold-out", "all"])
def test_a_group_by_gives_the_means_of_the_rows(rows):
    made = columns(1)
    subject = subject_of(made, rows=rows)
    found = asked(
        "select home, count(*) n, avg(prediction) p, avg(correct::int) r, sum(error) e from rows group by 1 order by 1",
        subject,
    )
    home = made["home"][subject.rows.numbers]
    right = subject.rows.outcome.astype(int) == subject.decisions.taken
    off = subject.kind.missed(subject.rows.outcome, subject.predictions)
    wanted = [
        (
            one,
            (home == one).sum(),
            subject.read_output[home == one].mean(),
            right[home == one].mean(),
            off[home == one].sum(),
        )
        for one in sorted(set(home))
    ]
    assert [row[0] for row in found.cells] == [one[0] for one in wanted]
    assert np.allclose([row[1:] for row in found.cells], [one[1:] for one in wanted])


def test_rows_of_an_answer_can_be_kept():
    made = columns(2)
    subject = subject_of(made)
    found = asked("select key from rows where x > 0.5", subject)
    kept = made["key"][(made["split"] == "kept") & (made["x"] > 0.5)]
    assert set(found.picked) == set(kept) and found.names_rows == len(kept)
    assert run("segment", subject, picked=found.picked).rows == len(kept)
    assert not asked("select x from rows", subject).picked
    assert asked("select 'k999999' as key", subject).names_rows == 0


def test_rows_without_an_identifier_go_by_their_number():
    made = columns(3)
    del made["key"]
    subject = system(made, lambda frame: 1 / (1 + np.exp(-np.nan_to_num(matrix(frame)[:, 0]))), ["x"])
    found = asked(
        "with one as (select row, x from rows) select row from one where x is not null order by x desc limit 3", subject
    )
    assert len(found.picked) == 3
    assert run("segment", subject, picked=found.picked).rows == 3


def test_names_that_the_table_has_already_get_a_line_behind_them():
    made = columns(4) | {"Prediction": np.arange(900.0), "row": np.arange(900.0), "rows": np.arange(900.0)}
    found = asked(
        "select Prediction, prediction_, row, row_, rows from rows order by row limit 1", subject_of(made, rows="all")
    )
    assert found.cells[0][0] == 0.0 and 0 < found.cells[0][1] < 1 and found.cells[0][3] == 1.0


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("copy (select 1) to '/tmp/x.csv'", "changes something, or is more"),
        ("attach 'x.db'", "changes something, or is more"),
        ("install httpfs", "changes something, or is more"),
        ("load json", "changes something, or is more"),
        ("set memory_limit='1TB'", "changes something, or is more"),
        ("pragma database_list", "changes something, or is more"),
        ("call pragma_version()", "changes something, or is more"),
        ("create table t(a int)", "changes something, or is more"),
        ("drop view rows", "changes something, or is more"),
        ("update rows set x=1", "changes something, or is more"),
        ("select 1; select 2", "changes something, or is more"),
        ("-- nothing", "This is empty"),
        ("select * from read_csv('/etc/passwd')", "out of reach"),
        ("select * from read_text('/etc/passwd')", "out of reach"),
        ("select * from glob('/*')", "out of reach"),
        ("select * from '/etc/passwd'", "There is no table"),
        ("select * from 'x.parquet'", "There is no table"),
        ("select * from duckdb_settings()", "out of reach"),
        ("select current_setting('memory_limit')", "out of reach"),
        ("with a as (select * from query('select 1')) select * from a", "out of reach"),
        ("select (select count(*) from duckdb_secrets())", "out of reach"),
        ("select * from information_schema.tables", "out of reach"),
        ("select * from sqlite_master", "There is no table"),
        ("select nope from rows", "“question, line 1”|nope"),
        ("selec 1", "selec"),
        ("select\n x,\n from rows group by", "question"),
        ("select 'a'::int from rows", "cannot be answered"),
        ("select " + ",".join(f"x as c{i}" for i in range(1_500)) + " from rows", "1,500 columns"),
        ("select a.x from rows a, rows b, rows c, rows d, rows e, rows f, rows g order by 1", "memory|seconds"),
    ],
)  # fmt: skip
def test_what_reaches_beyond_the_table_or_cannot_be_answered_is_refused(text, words, monkeypatch, tmp_path):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(sql.ask, "__defaults__", (3.0,))
    with pytest.raises(Refused, match=words):
        asked(text)
    assert not list(tmp_path.iterdir())


def test_a_question_that_never_ends_is_ended():
    table = pa.table({"x": np.arange(10)})
    started = time.monotonic()
    with pytest.raises(Refused, match=r"longer than 0\.5 seconds"):
        sql.ask(
            "select count(*) from range(100000000000) a(i), range(100000) b(j) where i * j % 7 = 3",
            lambda names: table,
            0.5,
        )
    assert time.monotonic() - started < 20


def test_long_answers_are_cut_and_say_so(monkeypatch):
    monkeypatch.setattr(sql, "MOST_ROWS", 1_000)
    found = asked("select a.row from rows a, rows b")
    assert (found.matching, found.whole, len(found.cells)) == (1_000, False, 500)
    assert found.answer.rows == 1_000


@pytest.mark.parametrize(
    ("text", "cells"),
    [
        ("select 1 a, null b, 'x' c, true d", ((1.0, None, "x", True),)),
        ("select 'nan'::double a, 'inf'::double b, 9007199254740993 c", ((None, "inf", "9007199254740993"),)),
        ("select [1, 2] a, {'b': 1} c", (("[1, 2]", "{'b': 1}"),)),
        ("select sum(1) a, date '2031-02-01' b, 1.5::decimal(9,2) c from rows where false", ((None, "2031-02-01", 1.5),)),
        ("select 1 as a, 2 as a", ((1.0, 2.0),)),
        ("select x from rows where false", ()),
        ("select '=cmd()' a, '<b>' b -- a remark", (("=cmd()", "<b>"),)),
        ("select 1; -- a remark behind it", ((1.0,),)),
    ],
)  # fmt: skip
def test_every_kind_of_cell_is_shown_as_it_is(text, cells):
    found = asked(text)
    assert found.cells == cells and found.answer.rows == len(cells)


def test_contributions_are_columns_where_every_row_was_explained():
    from dataclasses import replace

    from zerotilt.core.attached import attached_to
    from zerotilt.core.methods import METHODS
    from zerotilt.core.work import Work

    subject = subject_of(columns(5, 200))
    every = METHODS["explained"]
    found = every.compute(subject, every.settings(), 3, Work())
    given = replace(subject, given={"explained": next(iter(attached_to(found).values()))})
    answer = asked("select prediction, contribution_x, contribution_z from rows", given, contributions=True)
    sums = np.array([sum(row[1:]) for row in answer.cells]) - np.array([row[0] for row in answer.cells])
    assert np.ptp(sums) < 0.02
    with pytest.raises(Refused, match="contribution_x"):
        asked("select contribution_x from rows", given)


def test_a_table_without_a_model_is_asked_too():
    made = columns(6)
    del made["y"]
    table = from_arrays(made)
    spec = spec_of(table, {"home": Role.group, "key": Role.identifier})
    subject = Subject(spec, table, None, Context(rows="all"))
    found = asked("select home, avg(x) from rows group by all", subject)
    assert len(found.cells) == 3 and "prediction" not in {one.name for one in found.known}


@pytest.mark.parametrize(
    "text",
    [
        "select levenshtein(repeat('x', 120000), repeat('y', 120000)) as a from rows limit 1",
        "select length(repeat('x', 1000000000)) as a from rows limit 1",
        "select list_sum(range(1000000000)) as a from rows limit 1",
        "select count(*) as a from rows a, rows b, rows c, rows d",
    ],
)
def test_one_call_that_heeds_nothing_is_ended_by_the_system_in_time_and_memory(text):
    """None of these can be interrupted by the engine itself."""
    table = pa.table({"x": np.arange(30_000)})
    others = set(psutil.Process().children())
    started = time.monotonic()
    with pytest.raises(Refused, match=r"longer than 1 seconds|more than 1GB of memory"):
        sql.ask(text, lambda names: table, 1.0)
    assert time.monotonic() - started < 10
    assert set(psutil.Process().children()) <= others


def test_what_is_asked_ends_with_who_asks():
    """A question is under way in a process of its own; killing the one that asked leaves nothing behind."""
    program = (
        "import pyarrow as pa\nfrom zerotilt.core.segmenting import sql\n"
        "sql.ask(\"select levenshtein(repeat('x', 120000), repeat('y', 120000)) as a from rows\", lambda names: pa.table({'x': [1]}), 60.0)"
    )
    asker = subprocess.Popen([sys.executable, "-c", program])
    try:
        one = psutil.Process(asker.pid)
        until = time.monotonic() + 30
        while not (inside := one.children()) and time.monotonic() < until:
            time.sleep(0.05)
        assert inside
        asker.kill()
        asker.wait()
        _, alive = psutil.wait_procs(inside, timeout=10)
        assert not alive
    finally:
        asker.kill()
        asker.wait()


def test_columns_that_differ_by_capitals_are_told_by_number_and_never_answered_for_each_other():
    subject = system(
        {"Age": np.arange(40.0), "age": np.arange(40.0) * 10, "y": np.arange(40) % 2},
        roles={},
        context=Context(rows="all"),
    )
    known = {one.name: one.what for one in asked("", subject).known}
    assert {"Age_1": "the column “Age”", "age_2": "the column “age”"}.items() <= known.items()
    assert asked("select max(age_2) as m, max(Age_1) as n from rows", subject).cells == ((390.0, 39.0),)
    with pytest.raises(Refused, match="age"):
        asked("select max(age) as m from rows", subject)


def test_what_takes_a_whole_row_is_answered_of_all_columns():
    made = {"x": np.array([1.0, 1.0, 2.0, 2.0]), "z": np.array([1.0, 2.0, 1.0, 1.0]), "y": np.array([0, 1, 0, 0])}
    subject = system(made, context=Context(rows="all"))
    assert asked("select count(distinct r) as n from (select x, z, y from rows) r", subject).cells == ((3.0,),)
    assert asked("select count(distinct rows) as n from rows", subject).cells == ((4.0,),)  # "row" tells all apart
    assert asked("select count(*) as n from rows natural join (select 2.0 as x, 1.0 as z) b", subject).cells == (
        (2.0,),
    )
    assert asked("select count(*) as n from rows join (select 2.0 as x) b using (x)", subject).cells == ((2.0,),)


def test_numbers_without_end_and_large_ones_stand_beside_each_other():
    found = asked("select 9007199254740993 as a, 'inf'::double as b, 'nan'::double as c, 1e39 as d from rows limit 1")
    assert found.cells == (("9007199254740993", "inf", None, 1e39),)
