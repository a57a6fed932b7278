"""Another kind of player than columns: words of a text, explained by the same methods with nothing touched."""

from __future__ import annotations

import itertools
from math import factorial

import numpy as np
import pytest
from tests.core.systems import frame, spec_of

from zerotilt.core.contributions.explain import explain
from zerotilt.core.meaning import Context, Role, Task
from zerotilt.core.players import Columns, players_of
from zerotilt.core.predictors import Frame
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.table import from_arrays
from zerotilt.core.work import Work

WEIGHT = {"late": -2.0, "lost": -3.0, "wet": -1.0, "fine": 1.5, "soon": 0.5}
TEXTS = ["lost late wet", "fine soon late", "wet fine lost", "soon soon fine"]


def mood(rows: Frame) -> np.ndarray:
    """A score of a text: its words' weights, and more where two of them meet."""

    def of(text: str) -> float:
        said = text.split()
        return sum(WEIGHT[one] for one in said) + (4.0 if {"lost", "fine"} <= set(said) else 0.0)

    return np.array([of(text) for text in rows["text"]])


class Words:
    """Each place of a text is a player; a mixed text has its word or another text's."""

    def __init__(self, output, cases: Frame, others: Frame):
        self._output = output
        self._cases, self._others = ([text.split() for text in one["text"]] for one in (cases, others))
        self.names = tuple(f"word {i + 1}" for i in range(max(map(len, self._cases))))

    def __call__(self, case, other, known):
        mixed = [
            " ".join(self._cases[c][i] if k[i] else self._others[o][i] for i in range(len(self.names)))
            for c, o, k in zip(case, other, known, strict=True)
        ]
        return self._output(Frame({"text": np.array(mixed, dtype=object)}))

    def walks(self, case, other, orders):
        m, p = orders.shape
        place = np.argsort(orders, axis=1)
        known = (place[:, None, :] < np.arange(p + 1)[:, None]).reshape(-1, p)
        return self(np.repeat(case, p + 1), np.repeat(other, p + 1), known).reshape(m, p + 1)

    def of_cases(self):
        rows = np.arange(len(self._cases))
        return self(rows, np.zeros_like(rows), np.ones((len(rows), len(self.names)), bool))

    def of_others(self):
        rows = np.arange(len(self._others))
        return self(np.zeros_like(rows), rows, np.zeros((len(rows), len(self.names)), bool))


@pytest.fixture
def subject() -> Subject:
    table = from_arrays({"text": np.array(TEXTS, dtype=object), "y": np.arange(4.0)})
    model = FunctionPredictor(["text"], mood, Task.regression)
    model.divide = Words
    spec = spec_of(table, {"y": Role.outcome}, task=Task.regression, event="")
    return Subject(spec, table, model, Context(rows="all"))


def by_hand(text: str) -> np.ndarray:
    """Shapley's formula over words, against all texts (Shapley 1953)."""
    words, p = text.split(), 3

    def worth(inside: tuple[int, ...]) -> float:
        mixed = [" ".join(words[i] if i in inside else other.split()[i] for i in range(p)) for other in TEXTS]
        return float(mood(Frame({"text": np.array(mixed, dtype=object)})).mean())

    values = np.zeros(p)
    for j in range(p):
        for size in range(p):
            for inside in itertools.combinations([i for i in range(p) if i != j], size):
                share = factorial(size) * factorial(p - size - 1) / factorial(p)
                values[j] += share * (worth((*inside, j)) - worth(inside))
    return values


@pytest.mark.parametrize("method", ["auto", "enumeration", "sampled", "least squares"])
def test_words_are_explained_by_the_methods_that_explain_columns(subject, method):
    found = explain(subject, np.arange(4), 3, Work(), method, most_pairs=2_000)
    assert found.features == ("word 1", "word 2", "word 3")
    expected = np.array([by_hand(text) for text in TEXTS])
    reach = 1e-9 if found.errors is None else 4 * found.errors + 0.02
    assert (np.abs(found.values - expected) <= reach).all()
    assert found.values.sum(axis=1) + found.baseline == pytest.approx(mood(subject.frame))


def test_what_says_nothing_of_its_rows_is_divided_into_columns():
    values = np.arange(12.0).reshape(4, 3)
    players = players_of(lambda rows: rows["x0"], frame(values), frame(values))
    assert isinstance(players, Columns) and players.names == ("x0", "x1", "x2")
