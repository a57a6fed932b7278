"""Pieces of work: in order, bounded, the same by any number of hands, and given up when nobody asks on."""

from __future__ import annotations

import threading
import time

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core import zoo

from zerotilt.core import warm
from zerotilt.core.contributions.explain import explain
from zerotilt.core.executor import LocalExecutor, cores
from zerotilt.core.methods import METHODS
from zerotilt.core.players import Columns
from zerotilt.core.predictors.asked import Asked
from zerotilt.core.refusal import Cancelled
from zerotilt.core.trees import curves, ensemble, pairs, table_plan, tables, walks
from zerotilt.core.work import Work


def add(shared: int, piece: int) -> int:
    return shared + piece


@given(st.lists(st.integers(), max_size=40), st.integers(1, 4))
@settings(max_examples=40, deadline=None)
def test_results_are_in_the_order_of_the_pieces(pieces, threads):
    work = Work(executor=LocalExecutor(threads))
    assert list(work.spread(add, 3, pieces, "sums")) == [3 + piece for piece in pieces]


def test_only_a_few_pieces_are_under_way_at_once():
    running, most = [0], [0]
    lock = threading.Lock()

    def piece(shared, number):
        with lock:
            running[0] += 1
            most[0] = max(most[0], running[0])
        time.sleep(0.002)
        with lock:
            running[0] -= 1
        return number

    started = []
    for found in LocalExecutor(2).run(lambda s, p: started.append(p) or piece(s, p), None, list(range(50))):
        assert len(started) <= found + 4
    assert most[0] == 2


def test_progress_counts_units_and_cancel_ends_the_work():
    told = []

    def report(done, total, what):
        told.append((done, total, what))
        if done >= 6:
            raise Cancelled

    work = Work(report, LocalExecutor(2))
    with pytest.raises(Cancelled):
        list(work.spread(add, 0, [1, 2, 3, 4], "rows", [3, 3, 3, 3]))
    assert told == [(0, 12, "rows"), (3, 12, "rows"), (6, 12, "rows")]


def test_what_a_piece_raises_is_raised():
    def fails(shared, piece):
        raise ValueError(f"piece {piece}")

    with pytest.raises(ValueError, match="piece 0"):
        list(LocalExecutor(2).run(fails, None, [0, 1, 2]))


def test_cores_are_those_this_process_may_use():
    assert cores() >= 1
    assert LocalExecutor().threads == cores()


@pytest.mark.parametrize("method", ["trees", "sampled", "least squares", "enumeration"])
def test_the_number_of_threads_changes_no_bit(method):
    task, model, columns = zoo.made("random forest")
    found = [
        explain(
            zoo.subject_of(model, columns, task),
            np.arange(30),
            1,
            Work(executor=LocalExecutor(n)),
            method,
            most_pairs=64,
        ).values
        for n in (1, 2, 3)
    ]
    assert (found[0] == found[1]).all() and (found[0] == found[2]).all()


@pytest.mark.parametrize(
    "name", ["gradient boosting", "random forest", "gradient boosting, three classes", "logistic regression"]
)
def test_walks_and_mixed_rows_in_code_equal_whole_rows_asked(name):
    task, model, columns = zoo.made(name)
    subject = zoo.subject_of(model, columns, task)
    assert subject.predictions.structure[0] is not None
    rng = np.random.default_rng(2)
    cases, others = subject.frame.take(slice(0, 7)), subject.frame.take(slice(7, 30))
    in_code = Columns(subject.asked, cases, others)
    whole = Columns(lambda rows: subject.asked(rows), cases, others)  # nothing known of the model
    case, other = rng.integers(0, 7, 40), rng.integers(0, 23, 40)
    known = rng.random((40, 6)) < 0.5
    assert in_code(case, other, known) == pytest.approx(whole(case, other, known), abs=2e-6)
    orders = np.argsort(rng.random((40, 6)), axis=1)
    assert in_code.walks(case, other, orders) == pytest.approx(whole.walks(case, other, orders), abs=2e-6)
    assert in_code.of_cases() == pytest.approx(subject.asked(cases), abs=2e-6)
    assert in_code.of_others() == pytest.approx(subject.asked(others), abs=2e-6)
    assert isinstance(subject.asked, Asked)


def test_trees_of_more_leaves_than_a_word_has_bits_are_walked_otherwise():
    task, model, columns = zoo.made("random forest")
    subject = zoo.subject_of(model, columns, task)
    trees = subject.predictions.structure[0].trees
    assert len(trees.leaves) > 64 * len(trees.roots) / 2
    assert walks.words(trees) is None or len(trees.leaves) <= 64 * len(trees.roots)


def test_warming_compiles_every_kernel():
    warm.warm()
    entered = [
        (table_plan, ("_weigh",)),
        (tables, ("_count", "_fill", "_look_up")),
        (pairs, ("_goes", "_explain")),
        (curves, ("_point_masks", "_sweep")),
        (walks, ("walk",)),
        (ensemble, ("_add_leaves", "_held", "mix_and_add", "extent")),
    ]
    for module, names in entered:
        for name in names:
            assert getattr(module, name).signatures, f"{module.__name__}.{name}"


def test_players_that_do_the_same_get_the_same():
    """Symmetry: two columns that the model treats alike, at equal values, against an exchangeable background."""
    rng = np.random.default_rng(0)
    from tests.core.systems import frame

    from zerotilt.core.contributions.enumeration import enumerate_coalitions
    from zerotilt.core.contributions.game import background
    from zerotilt.core.contributions.least_squares import fit_coalitions
    from zerotilt.core.contributions.sampled import sample_permutations

    def f(rows):
        return rows["x0"] * rows["x1"] + rows["x2"] * (rows["x0"] + rows["x1"])

    half = rng.normal(size=(30, 3))
    others = background(frame(np.concatenate([half, half[:, [1, 0, 2]]])))
    cases = frame(np.array([[1.5, 1.5, -1.0]]))
    exact = enumerate_coalitions(f, cases, others)[0]
    assert exact[0] == pytest.approx(exact[1], abs=1e-12)
    for estimate in (sample_permutations, fit_coalitions):
        found = estimate(f, cases, others, 0.0, 2_048, 1)
        assert abs(found.values[0, 0] - found.values[0, 1]) <= 5 * found.errors.max()
        assert found.values[0].sum() == pytest.approx(exact.sum())


@pytest.mark.parametrize(
    ("name", "asked"),
    [
        ("drivers", {"repeats": 2, "rows": 200, "explained": 10, "walks": 8}),
        ("side_by_side", {"repeats": 2, "rows": 200, "explained": 10, "walked": 40, "walks": 8}),
        ("spread", {"sampled": 40, "walks": 8, "colour": "grade"}),
        ("shapley_by_part", {"rows": 40, "sampled": 20, "walks": 8, "column": "grade"}),
        ("expectations", {"expected": {"weight": "rises", "grade": "none"}}),
        ("response", {"feature": "weight", "colour": "grade"}),
        ("ale", {"feature": "weight"}),
        ("interactions", {"rows": 10, "draws": 2}),
    ],
)
def test_what_the_sheets_read_is_the_same_to_the_last_bit_by_any_number_of_hands(name, asked):
    method = METHODS[name]
    found = []
    for threads in (1, 2, 3):
        task, model, columns = zoo.made("gradient boosting")
        subject = zoo.subject_of(model, columns, task)
        result = method.compute(subject, method.settings(**asked), 3, Work(executor=LocalExecutor(threads)))
        found.append(result.model_dump_json())
    assert found[0] == found[1] == found[2]
    again = method.compute(subject, method.settings(**asked), 4, Work())
    assert name in ("expectations", "response", "ale") or again.model_dump_json() != found[0]
