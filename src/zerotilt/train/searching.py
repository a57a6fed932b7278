"""Recipes tried on the same folds, on shares of the rows, for as long as there is time."""

from __future__ import annotations

import time
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.candidates.compared import USUAL, better
from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.searching import Search, Searched, halved
from zerotilt.core.meaning import Spec
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work
from zerotilt.train.learning import learn
from zerotilt.train.prepared import Prepared, prepared


def searched(spec: Spec, table: Table, base: Recipe, search: Search, work: Work) -> Searched:
    """Search settings within ranges, all else as in ``base``.

    Raises
    ------
    Refused : as for training; an estimator that is not for what is predicted.
    """
    classed = kind_of(spec.task).decides
    if not classed and "naive Bayes" in search.estimators:
        raise Refused("estimators: naive Bayes tells classes, and a number is predicted.", todo="Leave it out.")
    held, metric = prepared(spec, table, base.model_copy(update={"estimator": search.estimators[0]})), USUAL[spec.task]
    turn = np.random.default_rng(search.seed).permutation(held.table.rows)
    began = time.monotonic()
    work.begin(search.seconds, "seconds searched")
    told = 0

    def tick() -> float:
        nonlocal told
        gone = time.monotonic() - began
        work.advance(int(gone) - told)
        told = max(told, int(gone))
        return gone

    def worth(recipe: Recipe, share: float) -> tuple[float, float] | None:
        first = time.monotonic()
        if tick() > search.seconds:
            return None
        own = replace(held, recipe=recipe)
        values = []
        for fold in own.dealt.folds:
            values.append(_fold(own, fold, turn < share * len(turn), metric))
            if tick() > search.seconds and fold != own.dealt.folds[-1] and share < 1:
                return None  # what has come to all rows is let finish, so that it is not lost
        return float(np.mean(values)), time.monotonic() - first

    def more(recipes: int) -> str:
        if tick() > search.seconds:
            return "the time was over"
        return "as many were tried as were asked for" if recipes >= search.most else ""

    return halved(search, base, metric, worth, lambda value: better(metric, value), more)


def _fold(held: Prepared, fold: int, drawn: NDArray[np.bool_], metric: str) -> float:
    trained = held.dealt.trained(fold)
    some = trained & drawn
    if held.classes and len(np.unique(held.y[some])) < len(np.unique(held.y[trained])):
        some = trained  # a share without a class says nothing of it
    outputs = learn(held, some).outputs(held)
    found = held.read.metrics(outputs, held.dealt.validated(fold)).get(metric)
    return np.nan if found is None else float(found)
