"""A recipe's steps fitted to some rows: remedies of rows and of features, the estimator, remedies of training."""

from __future__ import annotations

import warnings
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from sklearn.ensemble import VotingClassifier
from sklearn.linear_model import LogisticRegression
from sklearn.neural_network import MLPClassifier
from sklearn.pipeline import Pipeline
from sklearn.preprocessing import LabelEncoder

from zerotilt.core.candidates.validated import Limited
from zerotilt.core.refusal import Refused
from zerotilt.core.steps import penalty
from zerotilt.core.steps.every import REMEDIES
from zerotilt.core.steps.reductions import Limits, reduce
from zerotilt.core.steps.repair import Groups, Repair
from zerotilt.core.steps.repair import fitted as repair_of
from zerotilt.core.tasks import kind_of
from zerotilt.train.estimators import BY_WEIGHT, UNWEIGHED, estimator, steps
from zerotilt.train.prepared import Prepared, frame

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]


@dataclass(frozen=True)
class Learnt:
    """What was fitted."""

    pipeline: Pipeline
    repairs: Mapping[str, Repair]
    """Of the columns whose values are moved before."""
    rows: NDArray[np.int64]
    """Places of the rows that it was fitted to; drawn again, they stand there again."""
    weights: Floats
    reduced: Limited | None

    @property
    def last(self) -> Any:
        return self.pipeline.steps[-1][1]

    def outputs(self, held: Prepared) -> Floats:
        """Of all rows, shape (n, k): the event's chance, every class's, or the number."""
        x = frame(moved(held.x, self.repairs, held.groups.get("repair")))
        if not held.classes:
            return np.asarray(self.pipeline.predict(x), float)[:, None]
        known = [str(one) for one in self.pipeline.classes_]
        found = np.zeros((len(held.y), len(held.classes)))
        chances = np.asarray(self.pipeline.predict_proba(x), float)
        for j, name in enumerate(held.classes):
            if name in known:
                found[:, j] = chances[:, known.index(name)]
        return found[:, [-1]] if kind_of(held.spec.task).cut else found


def moved(x: pa.Table, repairs: Mapping[str, Repair], group: NDArray | None) -> pa.Table:
    """Columns with the values of those that are repaired moved."""
    if group is None or not repairs:
        return x
    told = Groups.of(group)
    for name, repair in repairs.items():
        values = repair.moved(x.column(name).to_numpy(zero_copy_only=False), told)
        x = x.set_column(x.column_names.index(name), name, pa.array(values, pa.float32(), from_pandas=False))
    return x


def learn(held: Prepared, rows: Bools) -> Learnt:
    """Fit a recipe's steps to some of the rows.

    Raises
    ------
    Refused : they are all of one class.
    """
    recipe, classed = held.recipe, bool(held.classes)
    places = np.flatnonzero(rows)
    repairs = _repairs(held, places)
    x = moved(held.x, repairs, held.groups.get("repair"))
    places, w = _of_rows(held, places)
    y = held.y[places]
    if classed and len(np.unique(y)) < 2:
        raise Refused("All rows that a fold is trained on are of one class.", todo="Choose fewer folds.")
    weighed = w
    if recipe.balanced and recipe.estimator in BY_WEIGHT and classed:
        _, place, sizes = np.unique(y, return_inverse=True, return_counts=True)
        w = w * (len(y) / (len(sizes) * sizes))[place]
    made_of = steps(recipe, held.places(held.numbers), held.places(held.levels), list(held.levels.values()), classed)
    given, reduced = frame(x.take(pa.array(places))), None
    if recipe.penalise is not None:
        _penalised(made_of, held, places, given, w)
    elif recipe.constrain is not None:
        reduced = _limited(made_of, held, places, given, w)
    else:
        plain = recipe.estimator in UNWEIGHED or (w == w[0]).all()
        made_of.fit(given, y, **({} if plain else {f"{made_of.steps[-1][0]}__sample_weight": w}))
    return Learnt(made_of, repairs, places, weighed, reduced)


def _of_rows(held: Prepared, places: NDArray[np.int64]) -> tuple[NDArray[np.int64], Floats]:
    """Rows as remedies of rows change them: those that draw come before those that weigh what was drawn."""
    w = held.weights[places]
    for name, asked in sorted(held.recipe.asked.items(), key=lambda one: REMEDIES[one[0]].weighs):
        if (change := REMEDIES[name].rows) is not None:
            drawn, w = change(asked, held.rows_of(name, places, w), np.random.default_rng(held.recipe.seed))
            places = places[drawn]
    return places, w


def _repairs(held: Prepared, places: NDArray[np.int64]) -> dict[str, Repair]:
    asked = held.recipe.repair
    if asked is None:
        return {}
    kept = places[held.weights[places] > 0]
    group = Groups.of(held.groups["repair"][kept])
    return {
        name: repair_of(held.x.column(name).to_numpy(zero_copy_only=False)[kept], group, asked.level)
        for name in asked.columns or held.numbers
    }


def _penalised(made_of: Pipeline, held: Prepared, places: NDArray[np.int64], given: NDArray, w: Floats) -> None:
    """The last step fitted with a penalty on the gap, by this project's own optimiser."""
    recipe = held.recipe
    asked = recipe.penalise
    if asked is None:
        return
    event = held.event[places]
    x = np.asarray(made_of[:-1].fit_transform(given), float)
    among = {"all": np.ones(len(event), bool), "event": event, "no event": ~event}[asked.rows]
    if recipe.balanced and recipe.estimator == "linear":
        w = w * np.where(event, len(event) / (2 * event.sum()), len(event) / (2 * (~event).sum()))
    apart = penalty.Penalty.of(held.groups["penalise"][places], among, w, asked.distance)
    classes = np.array(sorted(held.classes))
    # the estimator's chance is of the class whose name sorts last
    sign = 1.0 if held.classes[-1] == classes[1] else -1.0
    last: Any = made_of.steps[-1][1]
    if isinstance(last, LogisticRegression):
        found, cut = penalty.logistic(x, event, w, apart, asked.weight, recipe.penalty)
        last.classes_, last.n_features_in_ = classes, x.shape[1]
        last.coef_, last.intercept_ = sign * found[None], np.array([sign * cut])
        last.n_iter_ = np.array([1])
        return
    weights, cuts = penalty.network(x, event, w, apart, asked.weight, recipe.penalty, recipe.units, recipe.seed)
    shaped = MLPClassifier(
        hidden_layer_sizes=(recipe.units,), alpha=recipe.penalty, max_iter=1, random_state=recipe.seed
    )
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # one step is all that is wanted: it gives the network its shape
        shaped.fit(x, held.y[places])
    shaped.coefs_ = [weights[0], sign * weights[1]]
    shaped.intercepts_ = [cuts[0], sign * cuts[1]]
    made_of.steps[-1] = (made_of.steps[-1][0], shaped)


def _limited(made_of: Pipeline, held: Prepared, places: NDArray[np.int64], given: NDArray, w: Floats) -> Limited | None:
    """The last step trained so that groups' rates are alike within a tolerance."""
    recipe = held.recipe
    asked = recipe.constrain
    if asked is None:
        return None
    x = made_of[:-1].fit_transform(given)
    event = held.event[places]
    names = np.array([held.classes[0], held.classes[-1]])
    models: list[Any] = []

    def train(label: Bools, weight: Floats) -> Floats:
        models.append(estimator(recipe, True).fit(x, names[label.astype(int)], sample_weight=weight))
        return models[-1].predict_proba(x)[:, list(models[-1].classes_).index(held.classes[-1])]

    limits = Limits.of(asked.rates, event, held.groups["constrain"][places], w)
    threshold = min(max(held.spec.threshold, 0.01), 0.99)
    found = reduce(train, event, w, limits, asked.tolerance, threshold, asked.rounds)
    kept = [models[place] for place in found.kept]
    last = kept[0]
    if len(kept) > 1:
        last = VotingClassifier(
            [(f"model {place}", one) for place, one in enumerate(kept)],
            voting="soft",
            flatten_transform=False,
            weights=np.array(found.shares),
        )
        last.estimators_, last.le_ = kept, LabelEncoder().fit(names)
        last.classes_ = last.le_.classes_
    made_of.steps[-1] = (made_of.steps[-1][0], last)
    return Limited(
        tolerance=asked.tolerance,
        largest=found.largest,
        models=len(kept),
        trained=found.trained,
        error=found.error,
        by_lot_error=found.by_lot_error,
        by_lot_largest=found.by_lot_largest,
    )
