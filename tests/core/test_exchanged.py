"""Columns exchanged in a model's structure give what the model gives when it is run again."""

from __future__ import annotations

import numpy as np
import pytest
from tests.core import zoo

from zerotilt.core.drivers import permutation
from zerotilt.core.drivers.exchanged import Exchange
from zerotilt.core.drivers.permutation import permute
from zerotilt.core.meaning import Task
from zerotilt.core.work import Work

SUMS = {**zoo.TREES, **zoo.LINEAR}
LOSS = {Task.binary: "brier_score", Task.several: "brier_score", Task.regression: "squared_error"}


def of(name: str):
    task, model, columns = zoo.made(name)
    subject = zoo.subject_of(model, columns, task)
    assert subject.predictions.structure[0] is not None
    found = Exchange.of(subject.model, subject.frame)
    assert found is not None
    return subject, found


def run_again(subject, names, order):
    frame = subject.frame
    for name in names:
        frame = frame.replace(name, frame[name][order])
    return subject.model.outputs(frame)


@pytest.mark.parametrize("name", SUMS)
def test_every_row_with_every_other_rows_column_is_what_the_model_gives(name):
    subject, found = of(name)
    rng = np.random.default_rng(3)
    reach = np.ptp(subject.model.outputs(subject.frame))
    np.testing.assert_allclose(found.own, subject.model.outputs(subject.frame), atol=3e-6 * reach)
    for names in [(one,) for one in subject.frame.names] + [tuple(subject.frame.names[:2])]:
        order = rng.permutation(subject.n)
        truth = run_again(subject, names, order)
        np.testing.assert_allclose(found.shuffled(names, order), truth, atol=3e-6 * reach)
        first, kind = found.givers(names)
        assert len(first) <= len({tuple(row) for row in zip(*(subject.frame[one] for one in names), strict=True)})
        few = first[np.unique(kind[order[:40]])]
        given = found.given(names, few)
        for place, giver in enumerate(few):
            truth = run_again(subject, names, np.full(subject.n, giver))
            np.testing.assert_allclose(given[place], truth, atol=3e-6 * reach)
        if name in zoo.TREES:  # rows of one kind give alike, to the last bit
            alike = run_again(subject, names, first[kind][order])
            np.testing.assert_array_equal(alike, run_again(subject, names, order))


@pytest.mark.parametrize("name", SUMS)
@pytest.mark.parametrize("how", ["equal", "weighed"])
def test_importance_is_the_mean_over_all_pairs_of_rows(name, how):
    subject, _ = of(name)
    task = subject.spec.task
    few = subject.frame.take(slice(0, 60))
    outcome = subject.rows.outcome[:60]
    rng = np.random.default_rng(4)
    w = np.ones(60) if how == "equal" else rng.integers(0, 4, 60).astype(float)
    found = permute(subject.model, few, outcome, LOSS[task], 0.5, 2, 1, Work(), w)
    assert found.every_pair.all()

    def lost(outputs, happened):
        if task is Task.several:
            return ((outputs - np.eye(outputs.shape[1])[happened]) ** 2).sum(axis=1)
        return (outputs[:, 0] - happened) ** 2

    base = lost(subject.model.outputs(few), outcome)
    for j, column in enumerate(few.names):
        added = 0.0
        for giver in range(60):  # one pair of rows after the other
            changed = few.replace(column, np.repeat(few[column][[giver]], 60))
            added += w[giver] * (w * (lost(subject.model.outputs(changed), outcome) - base)).sum()
        assert found.value[j] == pytest.approx(added / w.sum() ** 2, abs=2e-6 * max(np.ptp(base), 1))


def test_a_column_the_model_does_not_look_at_adds_exactly_nothing(monkeypatch):
    subject, found = of(next(iter(zoo.TREES)))
    trees = found.structure.trees
    assert trees is not None
    looked = set(found.structure.owner[trees.column])
    idle = [name for j, name in enumerate(found.names) if j not in looked]
    for every in (True, False):
        if not every:
            monkeypatch.setattr(permutation, "EVERY_PAIR_OF_SUM", 0)
        got = permute(subject.model, subject.frame, subject.rows.outcome, LOSS[subject.spec.task], 0.5, 3, 1, Work())
        for name in idle:
            assert got.value[found.names.index(name)] == 0.0
            assert got.error[found.names.index(name)] == 0.0


def test_shuffles_and_all_pairs_agree_within_their_errors(monkeypatch):
    name = next(iter(zoo.TREES))
    subject, _ = of(name)
    asked = (subject.model, subject.frame, subject.rows.outcome, LOSS[subject.spec.task], 0.5, 40, 1, Work())
    whole = permute(*asked)
    monkeypatch.setattr(permutation, "EVERY_PAIR_OF_SUM", 0)
    sampled = permute(*asked)
    assert whole.every_pair.all()
    assert not sampled.every_pair.any()
    assert (np.abs(whole.value - sampled.value) <= 4 * sampled.error + 1e-12).all()


def test_a_model_without_structure_is_run_again():
    task, model, columns = zoo.made(next(iter(zoo.OTHERS)))
    subject = zoo.subject_of(model, columns, task)
    subject.predictions.find_structure()
    assert Exchange.of(subject.model, subject.frame) is None
    found = permute(subject.model, subject.frame, subject.rows.outcome, LOSS[task], 0.5, 3, 1, Work())
    assert (found.value[:1] != 0).all()
